//! Finding the drawers in a folder.

use crate::about::APPLICATION_ID;
use crate::engine::{Opener, is_open_here};
use crate::error::{Cause, Error};
use crate::opening::resolved;
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
    let folder = folder.as_ref();
    let mut found = Vec::new();
    search(folder, DEPTH, &mut found)
        .map_err(|e| Error::new(Cause::FileMissing, format!("cannot look into the folder: {e}")).in_file(folder))?;
    found.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(found)
}

fn search(folder: &Path, depth: usize, found: &mut Vec<FoundFile>) -> io::Result<()> {
    for entry in fs::read_dir(folder)?.flatten() {
        let path = entry.path();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() && depth > 0 => drop(search(&path, depth - 1, found)),
            Ok(kind) if kind.is_file() => found.extend(tell(path)),
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
    let header = Opener::new(&path).header().ok()??;
    let is_drawer = i64::from(header.application) == APPLICATION_ID;
    Some(FoundFile { path, bytes, is_drawer })
}
