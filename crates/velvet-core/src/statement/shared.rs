//! The statements that keep what changed in a table, to be shared with other devices.
//!
//! For each record there is one entry, that of its last change: so what is kept never grows beyond the records there are and
//! the removals there were. An entry gets a new position with each change, and positions are given in the order of commits.
//!
//! Each change of a record is later than the one before it that this device knows of, whatever its clock says: a change that was made
//! upon another must win over that everywhere, also within one tick of the clock, or when the clock was set back.

use super::create::differs;
use super::{NOW, literal};
use crate::schema::structure::{Structure, Table};
use crate::value::name::{KEY_COLUMN, quoted};

/// The table of entries.
pub const CHANGES: &str = "velvet_changes";

const CREATE: &str = "CREATE TABLE IF NOT EXISTS velvet_changes (position INTEGER PRIMARY KEY AUTOINCREMENT, \
    table_name TEXT NOT NULL, own_key ANY NOT NULL, removed INTEGER NOT NULL, at TEXT NOT NULL, \
    from_elsewhere INTEGER NOT NULL DEFAULT 0) STRICT";

const CREATE_INDEX: &str =
    "CREATE INDEX IF NOT EXISTS \"velvet_changes.table_name+own_key\" ON velvet_changes (table_name, own_key)";

/// The moment right after another, one nanosecond later, as the text that it is stored as.
fn right_after(at: &str) -> String {
    format!(
        "CASE substr({at}, 21, 9) WHEN '999999999' \
         THEN strftime('%Y-%m-%dT%H:%M:%S', substr({at}, 1, 19), '+1 second') || '.000000000Z' \
         ELSE substr({at}, 1, 20) || format('%09d', substr({at}, 21, 9) + 1) || 'Z' END"
    )
}

/// The moment of a change that is made now to a record whose last change is that of the entries that satisfy a condition.
fn moment(is_entry: &str) -> String {
    let last = format!("(SELECT max(at) FROM {CHANGES} WHERE {is_entry})");
    format!("coalesce((SELECT {} FROM (SELECT {last} AS at) WHERE at >= {NOW}), {NOW})", right_after("at"))
}

/// The statement that gives the moment of a change that is made now upon the one at the moment in its argument.
pub fn moment_upon() -> String {
    format!("SELECT coalesce((SELECT {} FROM (SELECT ?1 AS at) WHERE at >= {NOW}), {NOW})", right_after("at"))
}

/// The statements that put an entry in the place of the one before it. It goes in first, because its moment follows from that one.
fn replace(table: &str, own_key: &str, removed: u8, when: &str) -> String {
    let is_entry = format!("table_name = {} AND own_key = {own_key}", literal(table));
    format!(
        "INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {}, {own_key}, {removed}, {} WHERE {when}; \
         DELETE FROM {CHANGES} WHERE {is_entry} AND position < (SELECT max(position) FROM {CHANGES} WHERE {is_entry});",
        literal(table),
        moment(&is_entry)
    )
}

fn trigger_name(table: &str, event: &str) -> String {
    quoted(&format!("{CHANGES}_{table}_{event}"))
}

/// The shared records that link to those of a table: the table, its own key, and the column that links. They are told by its own
/// key, so when that changes, they do.
pub(crate) fn told_by_key_of<'s>(structure: &'s Structure, table: &'s str) -> Vec<(&'s str, &'s str, &'s str)> {
    let shared = structure.links_to(table).filter(|(t, _)| t.shared);
    shared.filter_map(|(t, link)| Some((t.name.as_str(), t.own_key.as_deref()?, link.name.as_str()))).collect()
}

/// The statements that begin to keep what changes in a table of a structure.
pub(crate) fn create_shared(structure: &Structure, table: &Table) -> Vec<String> {
    let (Some(own_key), true) = (&table.own_key, table.shared) else { return Vec::new() };
    let (name, own_key) = (quoted(&table.name), quoted(own_key));
    let entry = |row: &str, removed: u8| replace(&table.name, &format!("{row}.{own_key}"), removed, "true");
    let trigger = |event: &str, when: &str, body: &str| {
        let upper = event.to_uppercase();
        format!("CREATE TRIGGER {} AFTER {upper} ON {name} {when}BEGIN {body} END", trigger_name(&table.name, event))
    };
    let key = quoted(KEY_COLUMN);
    let changed = std::iter::once(format!("old.{key} IS NOT new.{key}"));
    let changed: Vec<String> = changed.chain(table.columns.iter().map(differs)).collect();
    // A record whose own key changed is another one to others.
    let key_changed = format!("old.{own_key} IS NOT new.{own_key}");
    let old_key_goes = replace(&table.name, &format!("old.{own_key}"), 1, &key_changed);
    let key = quoted(KEY_COLUMN);
    let dependants: Vec<String> = told_by_key_of(structure, &table.name)
        .into_iter()
        .map(|(dependant, its_key, link)| {
            let (text, its_key, link) = (literal(dependant), quoted(its_key), quoted(link));
            let dependant = quoted(dependant);
            let linking = format!("FROM {dependant} WHERE {link} = new.{key} AND {key_changed}");
            let is_entry = format!("table_name = {text} AND own_key = {dependant}.{its_key}");
            let is_newer = format!("newer.table_name = {CHANGES}.table_name AND newer.own_key = {CHANGES}.own_key");
            format!(
                "INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {text}, {its_key}, 0, {} {linking}; \
                 DELETE FROM {CHANGES} WHERE table_name = {text} AND own_key IN (SELECT {its_key} {linking}) AND position < \
                 (SELECT max(position) FROM {CHANGES} AS newer WHERE {is_newer});",
                moment(&is_entry)
            )
        })
        .collect();
    let update = format!("{old_key_goes} {} {}", entry("new", 0), dependants.join(" "));
    vec![
        CREATE.to_owned(),
        CREATE_INDEX.to_owned(),
        trigger("insert", "", &entry("new", 0)),
        trigger("delete", "", &entry("old", 1)),
        trigger("update", &format!("WHEN {} ", changed.join(" OR ")), &update),
    ]
}

/// The statement that makes an entry for every record that has none.
pub(crate) fn fill_shared(table: &Table) -> Option<String> {
    let own_key = quoted(table.own_key.as_ref().filter(|_| table.shared)?);
    let (name, text) = (quoted(&table.name), literal(&table.name));
    Some(format!(
        "INSERT INTO {CHANGES} (table_name, own_key, removed, at) SELECT {text}, {name}.{own_key}, 0, {NOW} FROM {name} \
         WHERE NOT EXISTS (SELECT 1 FROM {CHANGES} AS c WHERE c.table_name = {text} AND c.own_key = {name}.{own_key}) \
         ORDER BY {name}.{}",
        quoted(KEY_COLUMN)
    ))
}

/// The statements that end to tell of changes of a table. The entries stay.
pub(crate) fn drop_shared(table: &str) -> Vec<String> {
    ["insert", "delete", "update"].map(|e| format!("DROP TRIGGER IF EXISTS {}", trigger_name(table, e))).into()
}

/// The statement that forgets all entries of a table.
pub(crate) fn forget_shared(table: &str) -> String {
    format!("DELETE FROM {CHANGES} WHERE table_name = {}", literal(table))
}

/// The statement that makes the entries of a table those of a table with another name.
pub(crate) fn rename_shared(table: &str, to: &str) -> String {
    format!("UPDATE {CHANGES} SET table_name = {} WHERE table_name = {}", literal(to), literal(table))
}
