//! Keeping a file as it was before a step that loses something.

use crate::engine::copy_whole;
use crate::error::Error;
use std::fs;
use std::path::{Path, PathBuf};

/// Copies the whole file to a place beside it, named after the version that it has. Returns the place.
pub(super) fn keep(path: &Path, version: u32) -> Result<PathBuf, Error> {
    let place = free_place(path, &format!("at-version-{version}"));
    let unfinished = free_place(path, "unfinished-copy");
    let doing = "cannot keep the file as it was before the upgrade";
    let copied = copy_whole(path, &unfinished)
        .map_err(|fault| Error::engine(doing, fault))
        .and_then(|()| fs::rename(&unfinished, &place).map_err(|e| Error::device(doing, &e)));
    if copied.is_err() {
        // What is left of the copy is of no use; that it cannot be removed changes nothing.
        let _ = fs::remove_file(&unfinished);
    }
    copied.map(|()| place)
}

/// A path beside the file, with `word` before its extension, that nothing has yet.
pub(crate) fn free_place(path: &Path, word: &str) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let extension = path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default();
    let numbered = |n: u32| match n {
        1 => path.with_file_name(format!("{stem}.{word}{extension}")),
        n => path.with_file_name(format!("{stem}.{word}-{n}{extension}")),
    };
    (1..).map(numbered).find(|p| !p.exists()).unwrap_or_else(|| numbered(u32::MAX))
}
