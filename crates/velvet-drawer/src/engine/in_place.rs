//! Whether the file that is open is still the one at its path.
//!
//! The engine goes on with a file that was deleted, or in whose place another was put, as if nothing had happened: what is written then is
//! in a file that has no name any more, and its log stands beside a file that it is none of.

use super::log_beside::transactions_in;
use super::{Fault, FaultKind};
use crate::beside::{self, with_companions};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// What tells a file from all others on the device; where the system does not say, only that it is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Identity(u64, u64);

/// The file at a path, found without opening it: closing a handle of ours would drop the engine's locks.
pub(crate) fn identity(path: &Path) -> io::Result<Identity> {
    looked_at(path).map(|(identity, _)| identity)
}

/// The file at a path, and how many bytes it has.
///
/// Its times are not asked for: the system would have to tell each write after that from the one before by another time, and to store that with every
/// commit.
fn looked_at(path: &Path) -> io::Result<(Identity, u64)> {
    #[cfg(any(target_os = "linux", target_os = "android"))]
    {
        use rustix::fs::{AtFlags, CWD, StatxFlags, statx};
        use rustix::io::Errno;
        match statx(CWD, path, AtFlags::empty(), StatxFlags::INO | StatxFlags::SIZE) {
            Ok(file) => {
                let device = (u64::from(file.stx_dev_major) << 32) | u64::from(file.stx_dev_minor);
                return Ok((Identity(device, file.stx_ino), file.stx_size));
            }
            // An old system does not know this.
            Err(Errno::NOSYS | Errno::PERM) => {}
            Err(error) => return Err(error.into()),
        }
    }
    let file = fs::metadata(path)?;
    #[cfg(unix)]
    let (device, number) = (std::os::unix::fs::MetadataExt::dev(&file), std::os::unix::fs::MetadataExt::ino(&file));
    #[cfg(not(unix))]
    let (device, number) = (0, u64::from(file.is_dir()));
    Ok((Identity(device, number), file.len()))
}

/// What became of a file while it was open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Displaced {
    /// Nothing is at its path any more.
    Gone,
    /// Another file is.
    Replaced,
    /// The file is there, and its write-ahead log is not.
    WithoutLog,
}

impl Displaced {
    /// What became of it, as a part of a sentence.
    pub(crate) fn in_words(self) -> &'static str {
        match self {
            Displaced::Gone => "the file was deleted or moved away while it was open",
            Displaced::Replaced => "another file was put in its place while it was open",
            Displaced::WithoutLog => "the write-ahead log beside it was deleted or replaced while the file was open",
        }
    }
}

/// The file that is open at a path, and its write-ahead log.
#[derive(Clone, Debug)]
pub(crate) struct InPlace {
    path: PathBuf,
    file: Identity,
    /// Nothing while there is none that is this file's.
    log: Arc<Mutex<Option<(PathBuf, Identity)>>>,
}

impl InPlace {
    /// Of a file that was opened this moment, and was this one before; `None` if there is none, as for a drawer in memory.
    pub(crate) fn of(path: &Path, opened: Option<Identity>) -> Option<InPlace> {
        let found = identity(path).ok();
        let place = InPlace { path: path.to_owned(), file: opened.or(found)?, log: Arc::default() };
        place.note_log();
        Some(place)
    }

    /// Notes which log is this file's: the file was opened.
    pub(super) fn note_log(&self) {
        let log = with_companions(&self.path).nth(1);
        *self.log() = log.and_then(|log| Some((log.clone(), identity(&log).ok()?)));
    }

    /// No log is this file's any more: the file is being closed.
    pub(super) fn forget_log(&self) {
        *self.log() = None;
    }

    fn log(&self) -> MutexGuard<'_, Option<(PathBuf, Identity)>> {
        self.log.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How large the write-ahead log is; or what became of the file, where it is not in its place, as far as the system says.
    pub(crate) fn log_bytes(&self) -> Result<u64, Displaced> {
        match looked_at(&self.path) {
            Ok((found, _)) if found != self.file => return Err(Displaced::Replaced),
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(Displaced::Gone),
            _ => {}
        }
        let log = self.log();
        let Some((log, known)) = &*log else { return Ok(0) };
        match looked_at(log) {
            Ok((found, _)) if found != *known => Err(Displaced::WithoutLog),
            Ok((_, bytes)) => Ok(bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(Displaced::WithoutLog),
            Err(_) => Ok(0),
        }
    }

    /// For whoever cannot go on where it is not in its place.
    pub(super) fn require(&self) -> Result<(), Fault> {
        let displaced = |how| Fault { kind: FaultKind::Displaced(how), message: String::new() };
        self.log_bytes().map(drop).map_err(displaced)
    }

    /// How many transactions the log holds; `None` if it is not in its place. Other processes may have the file open, and add some.
    pub(crate) fn transactions(&self) -> Option<u64> {
        let log = self.log();
        let (log, known) = log.as_ref()?;
        identity(log).is_ok_and(|found| found == *known).then(|| transactions_in(log).ok()).flatten()
    }

    /// Takes the log of a file that is gone from the path, where it would be replayed over the file that is there now or comes next. It is removed if all of its
    /// transactions are `kept`, and otherwise becomes the companion of `aside`. The caller has closed the file.
    pub(crate) fn take_log_away(&self, kept: Option<u64>, aside: &Path) -> io::Result<()> {
        let Some(there) = self.transactions() else { return Ok(()) };
        let (log, aside) = (self.log(), with_companions(aside).nth(1));
        match (&*log, aside) {
            (Some((log, _)), _) if kept == Some(there) => fs::remove_file(log)?,
            (Some((log, _)), Some(aside)) => fs::rename(log, aside)?,
            _ => return Ok(()),
        }
        // The engine makes the shared memory anew from the log that is there.
        let _ = with_companions(&self.path).nth(2).map(fs::remove_file);
        beside::keep_names(&self.path)
    }
}
