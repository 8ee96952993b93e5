//! Removing a drawer from the device.

use super::about::APPLICATION_ID;
use super::{is_open_here, resolved};
use crate::beside::with_companions;
use crate::engine::{Connection, FaultKind, Settings};
use crate::error::{Cause, Error};
use std::fs;
use std::io;
use std::path::Path;
use std::time::Duration;

/// Removes the drawer at `path` and its companions. Says whether there was one.
pub(crate) fn remove_from_device(path: &Path) -> Result<bool, Error> {
    if !path.exists() {
        return Ok(false);
    }
    let path = resolved(path)?;
    let doing = "cannot remove the drawer";
    let refuse = |cause, why: &str| {
        Err(Error::new(cause, format!("{doing}: {why}")).untouched("Nothing was removed").in_file(&path))
    };
    if path.is_dir() {
        return refuse(Cause::NotThere, "the path is a folder");
    }
    if is_open_here(&path) {
        return refuse(Cause::InUse, "it is open in this process; drop or close its handles first");
    }
    // Nobody else has it open when the log can be merged, and removed, alone.
    let settings = Settings::of_ours(Duration::ZERO, true);
    let engine = |fault| Error::engine(doing, fault).untouched("Nothing was removed").in_file(&path);
    let connection = Connection::writer(&path, &settings).map_err(engine)?;
    if connection.number("PRAGMA application_id").map_err(engine)? != APPLICATION_ID {
        return refuse(Cause::OtherApp, "the file is not a drawer");
    }
    match connection.merge_alone() {
        Err(fault) if fault.kind == FaultKind::Locked => return refuse(Cause::InUse, "another process has it open"),
        result => result.map_err(engine)?,
    }
    connection.close().map_err(engine)?;

    // The main file goes first: companions without it mean nothing, and the engine clears them away.
    let removed = |path: &Path| match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(Error::new(Cause::Device, format!("{doing}: {error}"))
                .untouched("Some of its files may be left")
                .in_file(path))
        }
        _ => Ok(()),
    };
    with_companions(&path).try_for_each(|path| removed(&path))?;
    Ok(true)
}
