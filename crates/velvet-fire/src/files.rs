//! Files of a trial: copies of folders, what stands beside a file, bytes that are changed.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// What stands beside a file and belongs to it, the file first.
pub(crate) const PARTS: [&str; 4] = ["", "-wal", "-shm", "-journal"];

/// A part of a file by its ending.
pub(crate) fn part(path: &Path, end: &str) -> PathBuf {
    PathBuf::from(format!("{}{end}", path.display()))
}

/// Copies a file and all that stands beside it, as a kill would leave it.
pub(crate) fn copy(from: &Path, to: &Path) -> io::Result<()> {
    for end in PARTS {
        let _ = fs::remove_file(part(to, end));
        if part(from, end).exists() {
            fs::copy(part(from, end), part(to, end))?;
        }
    }
    Ok(())
}

/// Removes a file and all that stands beside it.
pub(crate) fn remove(path: &Path) {
    PARTS.iter().for_each(|end| drop(fs::remove_file(part(path, end))));
}

/// A file as it stands: its name, its bytes, and when they were written.
pub(crate) type Standing = (String, Vec<u8>, Option<std::time::SystemTime>);

/// Everything in a folder, by name: bytes, and when they were written.
pub(crate) fn standing(folder: &Path) -> Vec<Standing> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut all: Vec<_> = entries
        .map(|entry| {
            let written = entry.metadata().and_then(|m| m.modified()).ok();
            (entry.file_name().to_string_lossy().into_owned(), fs::read(entry.path()).unwrap_or_default(), written)
        })
        .collect();
    all.sort();
    all
}

/// The names in a folder.
pub(crate) fn names(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut all: Vec<String> = entries.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    all.sort();
    all
}

/// Changes some bytes: bits, runs, pages that are swapped, cut or zeroed, numbers that are made extreme.
pub(crate) fn mutate(bytes: &mut Vec<u8>, chance: &mut fastrand::Rng) {
    const PAGE: usize = 4_096;
    for _ in 0..chance.usize(1..6) {
        if bytes.len() < 64 {
            return;
        }
        // The beginnings of pages, and of the file, say where everything is.
        let at = match chance.u32(..4) {
            0 => chance.usize(..bytes.len().min(100)),
            1 => (chance.usize(..bytes.len()) / PAGE * PAGE + chance.usize(..16)).min(bytes.len() - 1),
            2 => (chance.usize(..bytes.len()) / PAGE * PAGE + chance.usize(..200)).min(bytes.len() - 1),
            _ => chance.usize(..bytes.len()),
        };
        let end = (at + chance.usize(1..9)).min(bytes.len());
        match chance.u32(..9) {
            0..=2 => bytes[at] ^= 1 << chance.u32(..8),
            3 => bytes[at..end].fill(0xff),
            4 => bytes[at..end].fill(0),
            5 => bytes[at..end].iter_mut().for_each(|b| *b = chance.u8(..)),
            6 => {
                let pages = bytes.len() / PAGE;
                let (one, other) = (chance.usize(..pages.max(1)) * PAGE, chance.usize(..pages.max(1)) * PAGE);
                if one.max(other) + PAGE <= bytes.len() {
                    bytes.copy_within(one..one + PAGE, other);
                }
            }
            7 => {
                let page = at / PAGE * PAGE;
                let end = (page + PAGE).min(bytes.len());
                bytes[page..end].fill(0);
            }
            _ => bytes.truncate(at.max(1)),
        }
    }
}
