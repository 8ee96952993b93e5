//! The phone: a folder with one sandbox for each app.

use crate::Sandbox;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A pretend phone: a folder with one sandbox for each app.
#[derive(Debug)]
pub struct Phone {
    folder: PathBuf,
    _removed_at_the_end: Option<tempfile::TempDir>,
}

impl Phone {
    /// A phone that keeps what is on it in `folder`.
    ///
    /// # Errors
    /// When the folder cannot be created.
    pub fn at(folder: impl Into<PathBuf>) -> io::Result<Phone> {
        let folder = folder.into();
        fs::create_dir_all(&folder)?;
        Ok(Phone { folder: fs::canonicalize(folder)?, _removed_at_the_end: None })
    }

    /// A phone that is gone, with all that is on it, when it is dropped.
    ///
    /// # Errors
    /// When no temporary folder can be created.
    pub fn temporary() -> io::Result<Phone> {
        let folder = tempfile::tempdir()?;
        Ok(Phone { folder: fs::canonicalize(folder.path())?, _removed_at_the_end: Some(folder) })
    }

    /// The folder that stands for the phone.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The sandbox of an app; made when it is asked for first, as when the app is installed.
    ///
    /// # Errors
    /// When its folders cannot be created.
    pub fn sandbox(&self, app: &str) -> io::Result<Sandbox> {
        Sandbox::at(self.folder.join(app))
    }
}
