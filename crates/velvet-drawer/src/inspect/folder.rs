//! Finding the drawers in a folder.

use crate::error::{Cause, Error};
use crate::opening::{APPLICATION_ID, is_open_here, resolved};
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// How deep to look; deeper than any app's sandbox.
const DEPTH: usize = 12;

/// What every database in the open format begins with.
const MAGIC: &[u8; 16] = b"SQLite format 3\0";

/// Where the header has the application id.
const APPLICATION_AT: std::ops::Range<usize> = 68..72;

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
        .map_err(|e| Error::new(Cause::NotThere, format!("cannot look into the folder: {e}")).in_file(folder))?;
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
    // A handle of our own on an open file would, when closed, drop the engine's locks.
    if resolved(&path).is_ok_and(|path| is_open_here(&path)) {
        return Some(FoundFile { path, bytes, is_drawer: true });
    }
    let mut header = [0; 100];
    fs::File::open(&path).and_then(|mut file| file.read_exact(&mut header)).ok()?;
    let application: [u8; 4] = header[APPLICATION_AT].try_into().ok()?;
    let is_drawer = i64::from(u32::from_be_bytes(application)) == APPLICATION_ID;
    header.starts_with(MAGIC).then_some(FoundFile { path, bytes, is_drawer })
}
