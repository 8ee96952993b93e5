//! Removing a drawer from the device.

use super::kept::{kept, unfinished};
use super::{registry, resolved};
use crate::device::companions::with_companions;
use crate::engine::{Connection, FaultKind, Opener, is_open_here};
use crate::error::{Cause, Doing, Error};
use crate::schema::about::About;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// What becomes of the copies beside a drawer that is removed.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Copies {
    Go,
    Stay,
}

/// Removes the drawer at `path`, its companions, and what is kept of it beside it. Says whether there was any of it.
pub(crate) fn remove_from_device(path: &Path, copies: Copies) -> Result<bool, Error> {
    let Ok(path) = resolved(path) else { return Ok(false) };
    if path.is_dir() {
        let error = Error::new(Cause::FileMissing, "cannot remove the drawer: the path is a folder");
        return Err(error.untouched("Nothing was removed").in_file(&path));
    }
    registry::alone(&path, "cannot remove the drawer", || removed(&path, copies))
        .map_err(|error| if error.is_in_use() { error.untouched("Nothing was removed") } else { error })
}

fn removed(path: &Path, copies: Copies) -> Result<bool, Error> {
    let mut all: Vec<PathBuf> =
        if with_companions(path).any(|p| p.exists()) { vec![path.to_owned()] } else { Vec::new() };
    if copies == Copies::Go {
        all.extend(kept(path).into_iter().map(|copy| copy.path).chain(unfinished(path)));
    }
    if all.is_empty() {
        return Ok(false);
    }
    let doing = "cannot remove the drawer";
    let refuse = |cause, why: &str| {
        Err(Error::new(cause, format!("{doing}: {why}")).untouched("Nothing was removed").in_file(path))
    };
    if let Some(open) = all.iter().find(|p| is_open_here(p)) {
        let which = if *open == path { "it".into() } else { format!("the copy {}", open.display()) };
        return refuse(Cause::InUse, &format!("{which} is open in this process; drop or close its handles first"));
    }
    // Held until it is gone, so that no other process begins to use it.
    let held = if path.exists() { alone_with(path, doing)? } else { None };
    let held = held.filter(|_| !cfg!(windows));
    // The main file goes first: companions without it mean nothing, and the engine clears them away.
    let removed = |path: PathBuf| match fs::remove_file(&path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(Error::new(Cause::Device, format!("{doing}: {error}"))
                .untouched("Some of its files may be left")
                .in_file(&path))
        }
        _ => Ok(()),
    };
    all.iter().flat_map(|path| with_companions(path)).try_for_each(removed)?;
    drop(held);
    Ok(true)
}

/// Keeps everybody from the file; `None` if it is of no use.
fn alone_with(path: &Path, doing: &str) -> Result<Option<Connection>, Error> {
    let alone = || {
        let connection = match Opener::new(path).relaxed().writer() {
            // It is of no use, and goes with the file.
            Err(fault) if fault.kind == FaultKind::ForeignLog => return Ok(None),
            connection => connection?,
        };
        if !About::is_ours(&connection)? {
            return Err(Error::bare(Cause::OtherApp, "the file is not a drawer"));
        }
        match connection.alone() {
            Err(fault) if fault.kind == FaultKind::Locked => {
                Err(Error::bare(Cause::InUse, "another process has it open"))
            }
            connection => Ok(Some(connection?)),
        }
    };
    alone().doing(|| doing).untouched(|| "Nothing was removed").in_file(path)
}
