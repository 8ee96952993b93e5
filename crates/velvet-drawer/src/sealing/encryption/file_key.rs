//! Where the key of an encrypted file is had from.

use super::PassPhrase;
use crate::engine::{FileCipher, SALT, key_of_all, learn};
use crate::error::{Cause, Error};
use crate::sealing::keys;
use std::fmt;
use std::sync::Arc;
use velvet_core::sealing::SecretKey;
use velvet_core::sealing::keys::KeyKeeper;
use velvet_core::value::hex::hex;

/// Where the key of an encrypted file is had from: the device's store of keys, a pass phrase, or the app itself.
///
/// ```
/// use velvet_drawer::{Drawer, FileKey, KeysInMemory, Record, Schema};
///
/// #[derive(Record)]
/// struct Client { name: String }
///
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("kiln.drawer");
/// # let schema = || Schema::new("kilnbook").record::<Client>();
/// // In an app, the device's own store of keys, behind a `KeyKeeper`.
/// let key = FileKey::kept_by(KeysInMemory::default());
/// let drawer = Drawer::options().encrypted(key.clone()).open(&path, schema())?;
/// drawer.insert(Client { name: "Ann".into() })?;
/// drawer.close()?;
///
/// assert!(Drawer::open(&path, schema()).unwrap_err().is_not_a_database());
/// let other = FileKey::kept_by(KeysInMemory::default());
/// assert!(Drawer::options().encrypted(other).open(&path, schema()).unwrap_err().is_key_missing());
/// assert_eq!(Drawer::options().encrypted(key).open(&path, schema())?.count::<Client>()?, 1);
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[derive(Clone)]
pub struct FileKey(KeyOrigin);

#[derive(Clone)]
enum KeyOrigin {
    Keeper(Arc<dyn KeyKeeper>),
    PassPhrase(PassPhrase),
    Given(SecretKey),
}

impl FileKey {
    /// Kept by the device's store of keys. Each file has a key of its own, made from the system's randomness when the file is, and kept before the file knows of
    /// it, under the name `file/` and the first 16 bytes of the file in hexadecimal.
    pub fn kept_by(keeper: impl KeyKeeper) -> FileKey {
        FileKey(KeyOrigin::Keeper(Arc::new(keeper)))
    }

    /// Made of what the user remembers, for each file another.
    pub fn of_pass_phrase(phrase: PassPhrase) -> FileKey {
        FileKey(KeyOrigin::PassPhrase(phrase))
    }

    /// The key itself. It must have been made by chance: nobody may be able to guess it.
    pub fn of_bytes(key: SecretKey) -> FileKey {
        FileKey(KeyOrigin::Given(key))
    }

    /// Whether it is the one that all files have, in tests.
    pub(crate) fn is_of_all(&self) -> bool {
        matches!(&self.0, KeyOrigin::Given(key) if key_of_all() == Some(key))
    }

    /// The key of a file with this salt.
    pub(super) fn of_salt(&self, salt: [u8; SALT]) -> Result<FileCipher, Error> {
        let key = match &self.0 {
            KeyOrigin::Keeper(keeper) => {
                let name = name(&salt);
                keys::found(&**keeper, &name)?.ok_or_else(|| {
                    let problem = format!(
                        "the key of the file is not there: its keeper knows none by the name {name:?}; or the file is no encrypted one, or its \
                         beginning is damaged, which cannot be told apart"
                    );
                    Error::bare(Cause::KeyMissing, problem).advise(
                        "If the keys were lost, as after a move to another device, nobody can read the file; Options::set_aside_without_key moves it away \
                         and starts afresh, Drawer::restore puts a copy in its place",
                    )
                })?
            }
            KeyOrigin::PassPhrase(phrase) => phrase.key(&salt)?,
            KeyOrigin::Given(key) => key.clone(),
        };
        Ok(FileCipher::new(key, salt))
    }

    /// The key of a file that is to be made; kept, where somebody keeps it.
    pub(crate) fn of_new(&self) -> Result<Arc<FileCipher>, Error> {
        let salt: [u8; SALT] = keys::random()?;
        let cipher = match &self.0 {
            KeyOrigin::Keeper(keeper) => FileCipher::new(keys::made(&**keeper, &name(&salt))?, salt),
            _ => self.of_salt(salt)?,
        };
        Ok(learn(cipher))
    }

    /// Whether a keeper says that there is no key of a file with this salt.
    pub(super) fn is_unknown_of(&self, salt: &[u8; SALT]) -> bool {
        matches!(&self.0, KeyOrigin::Keeper(keeper) if keeper.find(&name(salt)) == Ok(None))
    }

    /// Has the key of a file forgotten, where somebody keeps it.
    pub(crate) fn forget(&self, salt: &[u8; SALT]) -> Result<(), Error> {
        match &self.0 {
            KeyOrigin::Keeper(keeper) => keys::forgotten(&**keeper, &name(salt)),
            _ => Ok(()),
        }
    }
}

/// The key that all files have, in tests that say nothing of keys.
pub(crate) fn of_all() -> Option<FileKey> {
    key_of_all().cloned().map(FileKey::of_bytes)
}

/// The name by which a keeper knows the key of a file.
fn name(salt: &[u8; SALT]) -> String {
    format!("file/{}", hex(salt))
}

impl fmt::Debug for FileKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match &self.0 {
            KeyOrigin::Keeper(_) => "FileKey(kept)",
            KeyOrigin::PassPhrase(_) => "FileKey(of a pass phrase)",
            KeyOrigin::Given(_) => "FileKey(…)",
        })
    }
}
