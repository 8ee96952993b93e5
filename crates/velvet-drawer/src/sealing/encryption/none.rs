//! What stands for [`encryption`](crate::sealing::encryption) where the engine has no ciphers: no file has a key.

use crate::engine::FileCipher;
use crate::error::Error;
use std::path::Path;
use std::sync::Arc;

/// Where the key of an encrypted file is had from, which is nowhere.
#[derive(Clone, Debug)]
pub(crate) enum FileKey {}

impl FileKey {
    pub(crate) fn of_file(&self, _: &Path) -> Result<Arc<FileCipher>, Error> {
        match *self {}
    }

    pub(crate) fn of_new(&self) -> Result<Arc<FileCipher>, Error> {
        match *self {}
    }

    pub(crate) fn is_unknown(&self, _: &Path) -> bool {
        match *self {}
    }

    pub(crate) fn is_of_all(&self) -> bool {
        match *self {}
    }

    pub(crate) fn forget(&self, _: &[u8; 16]) -> Result<(), Error> {
        match *self {}
    }

    pub(crate) fn of_file_in(&self, _: &[u8]) -> Result<Option<FileCipher>, Error> {
        match *self {}
    }
}

/// The key of all files, of which there is none.
pub(crate) fn of_all() -> Option<FileKey> {
    None
}

pub(crate) fn is_plain(_: &Path) -> bool {
    true
}

pub(crate) fn is_empty(_: &Path) -> bool {
    false
}
