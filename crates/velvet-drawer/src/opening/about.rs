//! What a drawer's file says about itself: its header, and the table of facts beside it.

use crate::engine::{Connection, Fault, FaultKind};
use crate::schema::Declared;
use velvet_core::structure::Structure;

/// The application id in the header of every drawer: `VDrw`.
pub(crate) const APPLICATION_ID: i64 = 0x5644_7277;

/// The version of the file format, for readers other than this one.
const FORMAT: &str = "1";

/// What a drawer's file says about itself.
pub(crate) struct About {
    pub(crate) app: String,
    pub(crate) fingerprint: String,
}

impl About {
    /// Reads what telling the file takes; nothing where the table of facts is missing.
    pub(crate) fn read(connection: &Connection) -> Result<Option<About>, Fault> {
        let mut about = About { app: String::new(), fingerprint: String::new() };
        let text = "SELECT name, value FROM velvet_about WHERE name IN ('app', 'fingerprint')";
        let mut statement = match connection.prepare(text) {
            Err(Fault { kind: FaultKind::NoTable(_), .. }) => return Ok(None),
            other => other?,
        };
        let mut rows = statement.rows();
        while let Some(row) = rows.next()? {
            match row.text(0) {
                "app" => about.app = row.text(1).to_owned(),
                _ => about.fingerprint = row.text(1).to_owned(),
            }
        }
        Ok(Some(about))
    }

    /// One fact of the file; nothing where it is missing.
    pub(crate) fn fact(connection: &Connection, name: &str) -> Result<Option<String>, Fault> {
        let mut statement = match connection.prepare("SELECT value FROM velvet_about WHERE name = ?1") {
            Err(Fault { kind: FaultKind::NoTable(_), .. }) => return Ok(None),
            other => other?,
        };
        statement.bind(1, velvet_core::ValueRef::Text(name))?;
        let mut rows = statement.rows();
        Ok(rows.next()?.map(|row| row.text(0).to_owned()))
    }

    /// The structure that the file was declared to have when it was last changed.
    pub(crate) fn structure(connection: &Connection) -> Result<Option<Structure>, Fault> {
        Ok(About::fact(connection, "structure")?.and_then(|json| serde_json::from_str(&json).ok()))
    }

    /// Writes what a new file says about itself. The header is written by the same transaction.
    pub(crate) fn write(connection: &Connection, declared: &Declared) -> Result<(), Fault> {
        connection.run("CREATE TABLE velvet_about (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT")?;
        let structure = serde_json::to_string(&declared.structure).unwrap_or_default();
        let created = jiff::Timestamp::now();
        let facts = [
            ("format", FORMAT),
            ("app", &declared.app),
            ("fingerprint", &declared.fingerprint),
            ("structure", &structure),
            ("created_at", &format!("{created:.9}")),
        ];
        let mut statement = connection.prepare("INSERT INTO velvet_about (name, value) VALUES (?1, ?2)")?;
        for (name, value) in facts {
            statement.bind(1, velvet_core::ValueRef::Text(name))?;
            statement.bind(2, velvet_core::ValueRef::Text(value))?;
            statement.execute()?;
        }
        connection.run(&format!("PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {}", declared.version))
    }
}
