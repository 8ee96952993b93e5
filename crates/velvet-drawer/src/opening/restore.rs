//! Putting a copy in the place of a drawer's file, with what stood there set aside.

use super::aside::{self, SetAsideAs};
use super::kept::{KeptFor, kept};
use super::{path, registry};
use crate::device::companions::{self, with_companions};
use crate::device::unfinished::Unfinished;
#[cfg(feature = "encryption")]
use crate::engine::known;
use crate::engine::{Connection, Fault, FaultKind, Opener, copy_whole, is_open_here};
use crate::error::{Cause, Doing, Error};
use crate::schema::about::About;
use crate::sealing::note_copied_keys;
use std::fs;
use std::path::{Path, PathBuf};

const DOING: &str = "cannot restore the drawer";

/// Puts a copy of the file at `from` in the place of the one at `path`. Returns where that was set aside.
pub(crate) fn restore(path: &Path, from: &Path) -> Result<Option<PathBuf>, Error> {
    let path = path::prepared(path)?;
    registry::alone(&path, DOING, || restored(&path, from))
}

fn restored(path: &Path, from: &Path) -> Result<Option<PathBuf>, Error> {
    let untouched = |error: Error| error.untouched("The file was left as it was").in_file(path);
    let refuse =
        |cause, why: &str, advice: &str| Err(untouched(Error::new(cause, format!("{DOING}: {why}")).advise(advice)));
    if !from.is_file() {
        return refuse(
            Cause::FileMissing,
            "the copy does not exist",
            "Check its path; Drawer::kept_copies lists those beside a drawer",
        );
    }
    let from = path::resolved(from)?;
    if is_open_here(&from) {
        return refuse(Cause::InUse, "the copy is open in this process", "Drop or close its handles first");
    }
    if from == *path {
        return refuse(Cause::AlreadyThere, "the copy is the file itself", "Name another file");
    }
    let unfinished = Unfinished::of(path).map_err(|error| untouched(Error::device(DOING, &error)))?;
    made(&from, unfinished.path(), path).map_err(untouched)?;
    with_key_of(path, unfinished.path()).doing(|| DOING).map_err(untouched)?;
    note_copied_keys(unfinished.path()).doing(|| DOING).map_err(untouched)?;
    placed(unfinished.path(), path)
}

/// Gives the copy the key of the file that it is to replace, where that has one, so that whoever opened the one opens the other.
#[cfg_attr(not(feature = "encryption"), expect(unused_variables, reason = "no file has a key then"))]
fn with_key_of(path: &Path, copy: &Path) -> Result<(), Error> {
    #[cfg(feature = "encryption")]
    if let (Some(with), of) = (known(path), known(copy))
        && of.as_ref() != Some(&with)
    {
        return super::file_key_change::rewritten(copy, of.as_ref(), Some(&with));
    }
    Ok(())
}

/// Makes a complete copy at `unfinished`, and sees that it is a sound drawer of the same app.
fn made(from: &Path, unfinished: &Path, path: &Path) -> Result<(), Error> {
    let of = copied(from, unfinished, path).doing(|| format!("{DOING}: the copy at {}", from.display()))?;
    // What stands there may be damaged: that is what a copy is restored for.
    let there = if path.exists() { Opener::new(path).reader().and_then(|c| app(&c)).ok().flatten() } else { None };
    match (there, of) {
        (Some(there), Some(of)) if there != of => {
            let why = format!("{DOING}: the copy belongs to the app {of:?}, and the file to {there:?}");
            Err(Error::new(Cause::OtherApp, why))
        }
        _ => Ok(()),
    }
}

/// Copies the file, and says whose it is; nothing where that is a plain database, from before the library took it over.
fn copied(from: &Path, unfinished: &Path, path: &Path) -> Result<Option<String>, Error> {
    copy_whole(from, unfinished).map_err(|fault| {
        let is_shut = fault.kind == FaultKind::NotADatabase;
        let error = Error::from(fault);
        if !is_shut {
            return error;
        }
        error.advise("Check the path. If the copy is encrypted, unlock it first, and keep it unlocked until it is restored: FileKey::unlock")
    })?;
    let copy = Opener::new(unfinished).reader()?;
    let refuse = |cause, why: &str| Err(Error::new(cause, format!("{DOING}: the copy at {} is {why}", from.display())));
    let is_from_before = || kept(path).iter().any(|k| k.path == from && k.reason == KeptFor::Adoption);
    let of = app(&copy)?;
    if of.is_none() && !is_from_before() {
        return refuse(Cause::OtherApp, "no drawer");
    }
    if !copy.is_sound()? {
        return refuse(Cause::Damaged, "damaged");
    }
    copy.close()?;
    Ok(of)
}

/// The app that a drawer belongs to.
fn app(connection: &Connection) -> Result<Option<String>, Fault> {
    Ok(if About::is_ours(connection)? { About::read(connection)?.map(|about| about.app) } else { None })
}

/// Gives the finished copy the file's name. A kill leaves the one or the other there, never none.
pub(super) fn placed(unfinished: &Path, path: &Path) -> Result<Option<PathBuf>, Error> {
    let device = |error| Error::device(DOING, &error).untouched("The file was left as it was").in_file(path);
    if !path.exists() {
        fs::rename(unfinished, path).and_then(|()| companions::keep_names(path)).map_err(device)?;
        return Ok(None);
    }
    // Held until the other file is in its place, so that no other process begins to use this one.
    let held = match Opener::new(path).writer().and_then(Connection::alone) {
        Ok(connection) => Some(connection),
        Err(Fault { kind: FaultKind::Locked, .. }) => {
            let error = Error::new(Cause::InUse, format!("{DOING}: another process has it open"));
            return Err(error.untouched("The file was left as it was").in_file(path));
        }
        // It is damaged; nothing more can be made of it than to set it aside.
        Err(_) => None,
    };
    let aside = aside::set_aside_as(path, SetAsideAs::SecondName).map_err(device)?;
    // A write-ahead log that is left would be laid over the file that comes; what is in it stands beside the one that was set aside.
    for companion in with_companions(path).skip(1).filter(|p| p.exists()) {
        fs::remove_file(companion).map_err(device)?;
    }
    // Windows replaces no file that is open.
    let held = held.filter(|_| !cfg!(windows));
    fs::rename(unfinished, path).map_err(device)?;
    companions::keep_names(path).map_err(|error| {
        let what = format!(
            "The copy is in its place, which a loss of power may undo; what stood there is in {}",
            aside.display()
        );
        Error::device(DOING, &error).untouched(what).in_file(path)
    })?;
    drop(held);
    Ok(Some(aside))
}
