//! The table of facts that a file keeps about itself, by name.

use crate::engine::{Connection, Fault, FaultKind};

/// The table of facts, in statements that read it: only a table has its index, so a view that was put in its place is refused and not run.
pub(crate) const FACTS: &str = "velvet_about INDEXED BY sqlite_autoindex_velvet_about_1";

/// One fact of the file; `None` if it, or the table, is missing.
pub(crate) fn fact(connection: &Connection, name: &str) -> Result<Option<String>, Fault> {
    let text = format!("SELECT value FROM {FACTS} WHERE name = ?1");
    Ok(exists(connection.one(&text, [name.into()], |row| row.text(0).to_owned()))?.flatten())
}

/// Remembers a fact under a name.
pub(crate) fn remember(connection: &Connection, name: &str, value: &str) -> Result<(), Fault> {
    let text = "INSERT INTO velvet_about (name, value) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = ?2";
    connection.execute(text, [name.into(), value.into()]).map(drop)
}

/// Forgets a fact.
pub(crate) fn forget(connection: &Connection, name: &str) -> Result<(), Fault> {
    connection.execute("DELETE FROM velvet_about WHERE name = ?1", [name.into()]).map(drop)
}

/// What was read; `None` if the table of facts is missing.
pub(crate) fn exists<R>(read: Result<R, Fault>) -> Result<Option<R>, Fault> {
    match read {
        Err(Fault { kind: FaultKind::NoTable(_), .. }) => Ok(None),
        Err(Fault { kind: FaultKind::Other, message }) if message.starts_with("no such index") => {
            Err(not_a_table("velvet_about"))
        }
        read => read.map(Some),
    }
}

/// Another program put something else in the place of a table.
pub(crate) fn not_a_table(name: &str) -> Fault {
    let message = format!("`{name}` is not a table: another program put a view or a virtual table in its place");
    Fault { kind: FaultKind::Damaged, message }
}
