//! What each start of the app did.

use super::file::File;
use super::forms;
use crate::device::running::began as process_began;
use crate::engine::{Connection, Fault, FaultKind, Row};
use crate::error::Error;
use serde::Serialize;
use std::collections::BTreeMap;
use velvet_core::ValueRef;
use velvet_core::statement::{SESSIONS, TRAIL, WRITES};

/// One start of the app: from opening the file to closing it, or to its end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Session {
    /// Its number, from 1 in each file.
    #[serde(rename = "session")]
    pub number: i64,
    /// When it began, as a time stamp in UTC.
    pub began_at: String,
    /// The version of the app, where it said.
    pub app_version: Option<String>,
    /// The version of the app's schema.
    pub schema_version: i64,
    /// What opening came to, in words, where it was more than opening: created, upgraded from version 2.
    pub opened: Option<String>,
    /// The number of the process on its device.
    pub process: i64,
    /// How it ended, as far as the file tells.
    #[serde(flatten)]
    pub end: SessionEnd,
    /// When it was last written down: at its end when it was closed, else within about a second of its last write.
    pub noted_at: String,
    /// How many rows it wrote, by table.
    pub wrote: Vec<TableWrites>,
    /// When it went to the background and came back, as time stamps in UTC; the last times only, where there were many.
    #[serde(serialize_with = "forms::times")]
    pub background: Vec<(String, Option<String>)>,
}

/// How many rows of a table a session wrote, those included that went with others.
///
/// Each row that the engine wrote counts: also one that an update gave the values that it had, and one whose sealed values got a new key.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct TableWrites {
    /// The table.
    pub table: String,
    /// How many rows were inserted.
    pub inserted: u64,
    /// How many times a row was changed.
    pub changed: u64,
    /// How many rows were removed.
    pub removed: u64,
    /// Whether it may have been more: the session did not end by closing, what it wrote last was not noted yet, and no trail of this
    /// table counts it.
    #[serde(rename = "at_least")]
    pub is_at_least: bool,
}

impl Session {
    /// Whether it may have written more than is told: it did not end by closing, and what it wrote last was not noted yet.
    pub fn may_have_written_more(&self) -> bool {
        self.end != SessionEnd::Closed && (self.wrote.is_empty() || self.wrote.iter().any(|w| w.is_at_least))
    }
}

/// How a session ended, as far as the file tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "end", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum SessionEnd {
    /// The app closed the file.
    Closed,
    /// A later session found it open: the app was killed, or crashed.
    Killed {
        /// The session that found it.
        found_by: i64,
        /// Whether it was in the background then.
        in_background: bool,
    },
    /// It had not ended when this file was written: the app was running, or has been killed since.
    Open {
        /// Whether it was in the background.
        in_background: bool,
    },
    /// Its process runs on this device now.
    Running {
        /// Whether it is in the background.
        in_background: bool,
    },
}

impl File {
    /// The last sessions, oldest first. None where no app of ours made the file, or it keeps none.
    ///
    /// # Errors
    /// When the file cannot be read.
    ///
    /// ```
    /// use velvet_drawer::inspect::{File, SessionEnd};
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let drawer = Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// drawer.close()?;
    ///
    /// let sessions = File::open(&path)?.sessions(10)?;
    /// assert_eq!(sessions[0].end, SessionEnd::Closed);
    /// assert_eq!((sessions[0].wrote[0].table.as_str(), sessions[0].wrote[0].inserted), ("glaze", 1));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn sessions(&self, last: u64) -> Result<Vec<Session>, Error> {
        if !self.is_ours() {
            return Ok(Vec::new());
        }
        self.read("cannot read the sessions", |c| Ok(sessions(c, last)?))
    }
}

/// The last sessions, oldest first.
fn sessions(connection: &Connection, last: u64) -> Result<Vec<Session>, Fault> {
    let text = format!(
        "SELECT session, began_at, app_version, schema_version, opened, process, process_began, state, noted_at, \
         found_open_by, wrote, background FROM {SESSIONS} ORDER BY session DESC LIMIT ?1"
    );
    let last = ValueRef::Integer(i64::try_from(last).unwrap_or(i64::MAX));
    let mut all = known(connection.list(&text, [last], session))?;
    all.reverse();
    for session in all.iter_mut().filter(|s: &&mut Session| s.end != SessionEnd::Closed) {
        count_by_trail(connection, session)?;
    }
    Ok(all)
}

/// A session that did not end by closing noted less than it wrote; the trail has each write, where it is kept.
fn count_by_trail(connection: &Connection, session: &mut Session) -> Result<(), Fault> {
    let text = format!(
        "SELECT t.table_name, sum(t.did = 'inserted'), sum(t.did = 'changed'), sum(t.did = 'removed') FROM {TRAIL} AS t \
         JOIN {WRITES} AS w ON w.write = t.write WHERE w.session = ?1 AND typeof(t.write) = 'integer' GROUP BY 1 ORDER BY 1"
    );
    session.wrote.iter_mut().for_each(|w| w.is_at_least = true);
    let counted = connection.list(&text, [session.number.into()], |row| {
        let count = |at: usize| row.integer(at).unsigned_abs();
        let (table, inserted, changed, removed) = (row.text(0).to_owned(), count(1), count(2), count(3));
        TableWrites { table, inserted, changed, removed, is_at_least: false }
    });
    for counted in known(counted)? {
        match session.wrote.iter_mut().find(|w| w.table == counted.table) {
            // The trail is bounded: of a session that wrote very much it may have forgotten the first entries.
            Some(noted) if noted.total() > counted.total() => {}
            Some(noted) => *noted = counted,
            None => session.wrote.push(counted),
        }
    }
    Ok(())
}

/// What was read; nothing where the file does not keep it.
pub(super) fn known<R: Default>(read: Result<R, Fault>) -> Result<R, Fault> {
    match read {
        Err(Fault { kind: FaultKind::NoTable(_) | FaultKind::NoColumn(_), .. }) => Ok(R::default()),
        read => read,
    }
}

impl TableWrites {
    fn total(&self) -> u64 {
        self.inserted + self.changed + self.removed
    }
}

fn session(row: Row<'_, '_>) -> Session {
    let said = |at: usize| Some(row.text(at)).filter(|text| !text.is_empty()).map(str::to_owned);
    let in_background = row.text(7) == "background";
    let (process, began) = (row.integer(5), row.value(6));
    let runs_here = || matches!(began, ValueRef::Integer(at) if process_began(process) == Some(at));
    let end = match (row.text(7), row.value(9)) {
        ("closed", _) => SessionEnd::Closed,
        (_, ValueRef::Integer(found_by)) => SessionEnd::Killed { found_by, in_background },
        _ if runs_here() => SessionEnd::Running { in_background },
        _ => SessionEnd::Open { in_background },
    };
    Session {
        number: row.integer(0),
        began_at: row.text(1).to_owned(),
        app_version: said(2),
        schema_version: row.integer(3),
        opened: said(4),
        process,
        end,
        noted_at: row.text(8).to_owned(),
        wrote: wrote(row.text(10)),
        background: background(row.text(11)),
    }
}

/// What cannot be read, because another program wrote it, is left out.
fn wrote(json: &str) -> Vec<TableWrites> {
    let tables: BTreeMap<String, BTreeMap<String, u64>> = serde_json::from_str(json).unwrap_or_default();
    let count = |counts: &BTreeMap<String, u64>, word: &str| counts.get(word).copied().unwrap_or(0);
    let writes = |(table, counts): (String, BTreeMap<String, u64>)| TableWrites {
        inserted: count(&counts, "inserted"),
        changed: count(&counts, "changed"),
        removed: count(&counts, "removed"),
        table,
        is_at_least: false,
    };
    tables.into_iter().map(writes).collect()
}

fn background(json: &str) -> Vec<(String, Option<String>)> {
    let times: Vec<Vec<String>> = serde_json::from_str(json).unwrap_or_default();
    times.into_iter().filter_map(|mut t| (!t.is_empty()).then(|| (t.remove(0), t.pop()))).collect()
}
