//! Whether a file is all there: the newest changes, or the way back out of unfinished ones, stand beside it.

use super::file::File;
use super::sessions::SessionEnd;
use crate::beside::COMPANIONS;
use crate::engine::{Encrypted, LogBeside, Opener, log_beside};
use crate::error::Error;
use crate::opening::unanswered;
use std::fs;
use std::path::{Path, PathBuf};
use velvet_core::header::Header;
use velvet_core::wal;

const RIGHT_WAY: &str = "To pull a complete copy, end the app and copy both files, or run `velvet copy`, or let the app hand one \
    out with Drawer::copy_to";

impl File {
    /// What a reader should know before trusting what this file shows, each as a sentence: that changes stand beside it, or are
    /// missing, or do not belong to it.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn notes(&self) -> Result<Vec<String>, Error> {
        let [log, _, journal] = COMPANIONS.map(|end| Beside::of(self.path(), end));
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
        let log = Beside::of(self.path(), COMPANIONS[0]);
        let certain = |what| Incomplete { what, is_told_by_file: true };
        let mut reasons: Vec<Incomplete> = not_as_one(self.path()).into_iter().map(certain).collect();
        if !log.is_there && header(self.path()).is_some_and(|h| h.keeps_log) {
            reasons.extend(self.pulled_alone(&log)?);
        }
        Ok(reasons)
    }

    /// The file keeps a write-ahead log beside it while it is used, and there is none: it may have been copied without. One that keeps sessions
    /// tells whether the last of them ended; another tells nothing.
    fn pulled_alone(&self, log: &Beside) -> Result<Option<Incomplete>, Error> {
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

/// Why a file and what stands beside it are not one whole, told from outside; nothing where no reason is seen.
pub(super) fn not_as_one(path: &Path) -> Option<String> {
    let header = header(path)?;
    let [log, _, journal] = COMPANIONS.map(|end| Beside::of(path, end));
    if log.bytes > 0 {
        return of_log(path, &header, &log);
    }
    if journal.bytes > 0 { None } else { cut(&header) }
}

/// A file beside another.
struct Beside {
    name: String,
    path: PathBuf,
    bytes: u64,
    is_there: bool,
}

impl Beside {
    fn of(file: &Path, end: &str) -> Beside {
        let mut path = file.as_os_str().to_owned();
        path.push(end);
        let path = PathBuf::from(path);
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let found = fs::metadata(&path).ok();
        Beside { name, bytes: found.as_ref().map_or(0, fs::Metadata::len), is_there: found.is_some(), path }
    }
}

/// Nothing where this process has the file open: what stands beside it then changes at any moment.
fn header(path: &Path) -> Option<Header> {
    Opener::new(path).header().ok().flatten()
}

fn cut(header: &Header) -> Option<String> {
    let (has, needs) = (header.pages_there, header.pages?);
    (has < needs).then(|| {
        format!(
            "this file is cut: it has {has} of its {needs} pages. It was copied while it was being written, or the copy was \
             interrupted. {RIGHT_WAY}"
        )
    })
}

/// Whether the write-ahead log is that of the file, of the same moment.
fn of_log(path: &Path, header: &Header, beside: &Beside) -> Option<String> {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let another = |which: &str| {
        format!(
            "{} belongs to a different version of {name}: {which}. The state shown never existed. {RIGHT_WAY}",
            beside.name
        )
    };
    match log_beside(&beside.path, header, Encrypted::at(path).as_ref()).ok()? {
        LogBeside::Fits => None,
        LogBeside::NoLog => Some(format!(
            "{} is no log of this file, or its beginning is damaged: nothing of it is shown here. {RIGHT_WAY}",
            beside.name
        )),
        LogBeside::OfAnother => Some(another("of encrypted files it is not known which is older")),
        LogBeside::Older => Some(another("the log is older than the file")),
        LogBeside::Newer | LogBeside::PagesMissing => {
            Some(another("the file is older than the log, and what was merged in between is missing"))
        }
    }
}
