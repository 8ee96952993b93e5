//! Temporary files, in the place that the app handed in, or the system's.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use tempfile::TempDir;

/// What the app handed in.
static HANDED_IN: OnceLock<PathBuf> = OnceLock::new();

/// Takes this folder for temporary files from now on.
pub(crate) fn hand_in(folder: &Path) {
    // Others were handed in before, which the caller says.
    let _ = HANDED_IN.set(folder.to_owned());
}

/// The folder that the app handed in, made where it is missing.
pub(crate) fn handed_in() -> Option<&'static Path> {
    let folder = HANDED_IN.get()?;
    fs::create_dir_all(folder).ok().map(|()| folder.as_path())
}

/// A folder that is removed when this is dropped.
///
/// # Errors
/// When there is no place for one, with the places that were tried.
pub(crate) fn folder() -> io::Result<TempDir> {
    let mut tried = Vec::new();
    let mut first = None;
    for place in HANDED_IN.get().cloned().into_iter().chain([std::env::temp_dir()]) {
        match fs::create_dir_all(&place).and_then(|()| tempfile::tempdir_in(&place)) {
            Ok(folder) => return Ok(folder),
            Err(error) => {
                tried.push(place.display().to_string());
                first.get_or_insert(error);
            }
        }
    }
    let error = first.unwrap_or_else(|| io::ErrorKind::NotFound.into());
    let why = format!("no folder for temporary files can be written, of {} ({error})", tried.join(" and "));
    Err(io::Error::new(error.kind(), why))
}
