//! A keeper of keys that tests can lock, break and wipe.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering::Relaxed};
use velvet_drawer::{KeyKeeper, KeyRefusal, KeysInMemory, SecretKey};

/// A keeper as a device's secure store is, which a test can lock, and whose keys it can take away or replace.
#[derive(Clone, Default)]
pub struct Store {
    keys: KeysInMemory,
    pub state: Arc<AtomicU8>,
}

pub const LOCKED: u8 = 1;
pub const BROKEN: u8 = 2;
pub const FORGETFUL: u8 = 3;
pub const OTHERS: u8 = 4;
pub const WIPED: u8 = 5;

impl KeyKeeper for Store {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        match self.state.load(Relaxed) {
            LOCKED => Err(KeyRefusal::Locked),
            BROKEN => Err(KeyRefusal::Failed("the chip does not answer".into())),
            OTHERS => Ok(Some(SecretKey::from_bytes([9; 32]))),
            WIPED => Ok(None),
            _ => self.keys.find(name),
        }
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        match self.state.load(Relaxed) {
            LOCKED => Err(KeyRefusal::Locked),
            FORGETFUL => Ok(()),
            _ => self.keys.keep(name, key),
        }
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        self.keys.forget(name)
    }
}
