//! Putting a copy in the place of a drawer's file, with what stood there set aside.

use super::aside::{self, SetAsideAs};
use super::kept::{KeptFor, kept};
use super::{APPLICATION_ID, About, is_open_here, path};
use crate::beside::{self, with_companions};
use crate::engine::{Connection, Fault, FaultKind, Settings, copy_whole};
use crate::error::{Cause, Error};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

const DOING: &str = "cannot restore the drawer";

/// Puts a copy of the file at `from` in the place of the one at `path`. Returns where that was set aside.
pub(crate) fn restore(path: &Path, from: &Path) -> Result<Option<PathBuf>, Error> {
    let path = path::prepared(path)?;
    let untouched = |error: Error| error.untouched("The file was left as it was").in_file(&path);
    let refuse =
        |cause, why: &str, advice: &str| Err(untouched(Error::new(cause, format!("{DOING}: {why}")).advise(advice)));
    if !from.is_file() {
        return refuse(
            Cause::NotThere,
            "the copy is not there",
            "Check its path; Drawer::kept_copies lists those beside a drawer",
        );
    }
    let from = path::resolved(from)?;
    for (file, which) in [(&path, "it"), (&from, "the copy")] {
        if is_open_here(file) {
            return refuse(
                Cause::InUse,
                &format!("{which} is open in this process"),
                "Drop or close its handles first",
            );
        }
    }
    if from == path {
        return refuse(Cause::AlreadyThere, "the copy is the file itself", "Name another file");
    }
    let unfinished = beside::named(&path, &format!("unfinished-{}", std::process::id()), 1);
    beside::clear_away(&unfinished);
    let restored = made(&from, &unfinished, &path).map_err(untouched).and_then(|()| placed(&unfinished, &path));
    beside::clear_away(&unfinished);
    restored
}

/// Makes a complete copy at `unfinished`, and sees that it is a sound drawer of the same app.
fn made(from: &Path, unfinished: &Path, path: &Path) -> Result<(), Error> {
    let of_copy = |fault: Fault| Error::engine(&format!("{DOING}: the copy at {}", from.display()), fault);
    copy_whole(from, unfinished).map_err(of_copy)?;
    let copy = Connection::reader(unfinished, &settings()).map_err(of_copy)?;
    let app = |connection: &Connection| -> Result<Option<String>, Fault> {
        let is_drawer = connection.number("PRAGMA application_id")? == APPLICATION_ID;
        Ok(if is_drawer { About::read(connection)?.map(|about| about.app) } else { None })
    };
    let refuse = |cause, why: String| Err(Error::new(cause, format!("{DOING}: {why}")));
    // What was kept before the library took a file over is a plain database.
    let is_from_before = || kept(path).iter().any(|k| k.path == from && k.reason == KeptFor::Adoption);
    let of = app(&copy).map_err(of_copy)?;
    if of.is_none() && !is_from_before() {
        return refuse(Cause::OtherApp, format!("the copy at {} is no drawer", from.display()));
    }
    if !copy.is_sound().map_err(of_copy)? {
        return refuse(Cause::Damaged, format!("the copy at {} is damaged", from.display()));
    }
    copy.close().map_err(of_copy)?;
    // What stands there may be damaged: that is what a copy is restored for.
    let there =
        if path.exists() { Connection::reader(path, &settings()).and_then(|c| app(&c)).ok().flatten() } else { None };
    match (there, of) {
        (Some(there), Some(of)) if there != of => {
            refuse(Cause::OtherApp, format!("the copy belongs to the app {of:?}, and the file to {there:?}"))
        }
        _ => Ok(()),
    }
}

fn settings() -> Settings {
    Settings::of_ours(Duration::ZERO, false)
}

/// Gives the finished copy the file's name. A kill leaves the one or the other there, never none.
fn placed(unfinished: &Path, path: &Path) -> Result<Option<PathBuf>, Error> {
    let device = |error| Error::device(DOING, &error).untouched("The file was left as it was").in_file(path);
    if !path.exists() {
        fs::rename(unfinished, path).and_then(|()| beside::keep_names(path)).map_err(device)?;
        return Ok(None);
    }
    // Held until the other file is in its place, so that no other process begins to use this one.
    let held = match Connection::writer(path, &settings()).and_then(|c| c.merge_alone().map(|()| c)) {
        Ok(connection) => Some(connection),
        Err(Fault { kind: FaultKind::Locked, .. }) => {
            let error = Error::new(Cause::InUse, format!("{DOING}: another process has it open"));
            return Err(error.untouched("The file was left as it was").in_file(path));
        }
        // It is damaged; nothing more can be made of it than to set it aside.
        Err(_) => None,
    };
    let aside = aside::set_aside_as(path, SetAsideAs::SecondName).map_err(device)?;
    // A log that is left would be laid over the file that comes; what is in it stands beside the one that was set aside.
    for companion in with_companions(path).skip(1).filter(|p| p.exists()) {
        fs::remove_file(companion).map_err(device)?;
    }
    fs::rename(unfinished, path).and_then(|()| beside::keep_names(path)).map_err(device)?;
    drop(held);
    Ok(Some(aside))
}
