//! The statements of the search index of a table.
//!
//! The index holds no text of its own: it reads the table, and triggers tell it of every write, also of other programs.

use crate::name::{KEY_COLUMN, quoted};
use crate::structure::Table;

/// What the name of every search index begins with; the name of its table follows.
pub const SEARCH_INDEX: &str = "velvet_search_";

/// While this table has a row, writes are not told to the index one by one; whoever put it there tells them together.
const PAUSED: &str = "velvet_search_paused";

/// The name of the search index of a table.
pub fn search_index(table: &str) -> String {
    format!("{SEARCH_INDEX}{table}")
}

/// The statements that create the search index of a table and fill it, in one statement for all rows.
pub fn create_search(table: &Table) -> Vec<String> {
    if table.searchable.is_empty() {
        return Vec::new();
    }
    let (name, key) = (quoted(&table.name), quoted(KEY_COLUMN));
    let index = quoted(&search_index(&table.name));
    let columns: Vec<String> = table.searchable.iter().map(|c| quoted(c)).collect();
    let list = columns.join(", ");
    let of = |row: &str| columns.iter().map(|c| format!("{row}.{c}")).collect::<Vec<_>>().join(", ");
    let (old, new) = (of("old"), of("new"));
    let forget = format!("INSERT INTO {index} ({index}, rowid, {list}) VALUES ('delete', old.{key}, {old});");
    let learn = format!("INSERT INTO {index} (rowid, {list}) VALUES (new.{key}, {new});");
    let trigger = |event: &str, of: &str, when: &str, body: &str| {
        let trigger = quoted(&format!("{}_{event}", search_index(&table.name)));
        let event = event.to_uppercase();
        format!(
            "CREATE TRIGGER {trigger} AFTER {event}{of} ON {name} \
             WHEN NOT EXISTS (SELECT 1 FROM {PAUSED}){when} BEGIN {body} END"
        )
    };
    let changed: Vec<String> = columns.iter().chain([&key]).map(|c| format!("old.{c} IS NOT new.{c}")).collect();
    vec![
        format!("CREATE TABLE IF NOT EXISTS {PAUSED} (by_whom TEXT) STRICT"),
        format!(
            "CREATE VIRTUAL TABLE {index} USING fts5({list}, content='{}', content_rowid='{KEY_COLUMN}', \
             tokenize='unicode61 remove_diacritics 2', prefix='2 3')",
            table.name.replace('\'', "''")
        ),
        trigger("insert", "", "", &learn),
        trigger("delete", "", "", &forget),
        trigger(
            "update",
            &format!(" OF {list}, {key}"),
            &format!(" AND ({})", changed.join(" OR ")),
            &format!("{forget} {learn}"),
        ),
        remake_search(&table.name),
    ]
}

/// The statement that makes a search index anew from its table.
pub fn remake_search(table: &str) -> String {
    let index = quoted(&search_index(table));
    format!("INSERT INTO {index} ({index}) VALUES ('rebuild')")
}

/// The statement that fails when a search index does not say what is in its table.
pub fn check_search(table: &str) -> String {
    let index = quoted(&search_index(table));
    format!("INSERT INTO {index} ({index}, rank) VALUES ('integrity-check', 1)")
}

/// The statements that drop the search index of a table.
pub fn drop_search(table: &str) -> Vec<String> {
    let index = search_index(table);
    let triggers = ["insert", "delete", "update"]
        .map(|event| format!("DROP TRIGGER IF EXISTS {}", quoted(&format!("{index}_{event}"))));
    triggers.into_iter().chain([format!("DROP TABLE IF EXISTS {}", quoted(&index))]).collect()
}

/// Makes triggers leave the index alone until [`RESUME_SEARCH`].
pub const PAUSE_SEARCH: &str = "INSERT INTO velvet_search_paused (by_whom) VALUES ('bulk')";

/// Lets triggers tell the index again.
pub const RESUME_SEARCH: &str = "DELETE FROM velvet_search_paused";

/// The statement that tells the index of all rows with keys above its argument.
pub fn learn_above(table: &str, searchable: &[(&str, f64)]) -> String {
    learn(table, searchable, "> ?1")
}

/// The statement that tells the index of the rows whose keys are in its argument, a JSON list.
pub fn learn_keys(table: &str, searchable: &[(&str, f64)]) -> String {
    learn(table, searchable, "IN (SELECT value FROM json_each(?1))")
}

/// The statement that makes the index forget the rows whose keys are in its argument, as they stand in the table now.
pub fn forget_keys(table: &str, searchable: &[(&str, f64)]) -> String {
    let (index, list, key) = (quoted(&search_index(table)), columns(searchable), quoted(KEY_COLUMN));
    format!(
        "INSERT INTO {index} ({index}, rowid, {list}) SELECT 'delete', {key}, {list} FROM {} \
         WHERE {key} IN (SELECT value FROM json_each(?1))",
        quoted(table)
    )
}

fn learn(table: &str, searchable: &[(&str, f64)], which: &str) -> String {
    let (index, list, key) = (quoted(&search_index(table)), columns(searchable), quoted(KEY_COLUMN));
    format!("INSERT INTO {index} (rowid, {list}) SELECT {key}, {list} FROM {} WHERE {key} {which}", quoted(table))
}

fn columns(searchable: &[(&str, f64)]) -> String {
    searchable.iter().map(|(column, _)| quoted(column)).collect::<Vec<_>>().join(", ")
}
