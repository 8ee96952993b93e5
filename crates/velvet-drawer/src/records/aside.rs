//! Letting records take each other's unique values: one of them stands aside, with values that no record has, until the others are written.

use crate::drawer::{Scope, Writes};
use crate::engine::Fault;
use velvet_core::Value;
use velvet_core::schema::structure::{ColumnDefinition, Kind, Table};
use velvet_core::value::name::quoted;

impl Scope<'_, Writes> {
    /// Gives the record whose `known_by` is this value other values in those of `columns` that no two records may share, for as long as it
    /// takes to write others. Whoever calls this writes the record afterwards, or rolls back.
    pub(crate) fn stand_aside(self, table: &Table, known_by: &str, is: &Value, columns: &[&str]) -> Result<(), Fault> {
        let is_unique = |name: &str| table.indexes.iter().any(|i| i.unique && i.columns.iter().any(|c| c == name));
        let apart = |name: &&str| {
            let column = table.column(name).filter(|c| is_unique(&c.name) && c.name != known_by)?;
            Some(format!("{} = {}", quoted(name), unused(column)?))
        };
        let sets: Vec<String> = columns.iter().filter_map(apart).collect();
        if sets.is_empty() {
            return Ok(());
        }
        let text = format!("UPDATE {} SET {} WHERE {} = ?1", quoted(&table.name), sets.join(", "), quoted(known_by));
        self.connection.execute(&text, [is.into()]).map(drop)
    }
}

/// A value that no record has in a column, as an expression; nothing for a link, which must lead somewhere.
fn unused(column: &ColumnDefinition) -> Option<&'static str> {
    if column.optional {
        return Some("NULL");
    }
    match column.kind.storage() {
        _ if matches!(column.kind, Kind::Link { .. }) => None,
        "INTEGER" => Some("random()"),
        "REAL" => Some("random() * 1e280"),
        "BLOB" => Some("randomblob(24)"),
        _ => Some("hex(randomblob(24))"),
    }
}
