//! Adding a column without reading the rows.

use super::{Connection, Fault, FaultKind};

impl Connection {
    /// Adds a column at the end of a table. Rows that exist have its default, or nothing, without being written.
    ///
    /// The engine's own statement for this reads every row of a table that checks types, though nothing in them can be wrong.
    /// So the statement that the file keeps for the table is changed instead, as the engine's documentation describes for
    /// changes that do not affect what is stored. A kill or error rolls it back like any other.
    pub(crate) fn add_column(&self, table: &str, definition: &str) -> Result<(), Fault> {
        let made = "SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?1";
        let made = self.one(made, [table.into()], |row| row.text(0).to_owned())?.unwrap_or_default();
        let text = with_column(&made, definition).ok_or_else(|| Fault {
            kind: FaultKind::Other,
            message: format!("the statement that created the table `{table}` is not understood"),
        })?;
        let count = self.structure_count()?;
        self.run("PRAGMA writable_schema = ON")?;
        let change = "UPDATE sqlite_schema SET sql = ?1 WHERE type = 'table' AND name = ?2";
        let changed = self.execute(change, [(&text).into(), table.into()]);
        // This also makes the engine read the structure again.
        self.run(&format!("PRAGMA schema_version = {}; PRAGMA writable_schema = RESET", count + 1))?;
        changed.map(drop)
    }
}

/// The statement with one more column before its last parenthesis.
fn with_column(statement: &str, definition: &str) -> Option<String> {
    let (columns, end) = statement.rsplit_once(')')?;
    Some(format!("{},\n  {definition}\n){end}", columns.trim_end()))
}
