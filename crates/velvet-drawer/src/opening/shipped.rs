//! A filled file that ships with the app, copied to its place on the first start only.

use crate::engine::{Opener, copy_from};
use crate::error::{Cause, Doing, Error};
use crate::file::new_file;
use crate::sealing::encryption::FileKey;
use crate::work::cancel::Cancel;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A filled file that ships with the app.
#[derive(Clone, Debug)]
pub(super) enum Shipped {
    File(PathBuf),
    Bytes(&'static [u8]),
}

impl Shipped {
    /// Copies it to `path`, wholly or not at all. Says whether it did: another process may have been faster.
    pub(super) fn copy_to(&self, path: &Path, key: Option<&FileKey>) -> Result<bool, Error> {
        let doing = "cannot copy the file that ships with the app";
        let made = |unfinished: &Path| match self {
            Shipped::File(from) if !from.exists() => {
                Err(Error::new(Cause::FileMissing, format!("{doing}: {} does not exist", from.display())).advise(
                    "Check that the app's package holds it; testing::shipped_file_fits finds this before users do",
                ))
            }
            Shipped::File(from) => Opener::new(from)
                .traceless(&Cancel::default(), Duration::MAX)
                .and_then(|source| source.read(|c| copy_from(c, unfinished)))
                .doing(|| doing),
            Shipped::Bytes(bytes) => written(bytes, unfinished).map_err(|e| Error::device(doing, &e)),
        };
        new_file::make(path, doing, |unfinished| {
            made(unfinished)?;
            key.map_or(Ok(()), |key| encrypted(unfinished, key))
        })
    }
}

fn written(bytes: &[u8], to: &Path) -> io::Result<()> {
    let mut file = fs::File::create(to)?;
    file.write_all(bytes)?;
    file.sync_all()
}

/// Encrypts a file that nobody else knows of yet.
fn encrypted(path: &Path, key: &FileKey) -> Result<(), Error> {
    #[cfg(feature = "encryption")]
    return super::file_key_change::rewritten(path, crate::engine::known(path).as_ref(), Some(&key.of_new()?));
    #[cfg(not(feature = "encryption"))]
    key.of_file(path).map(drop)
}
