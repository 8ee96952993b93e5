//! A stand-in for a phone's key store: secrets by name, outside the app's own folders.

use std::fs;
use std::io;
use std::path::PathBuf;
use uuid::Uuid;

/// How many bytes a secret has.
const SECRET: usize = 32;

/// A simulated key store. It keeps secrets in plain files: enough to test with, and no more.
#[derive(Clone, Debug)]
pub struct KeyStore {
    folder: PathBuf,
}

impl KeyStore {
    pub(crate) fn at(folder: PathBuf) -> KeyStore {
        KeyStore { folder }
    }

    /// The secret with this name; made when it is asked for first.
    ///
    /// # Errors
    /// When it cannot be read or written, or the name is not made of letters, digits and `-`.
    pub fn secret(&self, name: &str) -> io::Result<[u8; SECRET]> {
        let path = self.path(name)?;
        match fs::read(&path) {
            Ok(bytes) => {
                bytes.try_into().map_err(|_| io::Error::other("the key store holds a secret of another length"))
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                fs::create_dir_all(&self.folder)?;
                let mut secret = [0; SECRET];
                secret[..16].copy_from_slice(Uuid::new_v4().as_bytes());
                secret[16..].copy_from_slice(Uuid::new_v4().as_bytes());
                fs::write(path, secret)?;
                Ok(secret)
            }
            Err(error) => Err(error),
        }
    }

    /// Forgets a secret, as when the phone is reset. What was encrypted with it cannot be read again.
    ///
    /// # Errors
    /// When it is not there.
    pub fn forget(&self, name: &str) -> io::Result<()> {
        fs::remove_file(self.path(name)?)
    }

    fn path(&self, name: &str) -> io::Result<PathBuf> {
        if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, format!("{name:?} is no name for a secret")));
        }
        Ok(self.folder.join(name))
    }
}
