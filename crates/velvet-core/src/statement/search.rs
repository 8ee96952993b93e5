//! The statements of the search index of a table.
//!
//! The index holds the words of the searchable columns, as [`crate::search::indexed`] makes them. That no other program can do; so triggers,
//! which are in the file, note the rows that were written by whomever, and forget the words of those that were changed or removed. Whoever
//! searches, and each of our own transactions before it is kept, tells the index of the rows that were noted.

use crate::schema::structure::Table;
use crate::value::name::{KEY_COLUMN, quoted};

/// What the name of every search index begins with; the name of its table follows.
pub const SEARCH_INDEX: &str = "velvet_search_";

/// The rows whose words the search index is still to be told of.
pub const UNINDEXED: &str = "velvet_unindexed";

/// The name of the search index of a table.
pub(crate) fn search_index(table: &str) -> String {
    format!("{SEARCH_INDEX}{table}")
}

/// The statements that create the search index of a table, and note all its rows.
pub(crate) fn create_search(table: &Table) -> Vec<String> {
    if table.searchable.is_empty() {
        return Vec::new();
    }
    let (name, key, text) = (quoted(&table.name), quoted(KEY_COLUMN), super::literal(&table.name));
    let index = quoted(&search_index(&table.name));
    let columns: Vec<String> = table.searchable.iter().map(|c| quoted(c)).collect();
    let list = columns.join(", ");
    let forget = format!("DELETE FROM {index} WHERE rowid = old.{key};");
    let note = format!("INSERT OR IGNORE INTO {UNINDEXED} (table_name, key) VALUES ({text}, new.{key});");
    let forget_note = format!("DELETE FROM {UNINDEXED} WHERE table_name = {text} AND key = old.{key};");
    let trigger = |event: &str, of: &str, when: &str, body: &str| {
        let trigger = quoted(&format!("{}_{event}", search_index(&table.name)));
        let event = event.to_uppercase();
        format!("CREATE TRIGGER {trigger} AFTER {event}{of} ON {name} {when}BEGIN {body} END")
    };
    let changed: Vec<String> = columns.iter().chain([&key]).map(|c| format!("old.{c} IS NOT new.{c}")).collect();
    vec![
        format!(
            "CREATE TABLE IF NOT EXISTS {UNINDEXED} (table_name TEXT NOT NULL, key INTEGER NOT NULL, PRIMARY KEY (table_name, key)) \
             STRICT, WITHOUT ROWID"
        ),
        // Words come as they are to be found, with spaces between: nothing is left for the engine to do to them.
        format!("CREATE VIRTUAL TABLE {index} USING fts5({list}, tokenize='ascii', prefix='1 2 3')"),
        trigger("insert", "", "", &note),
        trigger("delete", "", "", &format!("{forget} {forget_note}")),
        trigger(
            "update",
            &format!(" OF {list}, {key}"),
            &format!("WHEN {} ", changed.join(" OR ")),
            &format!("{forget} {forget_note} {note}"),
        ),
        note_all(&table.name),
    ]
}

/// The statement that notes all rows of a table.
fn note_all(table: &str) -> String {
    format!(
        "INSERT OR IGNORE INTO {UNINDEXED} (table_name, key) SELECT {}, {} FROM {}",
        super::literal(table),
        quoted(KEY_COLUMN),
        quoted(table)
    )
}

/// The statements that empty the search index of a table, and note all rows, so that it is made anew.
pub fn remake_search(table: &str) -> [String; 3] {
    let index = quoted(&search_index(table));
    // What was removed stays in the index until parts of it are merged.
    let merge = format!("INSERT INTO {index} ({index}) VALUES ('optimize')");
    [format!("DELETE FROM {index}"), merge, note_all(table)]
}

/// The statement that reads the rows of a table that were noted: their keys, and the texts of the columns.
pub fn noted_rows(table: &str, columns: &[String]) -> String {
    let (name, key) = (quoted(table), quoted(KEY_COLUMN));
    let list: Vec<String> = columns.iter().map(|c| format!("{name}.{}", quoted(c))).collect();
    format!(
        "SELECT u.key, {} FROM {UNINDEXED} AS u CROSS JOIN {name} ON {name}.{key} = u.key WHERE u.table_name = {}",
        list.join(", "),
        super::literal(table)
    )
}

/// The statement that tells the index of the words of a row: binds its key, and the words of each column.
pub fn index_row(table: &str, columns: &[String]) -> String {
    let list: Vec<String> = columns.iter().map(|c| quoted(c)).collect();
    let marks = vec![", ?"; columns.len()].concat();
    format!("INSERT OR REPLACE INTO {} (rowid, {}) VALUES (?{marks})", quoted(&search_index(table)), list.join(", "))
}

/// The statement that forgets which rows of a table were noted.
pub fn forget_notes(table: &str) -> String {
    format!("DELETE FROM {UNINDEXED} WHERE table_name = {}", super::literal(table))
}

/// The statement that removes from the index of a table what it has of rows that do not exist.
pub fn forget_missing(table: &str) -> String {
    let (index, name, key) = (quoted(&search_index(table)), quoted(table), quoted(KEY_COLUMN));
    format!(
        "DELETE FROM {index} WHERE rowid IN (SELECT s.rowid FROM {index} AS s WHERE NOT EXISTS (SELECT 1 FROM {name} WHERE {name}.{key} = s.rowid))"
    )
}

/// The statement that reads each row's key and texts, and what the index has of it. Rows that are noted are left out. What the index still has of rows that another program
/// replaced is never found, because every search joins the table, so it is no fault; it is removed when the index is brought up to date.
pub fn indexed_rows(table: &str, columns: &[String]) -> String {
    let (name, key, index) = (quoted(table), quoted(KEY_COLUMN), quoted(&search_index(table)));
    let of = |of: &str| columns.iter().map(|c| format!("{of}.{}", quoted(c))).collect::<Vec<_>>().join(", ");
    format!(
        "SELECT {name}.{key}, s.rowid, {}, {} FROM {name} LEFT JOIN {index} AS s ON s.rowid = {name}.{key} WHERE {name}.{key} NOT IN \
         (SELECT key FROM {UNINDEXED} WHERE table_name = {})",
        of(&name),
        of("s"),
        super::literal(table)
    )
}

/// The statements that drop the search index of a table.
pub(crate) fn drop_search(table: &str) -> Vec<String> {
    let index = search_index(table);
    let triggers = ["insert", "delete", "update"]
        .map(|event| format!("DROP TRIGGER IF EXISTS {}", quoted(&format!("{index}_{event}"))));
    let rest = [format!("DROP TABLE IF EXISTS {}", quoted(&index)), forget_notes(table)];
    triggers.into_iter().chain(rest).collect()
}
