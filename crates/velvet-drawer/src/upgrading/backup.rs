//! Keeping a file as it was before a step that loses something.

use crate::engine::{COMPANIONS, copy_whole};
use crate::error::Error;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// Where a header counts changes, which says nothing about what is stored.
const COUNTERS: std::ops::Range<usize> = 24..100;

/// Copies the whole file to a place beside it, named after the version that it has. Returns the place.
///
/// The caller holds the lock to write, so nobody else makes a copy of this file meanwhile.
pub(super) fn keep(path: &Path, version: u32) -> Result<PathBuf, Error> {
    let doing = "cannot keep the file as it was before the upgrade";
    let unfinished = beside(path, "unfinished-copy", 1);
    // An upgrade that was killed may have left half a copy.
    remove(&unfinished);
    let place = copy_whole(path, &unfinished).map_err(|fault| Error::engine(doing, fault)).and_then(|()| {
        settle(path, &unfinished, &format!("at-version-{version}")).map_err(|e| Error::device(doing, &e))
    });
    remove(&unfinished);
    place
}

/// Gives the finished copy its name; or finds the same copy there already, from an upgrade that was killed later on.
fn settle(path: &Path, copy: &Path, word: &str) -> io::Result<PathBuf> {
    for number in 1.. {
        let place = beside(path, word, number);
        if !place.exists() {
            fs::rename(copy, &place)?;
            return Ok(place);
        }
        if same_content(copy, &place)? {
            return Ok(place);
        }
    }
    Err(io::Error::other("every name for the copy is taken"))
}

fn same_content(a: &Path, b: &Path) -> io::Result<bool> {
    if fs::metadata(a)?.len() != fs::metadata(b)?.len() {
        return Ok(false);
    }
    let (mut a, mut b) = (fs::File::open(a)?, fs::File::open(b)?);
    let (mut left, mut right) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    let mut is_first = true;
    loop {
        let count = a.read(&mut left)?;
        b.read_exact(&mut right[..count])?;
        if is_first && count >= COUNTERS.end {
            left[COUNTERS].fill(0);
            right[COUNTERS].fill(0);
        }
        is_first = false;
        if left[..count] != right[..count] {
            return Ok(false);
        }
        if count == 0 {
            return Ok(true);
        }
    }
}

/// Removes a copy that is of no use; that it is not there, or stays, changes nothing.
fn remove(copy: &Path) {
    for end in [""].into_iter().chain(COMPANIONS) {
        let mut path = copy.as_os_str().to_owned();
        path.push(end);
        let _ = fs::remove_file(path);
    }
}

/// The path beside a file with `word` before its extension, and a number behind it from the second on.
fn beside(path: &Path, word: &str, number: u32) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let extension = path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default();
    let number = if number == 1 { String::new() } else { format!("-{number}") };
    path.with_file_name(format!("{stem}.{word}{number}{extension}"))
}
