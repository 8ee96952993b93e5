//! The statements that keep what changed in a table, to be shared with other devices.
//!
//! For each record there is one entry, that of its last change: so what is kept never grows beyond the records there are and
//! the removals there were. An entry gets a new position with each change, and positions are given in the order of commits.

use super::{NOW, literal};
use crate::name::{KEY_COLUMN, quoted};
use crate::structure::{Structure, Table};

/// The table of entries.
pub const CHANGES: &str = "velvet_changes";

const CREATE: &str = "CREATE TABLE IF NOT EXISTS velvet_changes (position INTEGER PRIMARY KEY AUTOINCREMENT, \
    table_name TEXT NOT NULL, own_key ANY NOT NULL, removed INTEGER NOT NULL, at TEXT NOT NULL, \
    from_elsewhere INTEGER NOT NULL DEFAULT 0, UNIQUE (table_name, own_key)) STRICT";

fn trigger_name(table: &str, event: &str) -> String {
    quoted(&format!("{CHANGES}_{table}_{event}"))
}

/// The shared records that link to those of a table: the table, its own key, and the column that links. They are told by its own
/// key, so when that changes, they do.
pub fn told_by_key_of<'s>(structure: &'s Structure, table: &'s str) -> Vec<(&'s str, &'s str, &'s str)> {
    let shared = structure.links_to(table).filter(|(t, _)| t.shared);
    shared.filter_map(|(t, link)| Some((t.name.as_str(), t.natural_key.as_deref()?, link.name.as_str()))).collect()
}

/// The statements that begin to keep what changes in a table of a structure.
pub fn create_shared(structure: &Structure, table: &Table) -> Vec<String> {
    let (Some(own_key), true) = (&table.natural_key, table.shared) else { return Vec::new() };
    let (name, own_key) = (quoted(&table.name), quoted(own_key));
    let is_entry = |row: &str| format!("table_name = {} AND own_key = {row}.{own_key}", literal(&table.name));
    // What an outer statement says of clashes would hold in here too, so the old entry goes first.
    let entry = |row: &str, removed: u8| {
        format!(
            "DELETE FROM {CHANGES} WHERE {}; INSERT INTO {CHANGES} (table_name, own_key, removed, at) \
             VALUES ({}, {row}.{own_key}, {removed}, {NOW});",
            is_entry(row),
            literal(&table.name)
        )
    };
    let trigger = |event: &str, when: &str, body: &str| {
        let upper = event.to_uppercase();
        format!("CREATE TRIGGER {} AFTER {upper} ON {name} {when}BEGIN {body} END", trigger_name(&table.name, event))
    };
    let changed: Vec<String> = table.column_names().map(quoted).map(|c| format!("old.{c} IS NOT new.{c}")).collect();
    // A record whose own key changed is another one to others.
    let old_key_goes = format!(
        "DELETE FROM {CHANGES} WHERE {0} AND old.{own_key} IS NOT new.{own_key}; \
         INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {1}, old.{own_key}, 1, {NOW} \
         WHERE old.{own_key} IS NOT new.{own_key};",
        is_entry("old"),
        literal(&table.name)
    );
    let key = quoted(KEY_COLUMN);
    let dependants: Vec<String> = told_by_key_of(structure, &table.name)
        .into_iter()
        .map(|(dependant, its_key, link)| {
            let (text, its_key, link) = (literal(dependant), quoted(its_key), quoted(link));
            let linking =
                format!("FROM {} WHERE {link} = new.{key} AND old.{own_key} IS NOT new.{own_key}", quoted(dependant));
            format!(
                "DELETE FROM {CHANGES} WHERE table_name = {text} AND own_key IN (SELECT {its_key} {linking}); \
                 INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {text}, {its_key}, 0, {NOW} {linking};"
            )
        })
        .collect();
    let update = format!("{old_key_goes} {} {}", entry("new", 0), dependants.join(" "));
    vec![
        CREATE.to_owned(),
        trigger("insert", "", &entry("new", 0)),
        trigger("delete", "", &entry("old", 1)),
        trigger("update", &format!("WHEN {} ", changed.join(" OR ")), &update),
    ]
}

/// The statement that makes an entry for every record that has none.
pub fn fill_shared(table: &Table) -> Option<String> {
    let own_key = quoted(table.natural_key.as_ref().filter(|_| table.shared)?);
    let (name, text) = (quoted(&table.name), literal(&table.name));
    Some(format!(
        "INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {text}, {name}.{own_key}, 0, {NOW} FROM {name} \
         WHERE NOT EXISTS (SELECT 1 FROM {CHANGES} AS c WHERE c.table_name = {text} AND c.own_key = {name}.{own_key}) \
         ORDER BY {name}.{}",
        quoted(KEY_COLUMN)
    ))
}

/// The statements that end to tell of changes of a table. The entries stay.
pub fn drop_shared(table: &str) -> Vec<String> {
    ["insert", "delete", "update"].map(|e| format!("DROP TRIGGER IF EXISTS {}", trigger_name(table, e))).into()
}

/// The statement that forgets all entries of a table.
pub fn forget_shared(table: &str) -> String {
    format!("DELETE FROM {CHANGES} WHERE table_name = {}", literal(table))
}

/// The statement that makes the entries of a table those of a table with another name.
pub fn rename_shared(table: &str, to: &str) -> String {
    format!("UPDATE {CHANGES} SET table_name = {} WHERE table_name = {}", literal(to), literal(table))
}
