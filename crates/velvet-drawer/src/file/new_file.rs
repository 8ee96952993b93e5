//! Making a file wholly or not at all: under another name first, which it has until it is finished.

use crate::device::companions;
use crate::device::unfinished::Unfinished;
use crate::error::{Cause, Doing, Error};
use std::fs;
use std::io;
use std::path::Path;
use velvet_core::file::wal::database_of;

/// Makes the file at `path` of what `work` leaves at the path that it is given. Says whether it did: another process may have
/// been faster. `doing` begins the sentence when it cannot.
pub(crate) fn make(path: &Path, doing: &str, work: impl FnOnce(&Path) -> Result<(), Error>) -> Result<bool, Error> {
    // A name alone has no folder that could be looked into.
    let path = &std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let device = |error| Error::device(doing, &error);
    let made = Unfinished::of(path).map_err(device).and_then(|unfinished| {
        work(unfinished.path())?;
        placed(unfinished.path(), path).map_err(|error| {
            let error = device(error);
            // The device takes nothing back either.
            let stays = "What was made is whole, and there, but a loss of power may undo it";
            if path.exists() { error.untouched(stays) } else { error }
        })
    });
    made.map_err(|error| error.doing(doing).or_untouched("Nothing was created")).in_file(path)
}

/// As [`make`], of a file that must not be there yet.
pub(crate) fn make_new(path: &Path, doing: &str, work: impl FnOnce(&Path) -> Result<(), Error>) -> Result<(), Error> {
    let refused = || {
        Err(Error::new(Cause::AlreadyThere, format!("{doing}: there is a file of that name already"))
            .untouched("It was left untouched")
            .advise("Choose another name")
            .in_file(path))
    };
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    if path.is_dir() {
        return Err(Error::new(Cause::AlreadyThere, format!("{doing}: a folder has that name"))
            .untouched("Nothing was created")
            .advise("Name a new file in it")
            .in_file(path));
    }
    if let Some(folder) = absolute.parent().filter(|folder| !folder.exists()) {
        let missing = io::Error::new(io::ErrorKind::NotFound, format!("there is no folder {}", folder.display()));
        return Err(Error::device(doing, &missing).untouched("Nothing was created").in_file(path));
    }
    refuse_companions(path, doing)?;
    if companions::with_companions(path).any(|p| p.exists()) {
        return refused();
    }
    if make(path, doing, work)? { Ok(()) } else { refused() }
}

/// Refuses the name of what belongs to another file, which the engine would take for it.
pub(crate) fn refuse_companions(path: &Path, doing: &str) -> Result<(), Error> {
    match database_of(path).filter(|of| of.is_file()) {
        None => Ok(()),
        Some(of) => {
            let of = of.file_name().unwrap_or_default().to_string_lossy().into_owned();
            Err(Error::new(Cause::AlreadyThere, format!("{doing}: a file of this name belongs to {of}"))
                .untouched("Nothing was created")
                .advise("Choose another name")
                .in_file(path))
        }
    }
}

/// Gives the finished file its name, unless somebody else has it already.
pub(crate) fn placed(unfinished: &Path, path: &Path) -> io::Result<bool> {
    let done = match fs::hard_link(unfinished, path) {
        Ok(()) => true,
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => false,
        // Not every file system has a second name for a file.
        Err(_) if path.exists() => false,
        Err(_) => fs::rename(unfinished, path).map(|()| true)?,
    };
    // Where the name may not be on the device, the file is not there for whoever asked for it.
    companions::keep_names(path).inspect_err(|_| {
        if done {
            companions::clear_away(path)
        }
    })?;
    Ok(done)
}
