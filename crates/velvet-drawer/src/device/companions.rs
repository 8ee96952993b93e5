//! Files beside a drawer's file, and the names of new ones.

use jiff::Timestamp;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

pub(crate) use velvet_core::file::wal::COMPANIONS;

/// The path beside a file with `word` before its extension, and a number behind it from the second on.
pub(crate) fn named(path: &Path, word: &str, number: u32) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let extension = path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default();
    let number = if number == 1 { String::new() } else { format!("-{number}") };
    path.with_file_name(format!("{stem}.{word}{number}{extension}"))
}

/// A free name beside a file for what is set aside of it now.
pub(crate) fn set_aside(path: &Path) -> PathBuf {
    let word = format!("set-aside-{}", Timestamp::now().strftime("%Y-%m-%dT%H-%M-%SZ"));
    let free = |place: &PathBuf| !with_companions(place).any(|p| p.exists());
    (1..).map(|n| named(path, &word, n)).find(free).unwrap_or_else(|| named(path, &word, 0))
}

/// The files next to the one at a path that were set aside.
pub(crate) fn all_set_aside(path: &Path) -> Vec<PathBuf> {
    let begins = format!("{}.set-aside-", path.file_stem().unwrap_or_default().to_string_lossy());
    let Some(Ok(entries)) = path.parent().map(fs::read_dir) else { return Vec::new() };
    let is_one = |name: &str| name.starts_with(&begins) && !COMPANIONS.iter().any(|end| name.ends_with(end));
    entries.flatten().filter(|entry| is_one(&entry.file_name().to_string_lossy())).map(|entry| entry.path()).collect()
}

/// The name of a write-ahead log that is kept with the file that was set aside at a path. It is not that of a companion: nobody replays it by opening the file.
pub(crate) fn log_of(set_aside: &Path) -> PathBuf {
    (1..).map(|n| named(set_aside, LOG, n)).find(|place| !place.exists()).unwrap_or_else(|| named(set_aside, LOG, 0))
}

/// The word in such a name.
pub(crate) const LOG: &str = "log";

/// A file and the companions that may stand beside it.
pub(crate) fn with_companions(path: &Path) -> impl Iterator<Item = PathBuf> + '_ {
    [""].into_iter().chain(COMPANIONS).map(|end| {
        let mut name = path.as_os_str().to_owned();
        name.push(end);
        name.into()
    })
}

/// Removes a copy that is of no use, and its companions; that it is not there, or stays, changes nothing.
pub(crate) fn clear_away(copy: &Path) {
    for path in with_companions(copy) {
        let _ = fs::remove_file(path);
    }
}

/// Sees to it that what was done to the names in a file's folder is on the device.
pub(crate) fn keep_names(path: &Path) -> io::Result<()> {
    match path.parent() {
        Some(folder) if cfg!(unix) => fs::File::open(folder)?.sync_all(),
        _ => Ok(()),
    }
}
