//! The key of the file that is opened, and a new file that is encrypted from its first byte.

use super::asked::{Asked, Looked};
use super::recognise::UNTOUCHED;
use super::why_not::not_opened;
use crate::device::companions;
use crate::device::unfinished::Unfinished;
use crate::engine::{Fault, FaultKind, FileCipher, Opener, hold_empty, is_open_here};
use crate::error::{Cause, Doing, Error};
use crate::file::new_file;
use crate::sealing::encryption::{FileKey, is_empty, is_plain};
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

/// How long to wait until looking again what another process does with an empty file.
const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(4);

/// What opens connections to the file, with its key where it is encrypted.
pub(super) struct Keyed(pub(super) Opener);

impl Asked {
    /// Finds the key of the file; where it is to be encrypted and nothing is there, a new file is made.
    pub(super) fn keyed(&self, path: &Path, looked: &Looked) -> Result<Keyed, Error> {
        let options = &self.options;
        let mut opener = self.opener(path);
        let key = options.file_key.as_ref().filter(|key| !(key.is_of_all() && is_plain(path)));
        if let Some(key) = key {
            let may_make = !options.read_only && looked.is_empty();
            let cipher = if may_make { made(key, path, options.settings.wait) } else { key.of_file(path) };
            let cipher = cipher.doing(|| "cannot open the drawer").map_err(|e| e.or_untouched(UNTOUCHED))?;
            opener.settings.cipher = Some(cipher);
        }
        Ok(Keyed(opener))
    }

    /// Sees that the key is that of the file which this process has open.
    pub(super) fn fits_open_file(&self, path: &Path) -> Result<(), Error> {
        let key = self.options.file_key.as_ref().filter(|key| !key.is_of_all());
        let Some(key) = key.filter(|_| is_open_here(path)) else { return Ok(()) };
        let found = key.of_file(path).map(drop).doing(|| "cannot open the drawer");
        found.untouched(|| "The open drawer is not affected").in_file(path)
    }

    /// Whether a file whose key was not found for this reason is to be set aside, because nobody has it.
    pub(super) fn gives_up_key(&self, path: &Path, error: &Error) -> bool {
        let key = self.options.file_key.as_ref().filter(|_| self.options.set_aside.without_key);
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
