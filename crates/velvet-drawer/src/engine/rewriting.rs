//! Writing a whole file anew with another key, or none.
//!
//! The engine's own ways of doing so lose data: one destroys the file on a full device, the other drops settings and row numbers. A
//! statement that writes the file anew to another place keeps all of it, and the file itself is only read.

use super::address::in_a_statement;
use super::ciphers::{as_text, give_key};
use super::log_beside::{found_wal, refuse_to_lose_wal};
use super::open_here::OpenHere;
use super::{Fault, FaultKind, FileCipher, Opener};
use crate::work::cancel::Cancel;
use crate::work::progress;
use rusqlite::types::Value;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::value::name::quoted;

/// After how many of the engine's steps to see how far it has come, and whether it is to end.
const BETWEEN_LOOKS: i32 = 2_000;

/// A file that nobody else can open, as long as this is held.
pub(crate) struct HeldFile {
    /// Of the plain file that is made, or without a file: what is written anew has its key then.
    engine: rusqlite::Connection,
    path: PathBuf,
    to: PathBuf,
    with: Anew,
    _open_here: OpenHere,
}

/// How a file is written anew.
enum Anew {
    /// Page by page, with this key or none.
    With(Option<Arc<FileCipher>>),
    /// An encrypted one as a plain one.
    InTheClear,
}

impl HeldFile {
    /// Merges the log of the file at `path`, which has the key `of`, and holds the file, to write it anew to the empty file at `to` with the key `with`.
    /// Locked where somebody else has it open.
    pub(crate) fn hold(
        path: &Path,
        of: Option<&Arc<FileCipher>>,
        to: &Path,
        with: Option<&Arc<FileCipher>>,
    ) -> Result<HeldFile, Fault> {
        let writer = Opener::new(path).encrypted(of.cloned()).writer()?;
        writer.leave_wal()?;
        let settings = settings_of(&writer.engine)?;
        writer.close()?;
        let is_decrypted = of.is_some() && with.is_none();
        let engine =
            if is_decrypted { rusqlite::Connection::open(to) } else { rusqlite::Connection::open_in_memory() }?;
        with.map_or(Ok(()), |with| give_key(&engine, with))?;
        engine.busy_timeout(Duration::ZERO)?;
        engine.execute_batch(&settings)?;
        let open_here = OpenHere::new(path, &of.cloned(), Duration::ZERO)?;
        let with = if is_decrypted { Anew::InTheClear } else { Anew::With(with.cloned()) };
        let held = HeldFile { engine, path: path.to_owned(), to: to.to_owned(), with, _open_here: open_here };
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
        let place = in_a_statement(path)?;
        // Bound, so that no message can have it. An empty one is none.
        let key = cipher.map(as_text).unwrap_or_default();
        self.engine.execute(&format!("ATTACH ?1 AS {name} KEY ?2"), [&place, &key])?;
        Ok(())
    }

    /// Writes all that is in the file to the new one, and sees that it is there.
    pub(crate) fn write_anew(&mut self) -> Result<(), Fault> {
        let to = &self.to;
        let place = in_a_statement(to)?;
        let cancel = Cancel::here();
        let (whole, written) = (fs::metadata(&self.path).map(|m| m.len()).unwrap_or_default().max(1), to.to_owned());
        let look = move || {
            let done = fs::metadata(&written).map(|m| m.len()).unwrap_or_default();
            progress::tell(|| "rewriting the file".to_owned(), done.min(whole - 1) / 4096, Some(whole / 4096));
            cancel.as_ref().is_some_and(Cancel::is_cancelled)
        };
        self.engine.progress_handler(BETWEEN_LOOKS, Some(look))?;
        let made = match &self.with {
            Anew::With(cipher) => {
                let written = self.engine.execute("VACUUM source INTO ?1", [&place]).map_err(Fault::from);
                written.and_then(|_| {
                    self.attach(to, cipher.as_deref(), "made")?;
                    let differs = difference(&self.engine, "made");
                    self.engine.execute_batch("DETACH made")?;
                    differs
                })
            }
            Anew::InTheClear => {
                let settings = "PRAGMA main.journal_mode = OFF; PRAGMA main.synchronous = OFF";
                self.engine.execute_batch(settings)?;
                written_in_the_clear(&self.engine).and_then(|()| difference(&self.engine, "main"))
            }
        };
        self.engine.progress_handler(0, None::<fn() -> bool>)?;
        refuse_unproven(&self.engine)?;
        if let Some(differs) = made? {
            let message = format!("what was rewritten is not what the file holds: {differs}");
            return Err(Fault { kind: FaultKind::Damaged, message });
        }
        progress::tell(|| "rewriting the file".to_owned(), whole / 4096, Some(whole / 4096));
        fs::File::open(&self.to).and_then(|file| file.sync_all()).map_err(|error| Fault::device(&error))
    }
}

/// As [`Connection::refuse_unproven`](super::Connection::refuse_unproven), of the attached `source`.
pub(super) fn refuse_unproven(engine: &rusqlite::Connection) -> Result<(), Fault> {
    let is_plain = engine.query_row("PRAGMA source.cipher_salt", [], |_| Ok(())).is_err();
    let is_proven = || engine.query_row("PRAGMA source.cipher_status", [], |row| row.get::<_, String>(0));
    if is_plain || is_proven()? == "1" {
        return Ok(());
    }
    let message = "a page of the encrypted file failed its proof: it was changed or damaged".into();
    Err(Fault { kind: FaultKind::Damaged, message })
}

/// What gives a new file what a file has only from its beginning, as this one has it: how it gives space back, and how texts are written, which files that
/// are connected must have in common.
pub(super) fn settings_of(file: &rusqlite::Connection) -> Result<String, Fault> {
    let encoding: String = file.query_row("PRAGMA encoding", [], |row| row.get(0))?;
    let vacuum: i64 = file.query_row("PRAGMA auto_vacuum", [], |row| row.get(0))?;
    Ok(format!("PRAGMA encoding = '{encoding}'; PRAGMA auto_vacuum = {vacuum}"))
}

/// Writes all that is in the attached, encrypted `source` into the empty, plain file of a connection.
///
/// Page by page the engine would keep room in each for what an encrypted page has there, and then refuse to compact the file.
pub(super) fn written_in_the_clear(engine: &rusqlite::Connection) -> Result<(), Fault> {
    let number = |question: &str| engine.query_row(question, [], |row| row.get::<_, i64>(0));
    let texts = |question: &str| {
        let mut statement = engine.prepare(question)?;
        statement.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()
    };
    engine.execute_batch(
        "PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; PRAGMA writable_schema = ON; BEGIN",
    )?;
    let stored = "FROM source.sqlite_schema WHERE type = 'table' AND rootpage > 0";
    for statement in texts(&format!("SELECT sql {stored} AND name <> 'sqlite_sequence'"))? {
        // One statement each, whatever else a text may hold.
        engine.execute(&statement, [])?;
    }
    // What was counted comes last: the engine counts what is inserted.
    for table in texts(&format!("SELECT name {stored} ORDER BY name = 'sqlite_sequence'"))? {
        let list = |question: &str| {
            let mut statement = engine.prepare(question)?;
            statement.query_map([&table], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()
        };
        let columns = list("SELECT name FROM pragma_table_xinfo(?1, 'source') WHERE hidden = 0")?;
        let has_number = list("SELECT name FROM pragma_table_list WHERE schema = 'source' AND name = ?1 AND NOT wr")?;
        // Where a column is the row's number, it is copied with the others, and a second time under its own name.
        let is_column = |name: &&&str| columns.iter().any(|column| column.eq_ignore_ascii_case(name));
        let number = ["rowid", "_rowid_", "oid"].iter().find(|name| !is_column(name) && !has_number.is_empty());
        let all = number.map(|number| (*number).to_owned()).into_iter().chain(columns.iter().map(|name| quoted(name)));
        let (all, table) = (all.collect::<Vec<_>>().join(", "), quoted(&table));
        engine.execute_batch(&format!(
            "DELETE FROM main.{table}; INSERT INTO main.{table} ({all}) SELECT {all} FROM source.{table}"
        ))?;
    }
    for statement in texts("SELECT sql FROM source.sqlite_schema WHERE type = 'index' AND sql IS NOT NULL")? {
        engine.execute(&statement, [])?;
    }
    engine.execute_batch(&format!(
        "INSERT INTO main.sqlite_schema SELECT * FROM source.sqlite_schema
             WHERE type IN ('view', 'trigger') OR (type = 'table' AND rootpage = 0);
         PRAGMA main.user_version = {}; PRAGMA main.application_id = {}; COMMIT; PRAGMA writable_schema = RESET",
        number("PRAGMA source.user_version")?,
        number("PRAGMA source.application_id")?
    ))?;
    Ok(())
}

/// What of the attached `source` is not in another file of a connection, or otherwise; nothing where all is.
fn difference(engine: &rusqlite::Connection, made: &str) -> Result<Option<String>, Fault> {
    let list = |statement: &str| {
        let mut statement = engine.prepare(statement)?;
        let values = statement.query_map([], |row| row.get::<_, Value>(0))?;
        Ok::<_, Fault>(values.collect::<Result<Vec<_>, _>>()?)
    };
    let mut questions: Vec<String> = Vec::new();
    for fact in ["user_version", "application_id", "auto_vacuum", "encoding"] {
        questions.push(format!("PRAGMA FILE.{fact}"));
    }
    questions.push("SELECT json_array(type, name, tbl_name, sql) FROM FILE.sqlite_schema ORDER BY type, name".into());
    for table in list("SELECT name FROM source.sqlite_schema WHERE type = 'table' AND rootpage > 0")? {
        if let Value::Text(table) = table {
            questions.push(format!("SELECT count(*) FROM FILE.{}", quoted(&table)));
        }
    }
    for question in questions {
        let of = |file: &str| list(&question.replacen("FILE", file, 1));
        if of("source")? != of(made)? {
            return Ok(Some(question));
        }
    }
    let check = format!("PRAGMA {made}.quick_check(1)");
    Ok(Some(check.clone()).filter(|_| list(&check).is_ok_and(|said| said != [Value::Text("ok".into())])))
}
