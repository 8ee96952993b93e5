//! The one true path of a file, however it was named.

use crate::error::{Cause, Error};
use crate::file::new_file::refuse_companions;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// How many symbolic links to follow before they must be a circle.
const LINKS: usize = 40;

/// Makes the folders above `path` where they are missing, and resolves it.
pub(super) fn prepared(path: &Path) -> Result<PathBuf, Error> {
    let path = std::path::absolute(path).map_err(|e| not_there(path, "the path cannot be made absolute", &e))?;
    if let Some(folder) = path.parent()
        && !folder.is_dir()
    {
        fs::create_dir_all(folder).map_err(|e| not_there(&path, "the folder above the file cannot be created", &e))?;
    }
    if path.is_dir() {
        return Err(Error::new(Cause::FileMissing, "cannot open the drawer: the path is a folder")
            .untouched("Nothing was created")
            .advise("Give the path of a file in it, such as `kiln.drawer`")
            .in_file(&path));
    }
    if !path.exists() {
        refuse_companions(&path, "cannot open the drawer")?;
    }
    resolved(&path)
}

/// The path with symbolic links, `.` and `..` resolved, also when the file itself is not there yet; on Windows in the form in which people write it.
///
/// The file is not opened for this: closing a handle of our own would drop the engine's locks.
pub(crate) fn resolved(path: &Path) -> Result<PathBuf, Error> {
    let mut path = path.to_owned();
    for _ in 0..LINKS {
        match dunce::canonicalize(&path) {
            Ok(path) => return Ok(path),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(not_there(&path, "the path cannot be followed", &error)),
        }
        let (Some(folder), Some(name)) = (path.parent(), path.file_name()) else { break };
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        match fs::read_link(&path) {
            // A link to a file that is not there yet: the engine would create it where the link points.
            Ok(target) => path = folder.join(target),
            Err(_) => {
                return dunce::canonicalize(folder)
                    .map(|folder| folder.join(name))
                    .map_err(|e| not_there(&path, "the folder of the file does not exist", &e));
            }
        }
    }
    Err(not_there(&path, "the path cannot be followed", &io::Error::other("symbolic links lead in a circle")))
}

fn not_there(path: &Path, what: &str, error: &io::Error) -> Error {
    Error::device(&format!("cannot open the drawer: {what}"), error)
        .untouched("Nothing was created")
        .advise("Keep drawers in a folder that the app may write, such as place::durable(…)")
        .in_file(path)
}
