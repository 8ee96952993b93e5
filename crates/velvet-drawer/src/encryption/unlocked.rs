//! Telling whether a key is that of a file, and letting this process read the file with it.

use super::FileKey;
use crate::engine::{FileCipher, PAGE, SALT, is_open_here, known, learn, pages_of_log};
use crate::error::{Cause, Doing, Error};
use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;

/// What a plain file begins with.
const PLAIN: &[u8; SALT] = b"SQLite format 3\0";

/// How many pages to try a key on, beside the first.
const TRIED: u64 = 64;

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
        let mut file = match fs::File::open(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(Error::bare(Cause::FileMissing, "it is not there").advise("Check the path"));
            }
            file => file.map_err(|error| Error::device("cannot read the file", &error))?,
        };
        let device = |error: io::Error| Error::device("cannot read the file", &error);
        let length = file.metadata().map_err(device)?.len();
        let mut salt = [0; SALT];
        (&mut file).take(SALT as u64).read(&mut salt).map_err(device)?;
        if salt == *PLAIN {
            return Err(not_encrypted());
        }
        if length < PAGE as u64 {
            let problem = "the file is no database, and no encrypted one, which has at least 4,096 bytes";
            return Err(Error::bare(Cause::NotADatabase, problem).advise("Check the path"));
        }
        let cipher = self.of_salt(salt)?;
        if fits(&cipher, &mut file, length, path).map_err(device)? {
            return Ok(learn(cipher));
        }
        Err(wrong_key(length == PAGE as u64))
    }
}

impl FileKey {
    /// The bytes of a file as those of a plain one.
    pub(crate) fn opened(&self, bytes: &[u8]) -> Result<Vec<u8>, Error> {
        let mut bytes = bytes.to_vec();
        let Some(salt) = bytes.first_chunk().copied().filter(|salt| salt != PLAIN) else { return Ok(bytes) };
        let cipher = self.of_salt(salt)?;
        let pages = bytes.len() / PAGE;
        for (page, number) in bytes.chunks_mut(PAGE).zip(1..) {
            match cipher.open(number, page) {
                true => {}
                false if number == 1 => return Err(wrong_key(pages == 1)),
                false => return Err(Error::bare(Cause::Damaged, format!("page {number} of {pages} is damaged"))),
            }
        }
        Ok(bytes)
    }

    /// Whether a keeper says of the key of the file at `path` that there is none.
    pub(crate) fn is_unknown(&self, path: &Path) -> bool {
        let mut salt = [0; SALT];
        fs::File::open(path).and_then(|mut file| file.read_exact(&mut salt)).is_ok() && self.is_unknown_of(&salt)
    }
}

/// Whether nothing is at a path, or a file in which nothing is.
pub(crate) fn is_empty(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|file| file.len() == 0) || !path.exists()
}

/// Whether any page of the file, or of the log beside it, is written with this key. The first alone may be damaged.
fn fits(cipher: &FileCipher, file: &mut fs::File, length: u64, path: &Path) -> io::Result<bool> {
    let pages = length / PAGE as u64;
    let step = (pages / TRIED).max(1);
    let mut page = vec![0; PAGE];
    for at in (0..pages).step_by(usize::try_from(step).unwrap_or(usize::MAX)) {
        file.seek(SeekFrom::Start(at * PAGE as u64))?;
        file.read_exact(&mut page)?;
        if u32::try_from(at + 1).is_ok_and(|number| cipher.is_page(number, &page)) {
            return Ok(true);
        }
    }
    Ok(pages_of_log(path, TRIED as usize)?.iter().any(|(number, page)| cipher.is_page(*number, page)))
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
