//! The statements that remove what nothing links to any more.

use crate::schema::structure::{Kind, Structure, Table};
use crate::value::name::{KEY_COLUMN, quoted};

/// What the names of the triggers begin with.
pub(crate) const UNLINKED: &str = "velvet_unlinked";

fn trigger_name(table: &str, event: &str) -> String {
    quoted(&format!("{UNLINKED}_{table}_{event}"))
}

/// The statements that begin to remove what the records of a table linked to, once nothing does any more; none where no link asks for that.
pub(crate) fn create_unlinked(structure: &Structure, table: &Table) -> Vec<String> {
    let links = table.columns.iter().filter(|column| column.remove_unlinked);
    let links: Vec<(&str, &str)> = links
        .filter_map(|column| match &column.kind {
            Kind::Link { table } => Some((column.name.as_str(), table.as_str())),
            _ => None,
        })
        .collect();
    if links.is_empty() {
        return Vec::new();
    }
    let key = quoted(KEY_COLUMN);
    let removal = |(link, target): &(&str, &str)| {
        let old = format!("old.{}", quoted(link));
        let others = structure.links_to(target).map(|(table, column)| {
            format!(" AND NOT EXISTS (SELECT 1 FROM {} WHERE {} = {old})", quoted(&table.name), quoted(&column.name))
        });
        format!("DELETE FROM {} WHERE {key} = {old}{};", quoted(target), others.collect::<String>())
    };
    let removals = links.iter().map(removal).collect::<Vec<_>>().join(" ");
    let name = quoted(&table.name);
    let changed: Vec<String> = links.iter().map(|(link, _)| quoted(link)).collect();
    vec![
        format!("CREATE TRIGGER {} AFTER DELETE ON {name} BEGIN {removals} END", trigger_name(&table.name, "delete")),
        format!(
            "CREATE TRIGGER {} AFTER UPDATE OF {} ON {name} BEGIN {removals} END",
            trigger_name(&table.name, "update"),
            changed.join(", "),
        ),
    ]
}

/// The statements that end that for a table.
pub(crate) fn drop_unlinked(table: &str) -> Vec<String> {
    ["delete", "update"].map(|event| format!("DROP TRIGGER IF EXISTS {}", trigger_name(table, event))).into()
}
