//! Whether a file is all there: the newest changes, or the way back out of unfinished ones, stand beside it.

use super::as_one::{Companion, RIGHT_WAY, header, not_as_one};
use super::file::File;
use super::sessions::SessionEnd;
use crate::device::companions::COMPANIONS;
use crate::engine::{Encrypted, LogBeside, log_beside};
use crate::error::Error;
use crate::opening::unanswered;
use velvet_core::file::header::Header;
use velvet_core::file::wal;

impl File {
    /// What a reader should know before trusting what this file shows, each as a sentence: that changes stand beside it, or are
    /// missing, or do not belong to it.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn notes(&self) -> Result<Vec<String>, Error> {
        let [log, _, journal] = COMPANIONS.map(|end| Companion::of(self.path(), end));
        let mut notes = Vec::new();
        let beside = |h: Header| log_beside(&log.path, &h, Encrypted::at(self.path()).as_ref());
        let is_log = || header(self.path()).is_none_or(|h| !matches!(beside(h), Ok(LogBeside::NoLog)));
        if log.bytes > wal::HEADER as u64 && is_log() {
            notes.push(format!(
                "the newest changes are not in this file but in {} beside it: the app is running, or was killed. They are \
                 shown here; whoever copies the file needs both",
                log.name
            ));
        }
        if journal.bytes > 0 {
            notes.push(format!(
                "a write was not finished; the way back out of it is in {} beside it. What is shown here is the state before \
                 that write; whoever copies the file needs both",
                journal.name
            ));
        }
        notes.extend(self.incomplete()?.into_iter().map(|reason| reason.what));
        notes.extend(unanswered(self.path()).map(|(_, what)| format!("{what}; Drawer::bring_back_log replays it")));
        Ok(notes)
    }

    /// Why this file may not show what was stored: changes are missing, or are of another moment. Nothing where it is all there, as far
    /// as that can be told.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn incomplete(&self) -> Result<Vec<Incomplete>, Error> {
        let log = Companion::of(self.path(), COMPANIONS[0]);
        let certain = |what| Incomplete { what, is_told_by_file: true };
        let mut reasons: Vec<Incomplete> = not_as_one(self.path()).into_iter().map(certain).collect();
        if !log.is_there && header(self.path()).is_some_and(|h| h.keeps_log) {
            reasons.extend(self.pulled_alone(&log)?);
        }
        Ok(reasons)
    }

    /// The file keeps a write-ahead log beside it while it is used, and there is none: it may have been copied without. One that keeps sessions
    /// tells whether the last of them ended; another tells nothing.
    fn pulled_alone(&self, log: &Companion) -> Result<Option<Incomplete>, Error> {
        let sessions = self.sessions(1)?;
        let what = match sessions.last() {
            Some(session) if matches!(session.end, SessionEnd::Open { .. } | SessionEnd::Running { .. }) => format!(
                "this file was possibly copied without its write-ahead log, {}: session {} had begun ({} UTC) and not ended, so the app was running, or \
                 was killed, and what it wrote may be missing here. {RIGHT_WAY}",
                log.name,
                session.number,
                session.began_at.split('.').next().unwrap_or_default().replace('T', " ")
            ),
            Some(_) => return Ok(None),
            None => format!(
                "the program that writes this file keeps the newest changes in {} beside it while it runs, and there is none \
                 here. If it was running when the file was copied, they are possibly missing. {RIGHT_WAY}",
                log.name
            ),
        };
        Ok(Some(Incomplete { what, is_told_by_file: !sessions.is_empty() }))
    }
}

/// A reason why a file may not show what was stored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Incomplete {
    /// The reason, as a sentence, and what to do.
    pub what: String,
    /// Whether the file itself tells so. Otherwise it is only possible, as with every file whose program keeps a write-ahead log beside it.
    pub is_told_by_file: bool,
}
