//! Encrypting a file that is there, giving it another key, and going back.

use super::kept::kept;
use super::path::resolved;
use super::registry;
use crate::device::companions;
use crate::device::unfinished::Unfinished;
use crate::drawer::{Drawer, Later};
use crate::engine::{FileCipher, HeldFile, Opener, PastEngine, SALT};
use crate::error::{Cause, Doing, Error};
use crate::file::space;
use crate::schema::about::About;
use crate::sealing::encryption::{FileKey, is_empty, is_plain};
use crate::work::progress::{self, Progress};
use crate::work::ui_thread;
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

const DOING: &str = "cannot change the key of the file";

impl Drawer {
    /// Gives the file at `path` another key, in its place: encrypts a plain one, encrypts an encrypted one anew, or makes a plain one of it; with all copies that
    /// are kept beside it. What it holds stays as it is. Nobody may have it open meanwhile.
    ///
    /// The file is written anew beside itself and takes its own place when it is whole. A kill at any moment, or a full device, leaves the old file or the
    /// new one, never none and never half; it can be done again then. What stood in the old file is not overwritten on the device: flash memory
    /// keeps such blocks for a while, wherever they are.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, FileKey, KeysInMemory, Record, Schema};
    /// # #[derive(Record)] struct Client { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # let schema = || Schema::new("kilnbook").record::<Client>();
    /// # Drawer::open(&path, schema())?.close()?;
    /// let key = FileKey::kept_by(KeysInMemory::default());
    /// let drawer = match Drawer::options().encrypted(key.clone()).open(&path, schema()) {
    ///     Err(error) if error.is_not_encrypted() => {
    ///         Drawer::change_file_key(&path).to(&key).run()?;
    ///         Drawer::options().encrypted(key).open(&path, schema())?
    ///     }
    ///     opened => opened?,
    /// };
    /// # assert_eq!(drawer.count::<Client>()?, 0);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn change_file_key(path: impl Into<PathBuf>) -> FileKeyChange {
        FileKeyChange { path: path.into(), from: None, to: None }
    }
}

/// A change of the key of a file, of which it is still to be said from which key to which: see [`Drawer::change_file_key`].
#[derive(Clone, Debug)]
#[must_use = "nothing is changed until it is run"]
pub struct FileKeyChange {
    path: PathBuf,
    from: Option<FileKey>,
    to: Option<FileKey>,
}

/// What changing the key of a file did.
#[derive(Debug)]
#[non_exhaustive]
pub struct FileKeyChanged {
    /// The copies beside the file that have the new key too.
    pub copies: Vec<PathBuf>,
    /// The files beside it that were to have it, and are as they were.
    pub left: Vec<NotChanged>,
    from: Option<(FileKey, [u8; SALT])>,
}

/// A file beside the drawer that kept the key that it had, or none.
#[derive(Debug)]
pub struct NotChanged {
    /// Where it is.
    pub path: PathBuf,
    /// Why it was left as it was.
    pub why: Error,
}

impl FileKeyChange {
    /// The key that the file has; none is that of a plain file.
    pub fn from(mut self, key: &FileKey) -> FileKeyChange {
        self.from = Some(key.clone());
        self
    }

    /// The key that the file gets; none makes it a plain file. A keeper makes a new one, also where it has that of before.
    pub fn to(mut self, key: &FileKey) -> FileKeyChange {
        self.to = Some(key.clone());
        self
    }

    /// Does it. How far it has come is told by [`Progress::told`], and it ends where a [`Cancel`](crate::Cancel) asks it to.
    ///
    /// # Errors
    /// When the file is not there, or damaged; is not encrypted ([`Error::is_not_encrypted`]), or with another key ([`Error::is_wrong_key`]); the key is not
    /// there or cannot be kept; the file is open ([`Error::is_in_use`]); or the device has too little room ([`Error::is_no_space`]). The file is
    /// as it was then.
    pub fn run(self) -> Result<FileKeyChanged, Error> {
        let _waits = ui_thread::watched();
        let path = resolved(&self.path)?;
        let changed = registry::alone(&path, DOING, || {
            let mut made = None;
            let changed = self.of_all(&path, &mut made);
            if let (Err(_), Some(key), Some(made)) = (&changed, &self.to, made) {
                forget_unused(&path, key, &made);
            }
            changed
        });
        let changed = changed.doing(|| DOING);
        changed.map_err(|error| error.or_untouched("The file is as it was").in_file(&path))
    }

    /// As [`FileKeyChange::run`], on a thread of its own.
    pub fn in_background(self) -> Later<FileKeyChanged> {
        let path = self.path.clone();
        Later::begin_at(path, DOING, move |_| self.run())
    }

    fn of_all(&self, path: &Path, made: &mut Option<Arc<FileCipher>>) -> Result<FileKeyChanged, Error> {
        if is_empty(path) {
            let problem = "there is no file, or nothing in it";
            return Err(Error::bare(Cause::FileMissing, problem).advise("Check the path"));
        }
        let from = self.key_of(path)?;
        let to = self.to.as_ref().map(FileKey::of_new).transpose()?;
        made.clone_from(&to);
        let beside = kept(path);
        let mut changed = FileKeyChanged { copies: Vec::new(), left: Vec::new(), from: None };
        let parts = beside.len() + 1;
        // The file itself comes last: as long as it has the old key, all of it is done again.
        for (at, copy) in beside.into_iter().enumerate() {
            progress::tell_all(&Progress { doing: "a copy".into(), parts_done: at, parts, ..Progress::default() });
            let of = self.key_of(&copy.path);
            match of.and_then(|of| rewritten(&copy.path, of.as_ref(), to.as_ref())) {
                Ok(()) => changed.copies.push(copy.path),
                Err(error) if error.is_cancelled() || error.is_no_space() => return Err(error),
                Err(_) if self.is_done(&copy.path) => changed.copies.push(copy.path),
                Err(why) => changed.left.push(NotChanged { why: why.in_file(&copy.path), path: copy.path }),
            }
        }
        progress::tell_all(&Progress { doing: "the file".into(), parts_done: parts - 1, parts, ..Progress::default() });
        rewritten(path, from.as_ref(), to.as_ref())?;
        changed.from = self.from.clone().zip(from.map(|from| from.salt()));
        Ok(changed)
    }

    /// Whether a copy has the new key already, or none where it is to have none, because this was ended before it came to the file itself.
    fn is_done(&self, copy: &Path) -> bool {
        match &self.to {
            Some(to) => to.of_file(copy).is_ok(),
            None => Opener::new(copy).header().is_ok_and(|header| header.is_some()),
        }
    }

    /// The key that a file has, as far as it is to have one.
    fn key_of(&self, path: &Path) -> Result<Option<Arc<FileCipher>>, Error> {
        match &self.from {
            Some(key) => key.of_file(path).map(Some),
            None if is_plain(path) => Ok(None),
            None => {
                let problem =
                    "the file is no database, or an encrypted one, and not the plain one that it was said to be";
                let error = Error::bare(Cause::NotADatabase, problem);
                Err(error.advise("Where it is encrypted, give the key that it has by FileKeyChange::from"))
            }
        }
    }
}

impl FileKeyChanged {
    /// Has the key that the file had before forgotten, where a keeper has it. Whatever is left with that key, such as a copy elsewhere, cannot be read
    /// again.
    ///
    /// # Errors
    /// When the keeper refuses.
    pub fn forget_old_key(&self) -> Result<(), Error> {
        let Some((key, salt)) = &self.from else { return Ok(()) };
        key.forget(salt).doing(|| "cannot forget the old key of the file").untouched(|| "The file has its new key")
    }
}

/// Has a new key forgotten that no file got, because the change was refused.
fn forget_unused(path: &Path, key: &FileKey, made: &FileCipher) {
    let mut files = kept(path).into_iter().map(|copy| copy.path).chain([path.to_owned()]);
    let has_it = |file: PathBuf| {
        // Of one that cannot be read it is not known.
        PastEngine::begin(&file).is_none_or(|_held| {
            let mut start = [0; SALT];
            let read = fs::File::open(&file).and_then(|mut file| file.read_exact(&mut start));
            read.is_err() || start == made.salt()
        })
    };
    if !files.any(has_it) {
        // That it stays with its keeper does no harm.
        let _ = key.forget(&made.salt());
    }
}

/// Writes a file anew with another key, and puts it in its place.
pub(super) fn rewritten(
    path: &Path,
    of: Option<&Arc<FileCipher>>,
    with: Option<&Arc<FileCipher>>,
) -> Result<(), Error> {
    let device = |error: std::io::Error| Error::device(DOING, &error);
    let there = fs::metadata(path).map_err(device)?;
    let needed = there.len();
    space::require(path, needed + needed / 16, "rewriting the file", "Free some space and try again")?;
    let unfinished = Unfinished::of(path).map_err(device)?;
    let mut held = HeldFile::hold(path, of, unfinished.path(), with).map_err(|fault| in_use(fault.into()))?;
    held.write_anew()?;
    settled(unfinished.path(), with)?;
    // How old a copy is says how long it is kept.
    let written =
        there.modified().and_then(|at| fs::File::options().write(true).open(unfinished.path())?.set_modified(at));
    written.map_err(device)?;
    fs::rename(unfinished.path(), path).map_err(device)?;
    companions::keep_names(path)
        .map_err(|error| device(error).untouched("The file has its new key, which a loss of power may undo"))?;
    drop(held);
    Ok(())
}

/// Writing a file anew counts as a change of structure, which the next open would look into.
fn settled(unfinished: &Path, with: Option<&Arc<FileCipher>>) -> Result<(), Error> {
    let connection = Opener::new(unfinished).encrypted(with.cloned()).writer()?;
    if About::is_ours(&connection)? && About::fact(&connection, "structure_count")?.is_some() {
        About::same_after_all(&connection)?;
    }
    connection.leave_wal()?;
    Ok(connection.close()?)
}

fn in_use(error: Error) -> Error {
    if !error.is_locked() {
        return error;
    }
    Error::bare(Cause::InUse, "another process has it open").advise("Let it close the file first")
}
