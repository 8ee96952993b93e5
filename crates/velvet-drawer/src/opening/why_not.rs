//! Why a file could not be opened. The engine says only that it could not.

use crate::engine::{Fault, FaultKind};
use crate::error::{Cause, Error};
use std::fs::File;
use std::io;
use std::path::Path;

/// The longest path in bytes that the engine opens, with the longest name that it puts beside a file.
const LONGEST_PATH: usize = 512 - "-journal".len();

/// The error of a file that is opened only to be read, where nothing can be put beside it.
pub(super) fn not_opened_to_read(error: Error, path: &Path) -> Error {
    match tried(path) {
        Err(reason) if error.is_read_only() || error.is_file_missing() => {
            let problem = format!("what belongs to the file while it is read cannot be put beside it ({reason})");
            Error::bare(Cause::ReadOnly, problem).advise(
                "Copy the file to a folder that the app may write, as Options::shipped_file does, or look into it with inspect::File",
            )
        }
        _ => error,
    }
}

/// The fault as an error, with the system's reason where one is found.
pub(super) fn not_opened(fault: Fault, path: &Path) -> Error {
    if fault.kind != FaultKind::CannotOpen {
        return fault.into();
    }
    if path.as_os_str().len() > LONGEST_PATH {
        let name = path.file_name().unwrap_or_default().display();
        let bytes = path.as_os_str().len();
        let problem = format!("the path of {name} has {bytes} bytes, and the engine opens up to {LONGEST_PATH}");
        return Error::bare(Cause::Device, problem).advise("Keep the file in a folder with a shorter path");
    }
    match tried(path) {
        Err(error) if matches!(error.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem) => {
            Fault { kind: FaultKind::ReadOnly, message: error.to_string() }.into()
        }
        Err(error) => Error::device("cannot open the drawer", &error),
        Ok(()) => fault.into(),
    }
}

/// Opens the file, and makes another one in its folder, which is gone at once.
fn tried(path: &Path) -> io::Result<()> {
    match File::open(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    path.parent().map_or(Ok(()), |folder| tempfile::tempfile_in(folder).map(drop))
}
