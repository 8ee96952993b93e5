//! Where keys are kept: the device's secure store, which the app hands in.

use crate::sealing::SecretKey;
use std::fmt;
use std::sync::Arc;

/// Where the app keeps the keys of its drawers: a device's secure store, such as a key chain. The library makes the keys, asks for them by
/// their names, and never writes one to a file.
///
/// A name is made of the name of the app, an id of the file and a number; it says nothing secret, and is to be kept as it is. A store may be asked from any
/// thread.
pub trait KeyKeeper: Send + Sync + 'static {
    /// The key with this name; nothing where there is none.
    ///
    /// # Errors
    /// When the store cannot be asked now, or fails.
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal>;

    /// Keeps a key under a name. It must be safe when this returns: what is sealed with a key that is lost cannot be read again.
    ///
    /// # Errors
    /// As [`KeyKeeper::find`].
    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal>;

    /// Forgets a key, if it is there.
    ///
    /// # Errors
    /// As [`KeyKeeper::find`].
    fn forget(&self, name: &str) -> Result<(), KeyRefusal>;
}

impl<K: KeyKeeper + ?Sized> KeyKeeper for Arc<K> {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        (**self).find(name)
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        (**self).keep(name, key)
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        (**self).forget(name)
    }
}

/// Why a store of keys did not answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeyRefusal {
    /// It is locked, as while the device is; it will answer later.
    Locked,
    /// Something else, in words.
    Failed(String),
}

impl fmt::Display for KeyRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            KeyRefusal::Locked => f.write_str("it is locked"),
            KeyRefusal::Failed(why) => f.write_str(why),
        }
    }
}

impl std::error::Error for KeyRefusal {}
