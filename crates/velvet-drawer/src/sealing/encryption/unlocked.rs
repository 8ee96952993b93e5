//! Telling whether a key is that of a file, and letting this process read the file with it.

use super::FileKey;
use crate::engine::{FileCipher, PAGE, PastEngine, SALT, fits, is_open_here, known, learn};
use crate::error::{Cause, Doing, Error};
use std::fs;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;
use velvet_core::file::header::MAGIC;

/// As long as it is held, this process can work with an encrypted file, and with copies of it, where no key is handed over: look into it
/// ([`inspect`](crate::inspect)), restore it, remove it. Then the key is wiped from memory.
///
/// ```
/// # use velvet_drawer::{Drawer, FileKey, KeysInMemory, Record, Schema, inspect};
/// # #[derive(Record)] struct Client { name: String }
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("kiln.drawer");
/// # let schema = || Schema::new("kilnbook").record::<Client>();
/// # let key = FileKey::kept_by(KeysInMemory::default());
/// # Drawer::options().encrypted(key.clone()).open(&path, schema())?.close()?;
/// let unlocked = key.unlock(&path)?;
/// assert_eq!(inspect::File::open(&path)?.table_names()?, ["client"]);
/// drop(unlocked);
/// assert!(inspect::File::open(&path).is_err_and(|error| error.is_not_a_database()));
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[derive(Debug)]
#[must_use = "the file is locked again when this is dropped"]
pub struct Unlocked {
    _cipher: Arc<FileCipher>,
}

impl FileKey {
    /// Lets this process work with the encrypted file at `path` as long as what is returned is held.
    ///
    /// # Errors
    /// When the key is not there ([`Error::is_key_missing`], [`Error::is_key_locked`]) or another one ([`Error::is_wrong_key`]), and when the file is not
    /// encrypted ([`Error::is_not_encrypted`]) or cannot be read.
    pub fn unlock(&self, path: impl AsRef<Path>) -> Result<Unlocked, Error> {
        let path = path.as_ref();
        let path = &dunce::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let cipher = self.of_file(path).doing(|| "cannot unlock the file");
        Ok(Unlocked { _cipher: cipher.map_err(|e| e.or_untouched("The file was left untouched").in_file(path))? })
    }

    /// The key of the encrypted file at a resolved path, once it is certain that it is.
    pub(crate) fn of_file(&self, path: &Path) -> Result<Arc<FileCipher>, Error> {
        if is_open_here(path) {
            let Some(open) = known(path) else { return Err(not_encrypted()) };
            return if self.of_salt(open.salt())? == *open { Ok(open) } else { Err(wrong_key(false)) };
        }
        if !path.is_file() {
            return Err(Error::bare(Cause::FileMissing, "it does not exist, or is no file").advise("Check the path"));
        }
        let device = |error: io::Error| Error::device("cannot read the file", &error);
        let length = fs::metadata(path).map_err(device)?.len();
        let salt = start_of(path).map_err(device)?.unwrap_or_default();
        if salt == *MAGIC {
            return Err(not_encrypted());
        }
        if length < PAGE as u64 {
            return Err(too_short());
        }
        let cipher = self.of_salt(salt)?;
        if fits(&cipher, path).map_err(device)? {
            return Ok(learn(cipher));
        }
        Err(wrong_key(length == PAGE as u64))
    }
}

impl FileKey {
    /// The key of the file whose bytes these are; nothing where they are those of a plain one.
    pub(crate) fn of_file_in(&self, bytes: &[u8]) -> Result<Option<FileCipher>, Error> {
        let Some(salt) = bytes.first_chunk().copied().filter(|salt| salt != MAGIC) else { return Ok(None) };
        let Some(first) = bytes.get(..PAGE) else { return Err(too_short()) };
        let cipher = self.of_salt(salt)?;
        if cipher.is_page(1, first) { Ok(Some(cipher)) } else { Err(wrong_key(true)) }
    }

    /// Whether a keeper says of the key of the file at `path` that there is none.
    pub(crate) fn is_unknown(&self, path: &Path) -> bool {
        matches!(start_of(path), Ok(Some(salt)) if self.is_unknown_of(&salt))
    }
}

/// Whether nothing is at a path, or a file in which nothing is; the engine takes one byte for none.
pub(crate) fn is_empty(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|file| file.len() <= 1) || !path.exists()
}

/// Whether a plain file is at a path.
pub(crate) fn is_plain(path: &Path) -> bool {
    matches!(start_of(path), Ok(Some(start)) if start == *MAGIC)
}

/// The first bytes of the file at a path; `None` if it is shorter, or this process has it open.
fn start_of(path: &Path) -> io::Result<Option<[u8; SALT]>> {
    let Some(_past_engine) = PastEngine::begin(path) else { return Ok(None) };
    let mut start = [0; SALT];
    match fs::File::open(path)?.read_exact(&mut start) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(None),
        read => read.map(|()| Some(start)),
    }
}

#[cold]
fn too_short() -> Error {
    let problem = "the file is no database, or an encrypted one that was cut: it has less than a page of 4,096 bytes";
    Error::bare(Cause::NotADatabase, problem).advise("Check the path")
}

#[cold]
fn not_encrypted() -> Error {
    let problem = "the file is not encrypted, and a key was given for it";
    Error::bare(Cause::NotEncrypted, problem)
        .advise("Encrypt it with Drawer::change_file_key, or open it without a key")
}

#[cold]
fn wrong_key(has_one_page: bool) -> Error {
    let problem = if has_one_page {
        "the key does not open the one page that the file has: it is another key, or the file is damaged or no encrypted one, which cannot be told apart"
    } else {
        "the key opens no page of the file: it is another key, or the first 16 bytes of the file are damaged, or all of it, or it is no encrypted one, \
         which cannot be told apart"
    };
    Error::bare(Cause::WrongKey, problem).advise("Hand in the key with which the file was encrypted")
}
