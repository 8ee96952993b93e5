//! Keeping a file as it was before a step that loses something.

use crate::device::companions::{self, clear_away};
use crate::device::unfinished::WORD;
use crate::engine::{PAGE, PastEngine, RESERVED, copy_whole, known};
use crate::error::{Doing, Error};
use crate::file::new_file;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// Where a header counts changes, which says nothing about what is stored.
const COUNTERS: std::ops::Range<usize> = 24..100;

/// Copies the whole file to a place beside it, with `word` in its name. Returns the place.
///
/// The caller holds the lock to write, so nobody else makes a copy of this file meanwhile.
pub(super) fn keep(path: &Path, word: &str) -> Result<Backup, Error> {
    let doing = "cannot keep the file as it was before it is changed";
    let unfinished = companions::named(path, &format!("{WORD}-copy"), 1);
    // An upgrade that was killed may have left half a copy.
    clear_away(&unfinished);
    let place = copy_whole(path, &unfinished)
        .doing(|| doing)
        .and_then(|()| settle(path, &unfinished, word).map_err(|e| Error::device(doing, &e)));
    clear_away(&unfinished);
    place
}

/// A copy that was kept, removed when this is dropped unless what it was kept for was done.
pub(super) struct Backup {
    place: PathBuf,
    is_needed: bool,
}

impl Backup {
    /// What it was kept for was done; it stays. Returns its place.
    pub(super) fn stays(mut self) -> PathBuf {
        self.is_needed = true;
        self.place.clone()
    }
}

impl Drop for Backup {
    fn drop(&mut self) {
        if !self.is_needed {
            clear_away(&self.place);
        }
    }
}

/// Gives the finished copy its name; or finds the same copy there already, from an upgrade that was killed later on.
fn settle(path: &Path, copy: &Path, word: &str) -> io::Result<Backup> {
    for number in 1.. {
        let place = companions::named(path, word, number);
        if !place.exists() {
            // Another process may have kept another copy under this name since.
            if !new_file::placed(copy, &place)? {
                continue;
            }
            return Ok(Backup { place, is_needed: false });
        }
        let past_engine = PastEngine::begin(&place);
        if past_engine.is_some() && same_content(copy, &place)? {
            // It is not ours to remove: it may be kept from an upgrade that was done, whose file came back.
            return Ok(Backup { place, is_needed: true });
        }
    }
    Err(io::Error::other("every name for the copy is taken"))
}

fn same_content(a: &Path, b: &Path) -> io::Result<bool> {
    if fs::metadata(a)?.len() != fs::metadata(b)?.len() {
        return Ok(false);
    }
    // Encrypted, the same content has other bytes each time.
    let ciphers = [known(a), known(b)];
    let (mut a, mut b) = (fs::File::open(a)?, fs::File::open(b)?);
    let (mut left, mut right) = (vec![0; PAGE], vec![0; PAGE]);
    let mut is_first = true;
    for number in 1.. {
        let count = a.read(&mut left)?;
        b.read_exact(&mut right[..count])?;
        for (cipher, page) in ciphers.iter().zip([&mut left, &mut right]) {
            let Some(cipher) = cipher.as_ref().filter(|_| count > 0) else { continue };
            if !cipher.open(number, page) {
                return Ok(false);
            }
            page[PAGE - RESERVED..].fill(0);
        }
        if is_first && count >= COUNTERS.end {
            left[COUNTERS].fill(0);
            right[COUNTERS].fill(0);
        }
        is_first = false;
        if left[..count] != right[..count] {
            return Ok(false);
        }
        if count == 0 {
            break;
        }
    }
    Ok(true)
}
