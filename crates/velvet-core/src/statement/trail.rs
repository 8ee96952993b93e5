//! The statements that keep the trail of a table: what was written to which record, by which write, and what stood there before.
//!
//! The triggers are in the file, so that writes of other programs are heard of too. A write of ours is known by the number that
//! stands in `velvet_writing` while it lasts; where none stands there, another program writes, and the moment is kept in its place.

use super::create::differs;
use crate::schema::structure::{ColumnDefinition, Table};
use crate::value::name::{KEY_COLUMN, quoted};

/// The table of entries, one for each record that a statement wrote.
pub const TRAIL: &str = "velvet_trail";

/// The table of writes: each transaction of ours that left entries.
pub const WRITES: &str = "velvet_writes";

/// The number of the write that is under way; nothing where none is.
pub const WRITING: &str = "velvet_writing";

/// The table of spans: from which entry to which the trail of a table was kept without a gap. What is not in the same one as the next entry of a record, or as now, may have
/// been written in between.
pub const SPANS: &str = "velvet_spans";

/// Values that are longer than this many bytes are left out of the trail.
const LONGEST: u32 = 65_536;

/// How much of what is written to records is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Trail {
    /// Nothing.
    #[default]
    Off,
    /// Which record was written, when, and by which session.
    Keys,
    /// That, and what stood in its changed columns before. Values of private columns are left out.
    Before,
}

impl Trail {
    /// The word for it in a file.
    pub fn word(self) -> &'static str {
        match self {
            Trail::Off => "off",
            Trail::Keys => "keys",
            Trail::Before => "before",
        }
    }
}

/// The statements that make the tables of trails, where they are not there yet.
pub fn create_trail_tables() -> [String; 5] {
    [
        format!(
            "CREATE TABLE IF NOT EXISTS {TRAIL} (entry INTEGER PRIMARY KEY, write ANY NOT NULL, table_name TEXT NOT NULL, \
             key INTEGER NOT NULL, did TEXT NOT NULL, before TEXT) STRICT"
        ),
        format!(
            "CREATE TABLE IF NOT EXISTS {WRITES} (write INTEGER PRIMARY KEY, session INTEGER, at TEXT NOT NULL) STRICT"
        ),
        format!("CREATE TABLE IF NOT EXISTS {WRITING} (write INTEGER) STRICT"),
        format!(
            "CREATE TABLE IF NOT EXISTS {SPANS} (span INTEGER PRIMARY KEY, table_name TEXT NOT NULL, kept TEXT NOT NULL, \
             from_entry INTEGER NOT NULL, to_entry INTEGER, rows INTEGER NOT NULL, ended TEXT) STRICT"
        ),
        format!("INSERT INTO {WRITING} (write) SELECT NULL WHERE NOT EXISTS (SELECT 1 FROM {WRITING})"),
    ]
}

/// The statements that begin to keep the trail of a table.
pub(crate) fn create_trail(table: &Table, trail: Trail) -> Vec<String> {
    let with_before = match trail {
        Trail::Off => return Vec::new(),
        Trail::Keys => false,
        Trail::Before => true,
    };
    let text = super::literal(&table.name);
    let trigger = |event: &str, row: &str, did: &str, before: &str| {
        format!(
            "CREATE TRIGGER {} AFTER {} ON {} BEGIN INSERT INTO {TRAIL} (write, table_name, key, did, before) \
             VALUES (coalesce((SELECT write FROM {WRITING}), {}), {text}, {row}.{}, '{did}', {before}); END",
            trigger_name(&table.name, event),
            event.to_uppercase(),
            quoted(&table.name),
            super::NOW,
            quoted(KEY_COLUMN),
        )
    };
    let (changed, removed) = if with_before {
        (object(table, |c| Some(differs(c))), object(table, |_| None))
    } else {
        ("NULL".to_owned(), "NULL".to_owned())
    };
    vec![
        trigger("insert", "new", "inserted", "NULL"),
        trigger("update", "old", "changed", &changed),
        trigger("delete", "old", "removed", &removed),
    ]
}

/// The statements that end to keep the trail of a table. What it has kept stays.
pub(crate) fn drop_trail(table: &str) -> Vec<String> {
    ["insert", "update", "delete"].map(|e| format!("DROP TRIGGER IF EXISTS {}", trigger_name(table, e))).into()
}

/// The statement that makes what was kept of a table the trail of a table with another name.
pub(crate) fn rename_trail(table: &str, to: &str) -> String {
    let (to, table) = (super::literal(to), super::literal(table));
    format!("UPDATE {TRAIL} SET table_name = {to} WHERE table_name = {table}")
}

fn trigger_name(table: &str, event: &str) -> String {
    quoted(&format!("{TRAIL}_{table}_{event}"))
}

/// What stood in the columns of a row, as JSON: of those for which a condition holds, or of all.
fn object(table: &Table, when: impl Fn(&ColumnDefinition) -> Option<String>) -> String {
    let member = |column: &ColumnDefinition| {
        let name = serde_json::to_string(&column.name).unwrap_or_default();
        let value = format!("{} || {}", super::literal(&format!(",{name}:")), value(column));
        match when(column) {
            Some(condition) => format!("CASE WHEN {condition} THEN {value} ELSE '' END"),
            None => value,
        }
    };
    let members: Vec<String> = table.columns.iter().map(member).collect();
    format!("'{{' || substr({}, 2) || '}}'", members.join(" || "))
}

/// What stood in a column, as JSON. What JSON has no form for is an object that says what it is.
fn value(column: &ColumnDefinition) -> String {
    if column.private {
        return "'{\"private\":true}'".to_owned();
    }
    let old = format!("old.{}", quoted(&column.name));
    let cases = match column.kind.storage() {
        "INTEGER" => return format!("coalesce({old}, 'null')"),
        "REAL" => format!(
            "WHEN {old} = 9e999 THEN '{{\"real\":\"inf\"}}' WHEN {old} = -9e999 THEN '{{\"real\":\"-inf\"}}' ELSE quote({old})"
        ),
        "BLOB" if column.seal().is_some() => "ELSE '{\"sealed\":true}'".to_owned(),
        "BLOB" => format!("{} ELSE '{{\"bytes\":\"' || hex({old}) || '\"}}'", left_out(&old)),
        _ => format!("{} ELSE json_quote({old})", left_out(&old)),
    };
    format!("CASE WHEN {old} IS NULL THEN 'null' {cases} END")
}

fn left_out(old: &str) -> String {
    format!("WHEN length({old}) > {LONGEST} THEN '{{\"left_out\":' || length({old}) || '}}'")
}
