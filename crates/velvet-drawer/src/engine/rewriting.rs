//! Writing a whole file anew with another key, or none.
//!
//! The engine's own ways of doing so lose data: one destroys the file on a full device, the other drops settings and row numbers. A
//! statement that writes the file anew to another place keeps all of it, and the file itself is only read.

use super::ciphers::{as_text, give_key};
use super::connection::{found_wal, refuse_to_lose_wal};
use super::open_here::OpenHere;
use super::{Fault, FaultKind, FileCipher, Opener};
use crate::cancel::Cancel;
use crate::progress;
use rusqlite::types::Value;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::name::quoted;

/// After how many of the engine's steps to see how far it has come, and whether it is to end.
const BETWEEN_LOOKS: i32 = 2_000;

/// A file that nobody else can open, as long as this is held.
pub(crate) struct HeldFile {
    /// Without a file of its own: what is written anew has its key, or none.
    engine: rusqlite::Connection,
    path: PathBuf,
    with: Option<Arc<FileCipher>>,
    _open_here: OpenHere,
}

impl HeldFile {
    /// Merges the log of the file at `path`, which has the key `of`, and holds the file, to write it anew with the key `with`. Locked where somebody
    /// else has it open.
    pub(crate) fn hold(
        path: &Path,
        of: Option<&Arc<FileCipher>>,
        with: Option<&Arc<FileCipher>>,
    ) -> Result<HeldFile, Fault> {
        let writer = Opener::new(path).encrypted(of.cloned()).writer()?;
        writer.leave_wal()?;
        writer.close()?;
        let engine = rusqlite::Connection::open_in_memory()?;
        with.map_or(Ok(()), |with| give_key(&engine, with))?;
        engine.busy_timeout(Duration::ZERO)?;
        let open_here = OpenHere::new(path, &of.cloned());
        let held = HeldFile { engine, path: path.to_owned(), with: with.cloned(), _open_here: open_here };
        held.attach(path, of.map(|of| &**of), "source")?;
        // The lock stays from the first statement that takes it.
        held.engine.execute_batch("PRAGMA source.locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE; COMMIT")?;
        refuse_to_lose_wal(path, None)?;
        if found_wal(path).is_some() {
            let message = "another process began to use it".into();
            return Err(Fault { kind: FaultKind::Locked, message });
        }
        Ok(held)
    }

    fn attach(&self, path: &Path, cipher: Option<&FileCipher>, name: &str) -> Result<(), Fault> {
        let Some(place) = path.to_str() else {
            let message = format!("the path {} is no text in Unicode", path.display());
            return Err(Fault { kind: FaultKind::CannotOpen, message });
        };
        // Bound, so that no message can have it. An empty one is none.
        let key = cipher.map(as_text).unwrap_or_default();
        let connected = if self.with.is_none() && cipher.is_none() {
            self.engine.execute(&format!("ATTACH ?1 AS {name}"), [place])
        } else {
            self.engine.execute(&format!("ATTACH ?1 AS {name} KEY ?2"), [place, &key])
        };
        connected?;
        Ok(())
    }

    /// Writes all that is in the file to the empty file at `to`, and sees that it is there.
    pub(crate) fn write_anew(&mut self, to: &Path) -> Result<(), Fault> {
        let Some(place) = to.to_str() else {
            let message = format!("the path {} is no text in Unicode", to.display());
            return Err(Fault { kind: FaultKind::CannotOpen, message });
        };
        let cancel = Cancel::here();
        let (whole, written) = (fs::metadata(&self.path).map(|m| m.len()).unwrap_or_default().max(1), to.to_owned());
        let look = move || {
            let done = fs::metadata(&written).map(|m| m.len()).unwrap_or_default();
            progress::tell(|| "writing the file anew".to_owned(), done.min(whole - 1) / 4096, Some(whole / 4096));
            cancel.as_ref().is_some_and(Cancel::is_cancelled)
        };
        self.engine.progress_handler(BETWEEN_LOOKS, Some(look))?;
        let made = self.engine.execute("VACUUM source INTO ?1", [place]).map_err(Fault::from).and_then(|_| {
            self.attach(to, self.with.as_deref(), "made")?;
            self.is_the_same()
        });
        self.engine.progress_handler(0, None::<fn() -> bool>)?;
        let detached = self.engine.execute_batch("DETACH made");
        let is_whole = made?;
        detached?;
        if !is_whole {
            let message = "what was written anew is not what the file holds".into();
            return Err(Fault { kind: FaultKind::Damaged, message });
        }
        progress::tell(|| "writing the file anew".to_owned(), whole / 4096, Some(whole / 4096));
        fs::File::open(to).and_then(|file| file.sync_all()).map_err(|error| Fault::device(&error))
    }

    /// Whether all that is in the file is in what was written anew.
    fn is_the_same(&self) -> Result<bool, Fault> {
        let list = |statement: &str| {
            let mut statement = self.engine.prepare(statement)?;
            let values = statement.query_map([], |row| row.get::<_, Value>(0))?;
            Ok::<_, Fault>(values.collect::<Result<Vec<_>, _>>()?)
        };
        let mut questions: Vec<String> = Vec::new();
        for fact in ["user_version", "application_id", "auto_vacuum", "encoding"] {
            questions.push(format!("PRAGMA FILE.{fact}"));
        }
        questions
            .push("SELECT json_array(type, name, tbl_name, sql) FROM FILE.sqlite_schema ORDER BY type, name".into());
        for table in list("SELECT name FROM source.sqlite_schema WHERE type = 'table' AND rootpage > 0")? {
            if let Value::Text(table) = table {
                questions.push(format!("SELECT count(*) FROM FILE.{}", quoted(&table)));
            }
        }
        for question in questions {
            let of = |file: &str| list(&question.replacen("FILE", file, 1));
            if of("source")? != of("made")? {
                return Ok(false);
            }
        }
        Ok(list("PRAGMA made.quick_check(1)")? == [Value::Text("ok".into())])
    }
}
