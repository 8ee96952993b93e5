//! What a drawer's file says about itself: its header, the table of facts beside it.

use crate::engine::{Connection, Fault};
use crate::file::facts::{self, FACTS, exists, not_a_table};
use crate::schema::Declared;
use std::time::Duration;
use velvet_core::schema::structure::Structure;
use velvet_core::statement::{CREATE_SESSIONS, SEARCH_INDEX};

/// The application id in the header of every drawer: `VDrw`.
pub(crate) const APPLICATION_ID: i64 = 0x5644_7277;

/// The version of the file format, for readers other than this one.
const FORMAT: &str = "1";

/// What a drawer's file says about itself.
#[derive(Default)]
pub(crate) struct About {
    pub(crate) app: String,
    pub(crate) fingerprint: String,
    /// The engine's count of changes of structure when the file was last written by us.
    pub(crate) structure_count: String,
    /// Which trails it keeps; empty where none.
    pub(crate) trail: String,
}

impl About {
    /// Creates the table of facts.
    pub(crate) const CREATE: &str = "CREATE TABLE velvet_about (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT";

    /// Reads what telling the file takes; nothing where the table of facts is missing.
    pub(crate) fn read(connection: &Connection) -> Result<Option<About>, Fault> {
        let mut about = About::default();
        let text =
            format!("SELECT name, value FROM {FACTS} WHERE name IN ('app', 'fingerprint', 'structure_count', 'trail')");
        let read = connection.rows(&text, [], |row| {
            let fact = match row.text(0) {
                "app" => &mut about.app,
                "trail" => &mut about.trail,
                "structure_count" => &mut about.structure_count,
                _ => &mut about.fingerprint,
            };
            row.text(1).clone_into(fact);
            Ok::<_, Fault>(())
        });
        Ok(exists(read)?.map(|()| about))
    }

    /// Whether an app of ours made the file.
    pub(crate) fn is_ours(connection: &Connection) -> Result<bool, Fault> {
        Ok(connection.application()? == APPLICATION_ID)
    }

    /// One fact of the file; `None` if it is missing.
    pub(crate) fn fact(connection: &Connection, name: &str) -> Result<Option<String>, Fault> {
        facts::fact(connection, name)
    }

    /// The structure that the file was declared to have when it was last changed.
    pub(crate) fn structure(connection: &Connection) -> Result<Option<Structure>, Fault> {
        Ok(About::fact(connection, "structure")?.and_then(|json| serde_json::from_str(&json).ok()))
    }

    /// Writes what a new file says about itself. The header is written by the same transaction.
    pub(crate) fn write(connection: &Connection, declared: &Declared) -> Result<(), Fault> {
        connection.run(Self::CREATE)?;
        connection.run(
            "CREATE TABLE velvet_versions (version INTEGER PRIMARY KEY, at TEXT NOT NULL, app_version TEXT, \
             took_ms INTEGER NOT NULL) STRICT",
        )?;
        connection.run(CREATE_SESSIONS)?;
        let created = format!("{:.9}", jiff::Timestamp::now());
        for (name, value) in [("format", FORMAT), ("app", &declared.app), ("created_at", &created)] {
            facts::remember(connection, name, value)?;
        }
        went_through(connection, declared, declared.version, Duration::ZERO)?;
        connection.set_application(APPLICATION_ID)?;
        describe(connection, declared)
    }

    /// Writes what an upgraded file says about itself, and the versions that it went through.
    pub(crate) fn rewrite(
        connection: &Connection,
        declared: &Declared,
        versions: impl Iterator<Item = (u32, Duration)>,
    ) -> Result<(), Fault> {
        for (version, took) in versions {
            went_through(connection, declared, version, took)?;
        }
        describe(connection, declared)
    }

    /// Notes that the app has yet to bring data into the new file.
    pub(crate) fn wait_to_be_filled(connection: &Connection) -> Result<(), Fault> {
        facts::remember(connection, "waits_to_be_filled", "1")
    }

    /// Whether the app has yet to bring data into the file.
    pub(crate) fn waits_to_be_filled(connection: &Connection) -> Result<bool, Fault> {
        Ok(About::fact(connection, "waits_to_be_filled")?.is_some())
    }

    /// Notes that the app has brought its data in.
    pub(crate) fn is_filled(connection: &Connection) -> Result<(), Fault> {
        connection.run("DELETE FROM velvet_about WHERE name = 'waits_to_be_filled'")
    }

    /// Remembers a fact under a name.
    pub(crate) fn remember(connection: &Connection, name: &str, value: &str) -> Result<(), Fault> {
        facts::remember(connection, name, value)
    }

    /// Forgets a fact.
    pub(crate) fn forget(connection: &Connection, name: &str) -> Result<(), Fault> {
        facts::forget(connection, name)
    }

    /// Whether no other program has changed the structure since it was last written by us, or looked at.
    pub(crate) fn is_unchanged(&self, connection: &Connection) -> Result<bool, Fault> {
        Ok(self.structure_count == connection.structure_count()?.to_string())
    }

    /// Does what changes the engine's count of changes of structure, and not the structure. What another program changed before is still to be looked at
    /// by the next open.
    pub(crate) fn still_the_same<R, E: From<Fault>>(
        connection: &Connection,
        change: impl FnOnce() -> Result<R, E>,
    ) -> Result<R, E> {
        let is_ours = About::read(connection)?.map_or(Ok(false), |about| about.is_unchanged(connection))?;
        let done = change()?;
        if is_ours {
            About::same_after_all(connection)?;
        }
        Ok(done)
    }

    /// Notes that the structure is the declared one as it is now.
    pub(crate) fn same_after_all(connection: &Connection) -> Result<(), Fault> {
        facts::remember(connection, "structure_count", &connection.structure_count()?.to_string())
    }
}

/// Writes the declared structure and version.
fn describe(connection: &Connection, declared: &Declared) -> Result<(), Fault> {
    let structure = serde_json::to_string(&declared.structure).unwrap_or_default();
    facts::remember(connection, "fingerprint", &declared.fingerprint)?;
    facts::remember(connection, "structure", &structure)?;
    connection.set_version(declared.version.into())?;
    About::same_after_all(connection)
}

/// Refuses a view, or a virtual table, in the place of a table of the library's or of one that the app declares: reading it may never end.
pub(crate) fn refuse_stand_ins(connection: &Connection, declared: &Structure) -> Result<(), Fault> {
    let refused = connection.stand_ins()?.into_iter().find(|(name, is_view)| {
        let is_index = !is_view && name.starts_with(SEARCH_INDEX);
        (name.starts_with("velvet_") && !is_index) || declared.table(name).is_some()
    });
    refused.map_or(Ok(()), |(name, _)| Err(not_a_table(&name)))
}

fn went_through(connection: &Connection, declared: &Declared, version: u32, took: Duration) -> Result<(), Fault> {
    let at = format!("{:.9}", jiff::Timestamp::now());
    let took = i64::try_from(took.as_millis()).unwrap_or(i64::MAX);
    let text = "INSERT OR REPLACE INTO velvet_versions (version, at, app_version, took_ms) VALUES (?1, ?2, ?3, ?4)";
    let values = [version.into(), (&at).into(), declared.app_version.as_ref().into(), took.into()];
    connection.execute(text, values).map(drop)
}
