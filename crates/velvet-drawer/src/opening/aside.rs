//! Setting a file aside: moved out of the way with all that belongs to it, never deleted.

use crate::device::companions::{self, with_companions};
use crate::engine::{Connection, FaultKind, Opener};
use crate::error::{Cause, Error};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Which files to set aside when they cannot be opened, and start afresh.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct SetAside {
    pub(super) other_structure: bool,
    pub(super) newer_version: bool,
    pub(super) unreadable: bool,
    pub(super) without_key: bool,
    pub(super) foreign_log: bool,
}

impl SetAside {
    /// Whether a file that cannot be opened for this reason is to be set aside.
    pub(super) fn covers(self, error: &Error) -> bool {
        (self.other_structure && error.is_other_structure())
            || (self.newer_version && error.is_newer_version())
            || (self.unreadable && (error.is_damaged() || error.is_not_a_database()))
    }
}

/// Moves the file and its companions to a new name beside it. Returns the new path.
pub(super) fn set_aside(path: &Path) -> Result<PathBuf, Error> {
    let doing = "cannot set the file aside";
    let held = alone_if_possible(path, doing)?.filter(|_| !cfg!(windows));
    let set_aside = set_aside_as(path, SetAsideAs::NewName).map_err(|e| {
        Error::device(doing, &e)
            .untouched("Nothing was deleted: its parts are under the old name, the new one, or both")
            .in_file(path)
    });
    drop(held);
    set_aside
}

/// Whether the old name goes away.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum SetAsideAs {
    /// The file is moved.
    NewName,
    /// The file is there under both names, or as a copy where the file system knows no second names.
    SecondName,
}

/// Gives the file and its companions a new name beside it, and returns that. The caller has seen to it that nobody has it open.
pub(super) fn set_aside_as(path: &Path, how: SetAsideAs) -> io::Result<PathBuf> {
    let place = companions::set_aside(path);
    match how {
        SetAsideAs::NewName => moved(path, &place)?,
        SetAsideAs::SecondName => {
            for (from, to) in with_companions(path).zip(with_companions(&place)).filter(|(from, _)| from.exists()) {
                fs::hard_link(&from, &to)
                    .or_else(|_| fs::copy(&from, &to).and_then(|_| fs::File::open(&to)?.sync_all()))?;
            }
            companions::keep_names(&place)?;
        }
    }
    Ok(place)
}

/// Merges the write-ahead log into the file, so that one file holds everything, and keeps others from it; a file that cannot be read stays as it is.
fn alone_if_possible(path: &Path, doing: &str) -> Result<Option<Connection>, Error> {
    let Ok(connection) = Opener::new(path).writer() else { return Ok(None) };
    match connection.alone() {
        Err(fault) if fault.kind == FaultKind::Locked => {
            Err(Error::new(Cause::InUse, format!("{doing}: another process has it open"))
                .untouched("The file was left where it is")
                .in_file(path))
        }
        connection => Ok(connection.ok()),
    }
}

/// Gives every part its new name before any loses its old one, so that a kill in between loses nothing.
fn moved(path: &Path, place: &Path) -> io::Result<()> {
    let parts: Vec<(PathBuf, PathBuf)> =
        with_companions(path).zip(with_companions(place)).filter(|(from, _)| from.exists()).collect();
    let linked = parts.iter().try_for_each(|(from, to)| fs::hard_link(from, to));
    if linked.is_ok() {
        companions::keep_names(place)?;
        // The main file goes first: the engine clears away companions that are left without it.
        parts.iter().try_for_each(|(from, _)| fs::remove_file(from))?;
    } else {
        // Not every file system has a second name for a file. Companions go first: they are what cannot be made again.
        parts.iter().rev().filter(|(from, _)| from.exists()).try_for_each(|(from, to)| fs::rename(from, to))?;
    }
    companions::keep_names(place)
}
