//! The key of the file that is opened, and a new file that is encrypted from its first byte.

use super::options::Options;
use super::recognise::UNTOUCHED;
use super::why_not::not_opened;
use crate::device::companions;
use crate::device::unfinished::Unfinished;
use crate::engine::{Connection, Fault, FaultKind, FileCipher, Opener, fits_its_log, hold_empty, is_open_here};
use crate::error::{Cause, Doing, Error};
use crate::file::new_file;
use crate::sealing::encryption::{FileKey, is_empty};
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

/// How long to wait until looking again what another process does with an empty file.
const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(4);

impl Options {
    /// A connection that writes, with the key of the file; where there is no file, a new one is made.
    pub(super) fn first_writer(&mut self, path: &Path) -> Result<Result<Connection, Fault>, Error> {
        if self.file_key.is_some() && is_empty(path) {
            // A log that is left there would be laid over the new file.
            if let Err(fault) = fits_its_log(path) {
                return Ok(Err(fault));
            }
        }
        self.find_key(path)?;
        Ok(self.opener(path).new_writer())
    }

    /// Finds the key of the file, where it is to be encrypted.
    pub(super) fn find_key(&mut self, path: &Path) -> Result<(), Error> {
        let Some(key) = &self.file_key else { return Ok(()) };
        if key.is_of_all() && crate::sealing::encryption::is_plain(path) {
            return Ok(());
        }
        let may_make = !self.read_only && is_empty(path);
        let cipher = if may_make { made(key, path, self.settings.wait) } else { key.of_file(path) };
        self.settings.cipher = Some(cipher.doing(|| "cannot open the drawer").map_err(|e| e.or_untouched(UNTOUCHED))?);
        Ok(())
    }

    /// Sees that the key is that of the file which this process has open.
    pub(super) fn fits_open_file(&self, path: &Path) -> Result<(), Error> {
        let Some(key) = self.file_key.as_ref().filter(|key| is_open_here(path) && !key.is_of_all()) else {
            return Ok(());
        };
        let found = key.of_file(path).map(drop).doing(|| "cannot open the drawer");
        found.untouched(|| "The open drawer is not affected").in_file(path)
    }

    /// Whether a file that cannot be opened for this reason is to be set aside, because nobody has its key.
    pub(super) fn lacks_key(&self, path: &Path, error: &Error) -> bool {
        let key = self.file_key.as_ref().filter(|_| self.set_aside.without_key && self.settings.cipher.is_none());
        key.is_some_and(|key| error.is_wrong_key() || (error.is_key_missing() && key.is_unknown(path)))
    }
}

/// Makes an encrypted file in which nothing is yet; or finds the key of the one that another process made meanwhile.
fn made(key: &FileKey, path: &Path, wait: Duration) -> Result<Arc<FileCipher>, Error> {
    let cipher = key.of_new()?;
    let create = |unfinished: &Path| {
        let opener = Opener::new(unfinished).encrypted(Some(Arc::clone(&cipher)));
        let connection = opener.new_writer().map_err(|fault| not_opened(fault, unfinished))?;
        connection.set_version(0)?;
        Ok(connection.close()?)
    };
    let is_made = match path.exists() {
        true => in_place_of_empty(path, wait, create),
        false => new_file::make(path, "cannot create the file", create),
    };
    let is_made = is_made.map_err(|error| match error.is_read_only() {
        true => Fault { kind: FaultKind::ReadOnly, message: error.to_string() }.into(),
        false => error,
    });
    if is_made? {
        return Ok(cipher);
    }
    // That it stays with its keeper does no harm.
    let _ = key.forget(&cipher.salt());
    key.of_file(path)
}

/// Puts what `create` makes in the place of an empty file. Says whether it did.
fn in_place_of_empty(path: &Path, wait: Duration, create: impl Fn(&Path) -> Result<(), Error>) -> Result<bool, Error> {
    let device = |error: std::io::Error| Error::device("cannot create the file", &error);
    let unfinished = Unfinished::of(path).map_err(device)?;
    create(unfinished.path())?;
    let deadline = Instant::now() + wait;
    while is_empty(path) {
        let placed = || fs::rename(unfinished.path(), path).and_then(|()| companions::keep_names(path));
        if let Some(placed) = hold_empty(path, placed)? {
            return placed.map(|()| true).map_err(device);
        }
        if Instant::now() > deadline {
            return Err(
                Error::bare(Cause::Locked, "another program holds the empty file").advise("Try again when it is done")
            );
        }
        thread::sleep(BETWEEN_ATTEMPTS);
    }
    Ok(false)
}
