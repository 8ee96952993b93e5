//! Adding a column without reading the rows.

use crate::engine::{Connection, Fault, FaultKind};
use velvet_core::ValueRef;

/// Adds a column at the end of a table. Rows that exist have its default, or nothing, without being written.
///
/// The engine's own statement for this reads every row of a table that checks types, though nothing in them can be wrong.
/// So the statement that the file keeps for the table is changed instead, as the engine's documentation describes for
/// changes that do not affect what is stored. A kill or error rolls it back like any other.
pub(super) fn run(connection: &Connection, table: &str, definition: &str) -> Result<(), Fault> {
    let text = with_column(&statement_of(connection, table)?, definition).ok_or_else(|| Fault {
        kind: FaultKind::Other,
        message: format!("the statement that created the table `{table}` is not understood"),
    })?;
    let count = connection.number("PRAGMA schema_version")?;
    connection.run("PRAGMA writable_schema = ON")?;
    let changed = write(connection, table, &text);
    // This also makes the engine read the structure again.
    connection.run(&format!("PRAGMA schema_version = {}; PRAGMA writable_schema = RESET", count + 1))?;
    changed
}

fn statement_of(connection: &Connection, table: &str) -> Result<String, Fault> {
    let mut statement = connection.prepare("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?1")?;
    statement.bind(1, ValueRef::Text(table))?;
    let mut rows = statement.rows();
    Ok(rows.next()?.map(|row| row.text(0).to_owned()).unwrap_or_default())
}

/// The statement with one more column before its last parenthesis.
fn with_column(statement: &str, definition: &str) -> Option<String> {
    let (columns, end) = statement.rsplit_once(')')?;
    Some(format!("{},\n  {definition}\n){end}", columns.trim_end()))
}

fn write(connection: &Connection, table: &str, text: &str) -> Result<(), Fault> {
    let mut statement = connection.prepare("UPDATE sqlite_schema SET sql = ?1 WHERE type = 'table' AND name = ?2")?;
    statement.bind(1, ValueRef::Text(text))?;
    statement.bind(2, ValueRef::Text(table))?;
    statement.execute().map(drop)
}
