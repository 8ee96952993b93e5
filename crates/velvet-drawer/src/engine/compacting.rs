//! Writing a file anew without what is unused in it.

use super::address::in_a_statement;
use super::connection::BETWEEN_ATTEMPTS;
use super::{Connection, Fault, FaultKind, Opener};
use crate::device::unfinished::{Unfinished, WORD};
use rusqlite::backup::{Backup, StepResult};
use std::path::{Path, PathBuf};
use std::time::Instant;

/// How many pages to copy before looking whether it is to end.
const PAGES: i32 = 1024;

/// How often to begin again where another process wrote in the moment in which it could.
const ATTEMPTS: usize = 8;

impl Connection {
    /// Writes the file anew, without what is unused in it.
    pub(crate) fn compact(&self) -> Result<(), Fault> {
        match (&self.cipher, self.engine.path()) {
            (Some(_), Some(path)) => self.compact_by_copying(Path::new(path)),
            _ => {
                // What is stored may go through a temporary file: what is sealed is not opened for this, and memory has less room.
                let kept = self.number("PRAGMA temp_store")?;
                self.run("PRAGMA temp_store = FILE; VACUUM")?;
                self.run(&format!("PRAGMA temp_store = {kept}"))
            }
        }
    }

    /// A temporary file would hold an encrypted file in the clear, and memory has no room for a large one. So it is written anew beside itself, encrypted, and from
    /// there into its place, in one transaction.
    fn compact_by_copying(&self, path: &Path) -> Result<(), Fault> {
        let path: PathBuf = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let is_ours = path.file_name().is_some_and(|name| name.to_string_lossy().contains(WORD));
        let is_shared = self.one("PRAGMA journal_mode", [], |row| row.text(0) == "wal")?.unwrap_or_default();
        if !is_shared && !is_ours {
            // While such a file is written, nobody can ask whether somebody else has written.
            return self.compact_in_memory();
        }
        let opener = Opener::new(&path).waiting(self.wait.get()).encrypted(self.cipher.clone());
        let (lock, reader) = (opener.writer()?, opener.reader()?);
        let mut target = opener.writer()?;
        for connection in [&lock, &target] {
            connection.keep_wal_on_close(true);
        }
        for _ in 0..ATTEMPTS {
            let unfinished = Unfinished::of(&path).map_err(|error| Fault::device(&error))?;
            let place = in_a_statement(unfinished.path())?;
            // Nobody else writes until it is there.
            let held = lock.transaction()?;
            let written = reader.until_cancelled_here(|| reader.execute("VACUUM INTO ?1", [place.as_str().into()]));
            written?;
            let count = reader.count_of_others()?;
            drop(held);
            let source = Opener::new(unfinished.path()).encrypted(self.cipher.clone()).reader()?;
            if source.pages()?.count < 2 {
                // What takes one step cannot be looked at in the middle; and it has room in memory.
                return self.compact_in_memory();
            }
            let backup = Backup::new(&source.engine, &mut target.engine)?;
            let deadline = Instant::now() + self.wait.get();
            let mut is_begun = false;
            let is_done = loop {
                let copied = backup.step(if is_begun { PAGES } else { 1 })?;
                let is_held = matches!(copied, StepResult::Done | StepResult::More);
                // From the first step on, nobody else writes; what was written before that would be lost.
                if is_held && !is_begun && is_shared && reader.count_of_others()? != count {
                    break false;
                }
                is_begun |= is_held;
                match copied {
                    StepResult::Done => break true,
                    StepResult::More => {}
                    _ if Instant::now() < deadline => std::thread::sleep(BETWEEN_ATTEMPTS),
                    _ => return Err(written_all_the_time()),
                }
                self.refuse_if_cancelled()?;
            };
            drop(backup);
            if is_done {
                return Ok(());
            }
        }
        Err(written_all_the_time())
    }

    fn compact_in_memory(&self) -> Result<(), Fault> {
        self.run("PRAGMA temp_store = MEMORY; VACUUM")
    }
}

fn written_all_the_time() -> Fault {
    Fault { kind: FaultKind::Locked, message: "another process writes all the time".into() }
}
