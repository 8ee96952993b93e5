//! A filled file that ships with the app, copied to its place on the first start only.

use crate::beside;
use crate::engine::{Traceless, copy_from};
use crate::error::{Cause, Error};
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// A filled file that ships with the app.
#[derive(Clone, Debug)]
pub(super) enum Shipped {
    File(PathBuf),
    Bytes(&'static [u8]),
}

impl Shipped {
    /// Copies it to `path`, wholly or not at all. Says whether it did: another process may have been faster.
    pub(super) fn copy_to(&self, path: &Path) -> Result<bool, Error> {
        let doing = "cannot copy the file that ships with the app";
        let named = |error: Error| error.untouched("Nothing was created").in_file(path);
        let unfinished = beside::named(path, &format!("unfinished-{}", std::process::id()), 1);
        beside::clear_away(&unfinished);
        let copied = match self {
            Shipped::File(from) if !from.exists() => {
                Err(Error::new(Cause::NotThere, format!("{doing}: {} is not there", from.display())).advise(
                    "Check that the app's package holds it; testing::shipped_file_fits finds this before users do",
                ))
            }
            Shipped::File(from) => Traceless::open(from, super::is_open_here(from))
                .and_then(|source| source.read(|c| copy_from(c, &unfinished)))
                .map_err(|fault| Error::engine(doing, fault)),
            Shipped::Bytes(bytes) => written(bytes, &unfinished).map_err(|e| Error::device(doing, &e)),
        };
        let placed = copied.and_then(|()| placed(&unfinished, path).map_err(|e| Error::device(doing, &e)));
        beside::clear_away(&unfinished);
        placed.map_err(named)
    }
}

fn written(bytes: &[u8], to: &Path) -> io::Result<()> {
    let mut file = fs::File::create(to)?;
    file.write_all(bytes)?;
    file.sync_all()
}

/// Gives the finished copy its name, unless somebody else has it already.
fn placed(copy: &Path, path: &Path) -> io::Result<bool> {
    let done = match fs::hard_link(copy, path) {
        Ok(()) => true,
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => false,
        // Not every file system has a second name for a file.
        Err(_) if path.exists() => false,
        Err(_) => fs::rename(copy, path).map(|()| true)?,
    };
    beside::keep_names(path)?;
    Ok(done)
}
