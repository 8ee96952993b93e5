//! Which files this process has open through the engine.
//!
//! Closing any other handle to such a file drops the locks that the engine holds on it, so whoever reads a file past the engine asks
//! here first.

use super::FileCipher;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError};

/// How many connections this process has to each file, by its resolved path, and its key.
static OPEN: LazyLock<Mutex<HashMap<PathBuf, (usize, Key)>>> = LazyLock::new(Mutex::default);

type Key = Option<Arc<FileCipher>>;

fn open() -> MutexGuard<'static, HashMap<PathBuf, (usize, Key)>> {
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Whether this process has the file at this resolved path open, to write or to read beside a writer.
pub(crate) fn is_open_here(path: &Path) -> bool {
    open().contains_key(path)
}

/// With which key this process has the file open, if any; nothing where it does not have it open.
#[cfg(feature = "encryption")]
pub(super) fn open_with(path: &Path) -> Option<Key> {
    open().get(path).map(|(_, key)| key.clone())
}

/// Counts one connection to a file until it is dropped.
pub(super) struct OpenHere(PathBuf);

impl OpenHere {
    pub(super) fn new(path: &Path, key: &Key) -> OpenHere {
        open().entry(path.to_owned()).or_insert_with(|| (0, key.clone())).0 += 1;
        OpenHere(path.to_owned())
    }
}

impl Drop for OpenHere {
    fn drop(&mut self) {
        let mut open = open();
        match open.get_mut(&self.0) {
            Some((count, _)) if *count > 1 => *count -= 1,
            _ => drop(open.remove(&self.0)),
        }
    }
}
