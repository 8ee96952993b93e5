//! Whether the file that a drawer has open is still the one that it opened: at its path, at its version, in its process. What follows where
//! it is not: nothing more is written, and what it held is kept.

use super::Inner;
use crate::device::companions;
use crate::engine::{Connection, Displaced, InPlace, copy_from};
use crate::error::{Cause, Error};
use crate::events;
use crate::file::new_file;
use parking_lot::Mutex;
use std::path::{Path, PathBuf};
use std::process;

/// What was kept of a file that was displaced.
#[derive(Clone)]
pub(super) enum Kept {
    /// All of it, in this copy, when the log held so many transactions.
    At(PathBuf, Option<u64>),
    /// All of it is merged into the file, which is still there.
    InPlace,
    /// Nothing, for this reason.
    Not(String),
}

/// What a drawer knows of where it was opened.
pub(super) struct Home {
    process: u32,
    kept: Mutex<Option<Kept>>,
}

impl Home {
    /// Of a drawer that is opened now.
    pub(super) fn new() -> Home {
        Home { process: process::id(), kept: Mutex::default() }
    }

    /// Whether this process is a fork of the one that opened the drawer, which goes on using it.
    pub(super) fn is_forked(&self) -> bool {
        self.process != process::id()
    }
}

impl Inner {
    /// # Errors
    /// When the file is not at its path any more, or this process is a fork of the one that opened it.
    pub(crate) fn require_in_place(&self) -> Result<(), Error> {
        let Err(how) = self.pool().looked_at() else { return Ok(()) };
        if self.in_effect().read_only {
            let error = Error::new(Cause::Displaced, format!("cannot use the drawer any more: {}", how.in_words()));
            return Err(self.place.name(error.advise("Drop all handles and open the path again")));
        }
        let writer = self.writer()?;
        Err(self.displaced(how, self.pool().in_place(), &writer))
    }

    /// As [`Inner::require_in_place`], for whoever has the connection that writes; and sees that the log is not larger than it may be.
    #[inline]
    pub(super) fn require_in_place_to_write(&self, writer: &Connection) -> Result<(), Error> {
        if self.home.is_forked() {
            return Err(self.forked());
        }
        match self.pool().looked_at() {
            Ok(log) => self.mind_log(log, writer),
            Err(how) => Err(self.displaced(how, self.pool().in_place(), writer)),
        }
    }

    /// # Errors
    /// When another process has upgraded the file. The state that is looked at must be held.
    #[inline]
    pub(super) fn require_version(&self, connection: &Connection, what: &str) -> Result<(), Error> {
        let read = connection.cached_version();
        let found =
            read.map_err(|fault| self.place.name(Error::from(fault).doing("cannot tell the file's version")))?;
        if found == i64::from(self.declared.version) { Ok(()) } else { Err(self.other_version(found, what)) }
    }

    /// The error, or that another process has upgraded the file, where that may be why.
    #[cold]
    pub(super) fn told_from_newer(&self, connection: &Connection, error: Error) -> Error {
        let is_of_structure = error.is_engine() || error.is_bad_query() || error.is_schema() || error.is_unreadable();
        if !is_of_structure {
            return error;
        }
        self.require_version(connection, "read from").err().unwrap_or(error)
    }

    #[cold]
    fn other_version(&self, found: i64, what: &str) -> Error {
        let known = self.declared.version;
        let error = if found > i64::from(known) {
            let problem = format!(
                "cannot {what} the drawer: a newer version of the app upgraded the file to version {found} while this one, \
                 which knows up to {known}, had it open"
            );
            Error::new(Cause::NewerVersion, problem).advise("End this app, and go on with the newer one")
        } else {
            let problem =
                format!("cannot {what} the drawer: another program set the file's version from {known} to {found}");
            Error::new(Cause::OtherStructure, problem).advise("Close the drawer and open it again, which says more")
        };
        self.place.name(error.untouched("Nothing was written by this call"))
    }

    #[cold]
    pub(super) fn forked(&self) -> Error {
        let opened_by = self.home.process;
        let problem = format!(
            "cannot write to the drawer: process {opened_by} opened it, and this is process {}, a fork of that one",
            process::id()
        );
        let error = Error::new(Cause::InUse, problem).untouched("Nothing was written by this call");
        self.place.name(error.advise("Open drawers after forking, in each process that uses them"))
    }

    /// Keeps what the file held, and says what became of it.
    #[cold]
    pub(super) fn displaced(&self, how: Displaced, in_place: Option<InPlace>, connection: &Connection) -> Error {
        let mut kept = self.home.kept.lock();
        let is_news = kept.is_none();
        if !matches!(*kept, Some(Kept::At(..) | Kept::InPlace)) {
            *kept = self.path().map(|path| keep(how, in_place, connection, path));
            if let (Some(Kept::At(..) | Kept::Not(_)), Some(recorder)) = (&*kept, self.recorder()) {
                recorder.abandon();
            }
        }
        if how == Displaced::Overwritten {
            // Merged into what is there now, the log would destroy it.
            connection.leave_log_alone();
        }
        let problem = format!("cannot use the drawer any more: {}", how.in_words());
        let (what, advice) = match &*kept {
            Some(Kept::Not(_)) if how == Displaced::Overwritten => (
                "whatever is only in the write-ahead log is kept with it".to_owned(),
                "Drop all handles and open the path again, which says where the log is",
            ),
            Some(Kept::At(copy, _)) => (
                format!("all that the drawer held, to the last acknowledged write, is kept in {}", copy.display()),
                "Drop all handles and open the path again; if the kept copy is what should be there, Drawer::restore puts it there",
            ),
            Some(Kept::InPlace) => {
                ("all that was acknowledged is in the file".to_owned(), "Drop all handles and open the path again")
            }
            Some(Kept::Not(why)) => (
                format!("what the drawer holds could not be kept beside its path ({why})"),
                "Copy it elsewhere with Drawer::copy_to before the last handle is dropped",
            ),
            None => (String::new(), ""),
        };
        let error = Error::new(Cause::Displaced, problem);
        let error =
            self.place.name(error.untouched(format!("Nothing was written by this call; {what}")).advise(advice));
        if let Some(path) = self.path().filter(|_| is_news) {
            events::failed(path, &error);
        }
        error
    }

    /// Sees to it that the log of a file that was displaced is not laid over the one that is at its path now. The file is closed.
    pub(super) fn take_log_away(&self, in_place: Option<InPlace>) {
        let kept = self.home.kept.lock().take();
        let (Some(in_place), Some(path), Some(kept)) = (in_place, self.path(), kept) else { return };
        let kept = if let Kept::At(_, transactions) = kept { transactions } else { None };
        // Where it stays, the next open refuses the log.
        let _ = in_place.take_log_away(kept, &companions::set_aside(path));
    }
}

fn keep(how: Displaced, in_place: Option<InPlace>, connection: &Connection, path: &Path) -> Kept {
    if how == Displaced::WithoutLog {
        return match connection.checkpoint() {
            Ok(true) => Kept::InPlace,
            Ok(false) => Kept::Not("somebody reads an older state of it".into()),
            Err(fault) => Kept::Not(fault.message),
        };
    }
    if how == Displaced::Overwritten {
        return Kept::Not(how.in_words().into());
    }
    let place = companions::set_aside(path);
    // Counted first: what another process adds while it is copied may not be in the copy.
    let transactions = in_place.and_then(|place| place.transactions());
    match new_file::make(&place, "cannot copy it", |unfinished| Ok(copy_from(connection, unfinished)?)) {
        Ok(_) => Kept::At(place, transactions),
        Err(error) => Kept::Not(error.to_string()),
    }
}
