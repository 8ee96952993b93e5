//! Finding the drawers in a folder.

use super::seems_encrypted::{SeemsEncrypted, seems_encrypted};
use crate::engine::{Opener, is_open_here};
use crate::error::{Cause, Error};
use crate::opening::resolved;
use crate::schema::about::APPLICATION_ID;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// How deep to look; deeper than any app's sandbox.
const DEPTH: usize = 12;

/// A database found in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundFile {
    /// Its path.
    pub path: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
    /// Whether it is a drawer; otherwise another program made it.
    pub is_drawer: bool,
}

/// The drawers, and other databases in the same format, in a folder and those below it, by path.
///
/// # Errors
/// When the folder cannot be read. What cannot be read below it is left out.
pub fn drawers_in(folder: impl AsRef<Path>) -> Result<Vec<FoundFile>, Error> {
    found_in(folder.as_ref(), &tell)
}

/// The files in a folder and those below it that seem to be encrypted, and whose key this process does not know, by path.
///
/// # Errors
/// As [`drawers_in`].
pub fn encrypted_in(folder: impl AsRef<Path>) -> Result<Vec<SeemsEncrypted>, Error> {
    let is_locked = |path: &PathBuf| Opener::new(path).header().is_ok_and(|header| header.is_none());
    found_in(folder.as_ref(), &|path| Some(path).filter(is_locked).and_then(|path| seems_encrypted(path).ok()?))
}

fn found_in<F>(folder: &Path, tell: &dyn Fn(PathBuf) -> Option<F>) -> Result<Vec<F>, Error> {
    let mut found = Vec::new();
    search(folder, DEPTH, tell, &mut found)
        .map_err(|e| Error::new(Cause::FileMissing, format!("cannot look into the folder: {e}")).in_file(folder))?;
    found.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(found.into_iter().map(|(_, found)| found).collect())
}

fn search<F>(
    folder: &Path,
    depth: usize,
    tell: &dyn Fn(PathBuf) -> Option<F>,
    found: &mut Vec<(PathBuf, F)>,
) -> io::Result<()> {
    for entry in fs::read_dir(folder)?.flatten() {
        let path = entry.path();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() && depth > 0 => drop(search(&path, depth - 1, tell, found)),
            Ok(kind) if kind.is_file() => found.extend(tell(path.clone()).map(|told| (path, told))),
            _ => {}
        }
    }
    Ok(())
}

fn tell(path: PathBuf) -> Option<FoundFile> {
    let bytes = fs::metadata(&path).ok()?.len();
    if resolved(&path).is_ok_and(|path| is_open_here(&path)) {
        return Some(FoundFile { path, bytes, is_drawer: true });
    }
    let header = Opener::new(&resolved(&path).unwrap_or_else(|_| path.clone())).header().ok()??;
    let is_drawer = i64::from(header.application) == APPLICATION_ID;
    Some(FoundFile { path, bytes, is_drawer })
}
