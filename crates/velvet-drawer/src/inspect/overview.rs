//! What a file is, at a glance.

use super::file::File;
use super::{Session, forms};
use crate::engine::{Connection, Fault};
use crate::error::Error;
use crate::schema::about::About;
use crate::sealing::sealed_columns;
use serde::Serialize;
use std::collections::HashMap;
use std::fs;
use std::path::PathBuf;
use velvet_core::schema::structure::{ATTACHMENT, ATTACHMENT_PART, Holds, Structure, Table};
use velvet_core::value::name::quoted;

/// What a file is, at a glance.
#[derive(Clone, Debug, Serialize)]
pub struct Overview {
    /// The whole path of the file.
    #[serde(serialize_with = "forms::path")]
    pub path: PathBuf,
    /// Its size in bytes, without what stands beside it.
    pub bytes: u64,
    /// The app that it belongs to; nothing when no app of ours made it.
    pub app: Option<String>,
    /// The version of the app's schema, or the number that another program keeps in its place.
    pub version: i64,
    /// When it was created, as a time stamp in UTC.
    pub created_at: Option<String>,
    /// The versions of the schema that it went through, oldest first.
    pub versions: Vec<VersionOverview>,
    /// Its tables and views, without those of its own bookkeeping.
    pub tables: Vec<TableOverview>,
    /// The columns whose values are sealed, each as `table.column`; only whoever has the key can read them.
    pub sealed: Vec<String>,
    /// The last sessions, oldest first; at most [`File::SESSIONS_AT_A_GLANCE`].
    pub sessions: Vec<Session>,
    /// What a reader should know before trusting what is shown, each as a sentence.
    pub notes: Vec<String>,
}

/// A version that a file went through.
#[derive(Clone, Debug, Serialize)]
pub struct VersionOverview {
    /// Its number.
    pub version: i64,
    /// When, as a time stamp in UTC.
    pub at: String,
    /// The version of the app that did it, where it said.
    pub app_version: Option<String>,
    /// How long it took, in milliseconds.
    pub took_ms: i64,
}

/// A table at a glance.
#[derive(Clone, Debug, Serialize)]
pub struct TableOverview {
    /// Its name.
    pub name: String,
    /// What it holds; nothing in a file that no app of ours made, and of a view.
    pub holds: Option<Holds>,
    /// How many rows it has; nothing when they cannot be counted.
    pub rows: Option<u64>,
    /// How many columns it has; nothing when they cannot be told.
    pub columns: Option<u64>,
    /// How many bytes of the file it takes, with its indexes, and of attachments with what is in them; nothing when they cannot be told.
    pub bytes: Option<u64>,
}

fn sealed(structure: &Structure) -> Vec<String> {
    sealed_columns(structure).map(|sealed| format!("{}.{}", sealed.table, sealed.column)).collect()
}

impl File {
    /// How many sessions an overview has.
    pub const SESSIONS_AT_A_GLANCE: u64 = 5;

    /// What the file is, at a glance.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn overview(&self) -> Result<Overview, Error> {
        let names = self.table_names()?;
        let mut notes = self.notes()?;
        let sessions = self.sessions(File::SESSIONS_AT_A_GLANCE)?;
        self.read("cannot read the overview", |c| {
            let (ours, bytes) = (About::is_ours(c)?, bytes_of_tables(c));
            let fact = |name| if ours { About::fact(c, name) } else { Ok(None) };
            Ok(Overview {
                path: self.path().to_owned(),
                bytes: fs::metadata(self.path()).map_or(0, |m| m.len()),
                app: fact("app")?,
                version: c.version()?,
                created_at: fact("created_at")?,
                versions: if ours { versions(c)? } else { Vec::new() },
                tables: names
                    .iter()
                    .filter(|name| !self.is_of_parts(name))
                    .map(|name| TableOverview { holds: self.holds(name), ..table(c, name, &bytes, &mut notes) })
                    .collect(),
                sealed: self.declared().map(sealed).unwrap_or_default(),
                sessions,
                notes,
            })
        })
    }
}

impl File {
    pub(super) fn holds(&self, table: &str) -> Option<Holds> {
        self.declared()?.table(table).map(Table::holds)
    }
}

fn versions(connection: &Connection) -> Result<Vec<VersionOverview>, Fault> {
    let text = "SELECT version, at, app_version, took_ms FROM velvet_versions ORDER BY version";
    connection.list(text, [], |row| VersionOverview {
        version: row.integer(0),
        at: row.text(1).to_owned(),
        app_version: Some(row.text(2)).filter(|v| !v.is_empty()).map(str::to_owned),
        took_ms: row.integer(3),
    })
}

/// How many bytes each table takes, with its indexes.
fn bytes_of_tables(connection: &Connection) -> Result<HashMap<String, u64>, Fault> {
    let bytes = connection.bytes_by_name()?;
    let mut of_tables: HashMap<String, u64> = HashMap::new();
    for entry in connection.entries()? {
        let table = if entry.table == ATTACHMENT_PART { ATTACHMENT.to_owned() } else { entry.table };
        *of_tables.entry(table).or_default() += bytes.get(&entry.name).copied().unwrap_or_default();
    }
    Ok(of_tables)
}

/// A table at a glance. What cannot be counted, such as a view over a table that is gone, goes to `notes`.
fn table(
    connection: &Connection,
    name: &str,
    bytes: &Result<HashMap<String, u64>, Fault>,
    notes: &mut Vec<String>,
) -> TableOverview {
    let mut known = |number: Result<u64, Fault>| match number {
        Ok(number) => Some(number),
        Err(fault) => {
            notes.push(format!("`{name}` cannot be read: {}", Error::from(fault).problem()));
            None
        }
    };
    let columns = connection.columns_of(name).map(|all| all.iter().filter(|c| !c.is_argument).count() as u64);
    let columns = known(columns);
    let count = || {
        let text = format!("SELECT count(*) FROM {}", quoted(name));
        Ok(connection.one(&text, [], |row| row.integer(0))?.unwrap_or_default().unsigned_abs())
    };
    let rows = columns.and_then(|_| known(count()));
    let bytes = bytes.as_ref().ok().map(|bytes| bytes.get(name).copied().unwrap_or_default());
    TableOverview { name: name.to_owned(), holds: None, rows, columns, bytes }
}
