//! What stands for [`ciphers`](super::ciphers) where the engine has none: no file is encrypted.

use super::{Connection, Fault};
use std::io;
use std::path::Path;
use std::sync::Arc;

/// The key of an encrypted file, of which there is none.
#[derive(Debug)]
pub(crate) enum FileCipher {}

pub(crate) const PAGE: usize = 4096;

pub(crate) const RESERVED: usize = 80;

impl FileCipher {
    pub(crate) fn salt(&self) -> [u8; 16] {
        match *self {}
    }

    pub(crate) fn open_unproven(&self, _: u32, _: &mut [u8]) {
        match *self {}
    }

    pub(crate) fn open(&self, _: u32, _: &mut [u8]) -> bool {
        match *self {}
    }
}

pub(crate) fn known(_: &Path) -> Option<Arc<FileCipher>> {
    None
}

pub(crate) fn pour_encrypted(_: &[u8], cipher: FileCipher, _: &mut Connection) -> Result<(), Fault> {
    match cipher {}
}

pub(super) fn close(cipher: &FileCipher, _: u32, _: &mut [u8; PAGE]) -> io::Result<()> {
    match *cipher {}
}

pub(super) fn give_key(_: &rusqlite::Connection, cipher: &FileCipher) -> Result<(), Fault> {
    match *cipher {}
}
