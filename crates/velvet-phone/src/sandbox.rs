//! An app's sandbox: its folders, its keys, and what a developer can do with them from outside.

use crate::{KeyStore, Running, app};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The ends of the names of files that may stand beside a database file and belong to it.
const COMPANIONS: [&str; 3] = ["-wal", "-shm", "-journal"];

/// An app's sandbox.
#[derive(Clone, Debug)]
pub struct Sandbox {
    folder: PathBuf,
}

impl Sandbox {
    pub(crate) fn at(folder: PathBuf) -> io::Result<Sandbox> {
        let sandbox = Sandbox { folder };
        for folder in [sandbox.durable(), sandbox.cache(), sandbox.temporary()] {
            fs::create_dir_all(folder)?;
        }
        Ok(sandbox)
    }

    /// The folder for what must be kept.
    pub fn durable(&self) -> PathBuf {
        self.folder.join("durable")
    }

    /// The folder for what the system may remove when it needs the space.
    pub fn cache(&self) -> PathBuf {
        self.folder.join("cache")
    }

    /// The folder for what the system may remove between two starts.
    pub fn temporary(&self) -> PathBuf {
        self.folder.join("temporary")
    }

    /// The app's part of the phone's key store.
    pub fn key_store(&self) -> KeyStore {
        KeyStore::at(self.folder.join("keys"))
    }

    /// Starts the app as a process of its own. It finds its folders with [`app::folders`].
    ///
    /// # Errors
    /// When the program cannot be started.
    pub fn start(&self, mut program: Command) -> io::Result<Running> {
        program
            .env(app::DURABLE, self.durable())
            .env(app::CACHE, self.cache())
            .env(app::TEMPORARY, self.temporary())
            .env(app::KEYS, self.folder.join("keys"));
        Running::new(program)
    }

    /// Copies a file of the durable folder and all that stands beside it, as the right way to pull a database does.
    /// Returns the path of the copy.
    ///
    /// # Errors
    /// When the file is not there, or cannot be copied.
    pub fn pull(&self, name: &str, into: &Path) -> io::Result<PathBuf> {
        let copy = self.pull_alone(name, into)?;
        for end in COMPANIONS {
            let from = self.durable().join(format!("{name}{end}"));
            if from.exists() {
                fs::copy(from, into.join(format!("{name}{end}")))?;
            }
        }
        Ok(copy)
    }

    /// Copies only the file of the durable folder that has this name, and not what stands beside it: the usual mistake.
    /// Returns the path of the copy.
    ///
    /// # Errors
    /// When the file is not there, or cannot be copied.
    pub fn pull_alone(&self, name: &str, into: &Path) -> io::Result<PathBuf> {
        fs::create_dir_all(into)?;
        let copy = into.join(name);
        fs::copy(self.durable().join(name), &copy)?;
        Ok(copy)
    }

    /// Puts the files of the durable folder, as a backup has them, into the sandbox of another phone: without the keys, which never leave a phone.
    ///
    /// # Errors
    /// When a file cannot be copied.
    pub fn restore_on(&self, other: &Sandbox) -> io::Result<()> {
        for entry in fs::read_dir(self.durable())? {
            let entry = entry?;
            fs::copy(entry.path(), other.durable().join(entry.file_name()))?;
        }
        Ok(())
    }

    /// Moves the sandbox to another place, as phones do when they update an app.
    ///
    /// # Errors
    /// When the folder cannot be moved.
    pub fn relocate(&mut self, folder: PathBuf) -> io::Result<()> {
        fs::rename(&self.folder, &folder)?;
        self.folder = folder;
        Ok(())
    }
}
