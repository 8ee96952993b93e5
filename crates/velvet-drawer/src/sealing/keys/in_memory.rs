//! A keeper of keys that forgets them with the process.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;
use velvet_core::sealing::SecretKey;
use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};

/// Keys that are gone with the process: for tests, and for drawers in memory, which have such a keeper unless given another.
#[derive(Clone, Default)]
pub struct KeysInMemory(Arc<Mutex<HashMap<String, SecretKey>>>);

impl KeyKeeper for KeysInMemory {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        Ok(self.0.lock().get(name).cloned())
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        self.0.lock().insert(name.to_owned(), key.clone());
        Ok(())
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        self.0.lock().remove(name);
        Ok(())
    }
}

impl fmt::Debug for KeysInMemory {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<String> = self.0.lock().keys().cloned().collect();
        f.debug_tuple("KeysInMemory").field(&names).finish()
    }
}
