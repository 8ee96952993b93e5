//! A stand-in for a phone's key store: keys by name, outside the app's own folders.

use std::fs;
use std::io::{self, Write};
use std::path::PathBuf;
use velvet_core::sealing::SecretKey;
use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};

/// While a file of this name is there, the store is locked.
const LOCKED: &str = "locked";

/// A simulated key store, which all processes of an app see. It keeps keys in plain files: enough to test with, and no more.
#[derive(Clone, Debug)]
pub struct KeyStore {
    folder: PathBuf,
}

impl KeyStore {
    pub(crate) fn at(folder: PathBuf) -> KeyStore {
        KeyStore { folder }
    }

    /// Locks it, as the phone does while nobody uses it.
    ///
    /// # Errors
    /// When its folder cannot be written.
    pub fn lock(&self) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        fs::write(self.folder.join(LOCKED), "")
    }

    /// Unlocks it.
    ///
    /// # Errors
    /// When it is not locked.
    pub fn unlock(&self) -> io::Result<()> {
        fs::remove_file(self.folder.join(LOCKED))
    }

    /// Forgets all keys, as when the phone is reset.
    ///
    /// # Errors
    /// When its folder cannot be removed.
    pub fn wipe(&self) -> io::Result<()> {
        if self.folder.exists() { fs::remove_dir_all(&self.folder) } else { Ok(()) }
    }

    fn path(&self, name: &str) -> Result<PathBuf, KeyRefusal> {
        if self.folder.join(LOCKED).exists() {
            return Err(KeyRefusal::Locked);
        }
        let hex: String = name.bytes().map(|byte| format!("{byte:02x}")).collect();
        Ok(self.folder.join(format!("{hex}.key")))
    }
}

impl KeyKeeper for KeyStore {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        match fs::read(self.path(name)?) {
            Ok(bytes) => match bytes.try_into() {
                Ok(bytes) => Ok(Some(SecretKey::from_bytes(bytes))),
                Err(_) => Err(KeyRefusal::Failed("it holds a key of another length".to_owned())),
            },
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(KeyRefusal::Failed(error.to_string())),
        }
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        let path = self.path(name)?;
        let write = || {
            fs::create_dir_all(&self.folder)?;
            let mut file = fs::File::create(&path)?;
            file.write_all(key.expose())?;
            file.sync_all()
        };
        write().map_err(|error| KeyRefusal::Failed(error.to_string()))
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        match fs::remove_file(self.path(name)?) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(KeyRefusal::Failed(error.to_string())),
            _ => Ok(()),
        }
    }
}
