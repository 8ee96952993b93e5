//! The one way to a file: where it is, how long to wait for other processes, and how its commits are kept.

use super::{Connection, Fault, FileCipher, InPlace, PAGE, PastEngine, Reporting, Seals, Traceless, known};
use crate::work::cancel::Cancel;
use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::file::header::Header;

/// The way to a file.
#[derive(Clone, Debug)]
pub(crate) struct Opener {
    pub(crate) path: PathBuf,
    pub(crate) settings: Settings,
    /// The file that alone may be opened, once it was.
    pub(crate) in_place: Option<InPlace>,
}

/// How connections behave.
#[derive(Clone, Debug, Default)]
pub(crate) struct Settings {
    /// How long to wait for another process before giving up.
    pub(crate) wait: Duration,
    /// Whether a commit may return before it is safe from a loss of power.
    pub(crate) relaxed: bool,
    /// Which statements the app's log is told of.
    pub(crate) reporting: Reporting,
    /// The keys of what is sealed in the file, where something can be.
    pub(crate) seals: Option<Arc<Seals>>,
    /// The key of the whole file, where it is to be encrypted. Without one, that which this process knows.
    pub(crate) cipher: Option<Arc<FileCipher>>,
}

impl Opener {
    /// For work of ours that does not wait for other processes.
    pub(crate) fn new(path: &Path) -> Opener {
        Opener { path: path.to_owned(), settings: Settings::default(), in_place: None }
    }

    /// Waits this long for other processes.
    pub(crate) fn waiting(mut self, wait: Duration) -> Opener {
        self.settings.wait = wait;
        self
    }

    /// For a file that is made anew if the device loses power.
    pub(crate) fn relaxed(mut self) -> Opener {
        self.settings.relaxed = true;
        self
    }

    /// With the keys of what is sealed.
    pub(crate) fn sealing(mut self, seals: Option<Arc<Seals>>) -> Opener {
        self.settings.seals = seals;
        self
    }

    /// With the key of the whole file.
    pub(crate) fn encrypted(mut self, cipher: Option<Arc<FileCipher>>) -> Opener {
        self.settings.cipher = cipher;
        self
    }

    /// Opens from now on only the file that `connection` has open.
    ///
    /// # Errors
    /// When another one was put in its place meanwhile.
    pub(crate) fn held_to_the_file(mut self, connection: &Connection) -> Result<Opener, Fault> {
        self.in_place = InPlace::of(&self.path, connection.opened, connection.cipher.clone());
        self.in_place.as_ref().map_or(Ok(()), InPlace::require)?;
        Ok(self)
    }

    /// A connection that reads and writes.
    pub(crate) fn writer(&self) -> Result<Connection, Fault> {
        self.in_place(|| Connection::writer(&self.path, &self.settings, false))
    }

    /// A connection that reads and writes, and creates the file where there is none.
    pub(crate) fn new_writer(&self) -> Result<Connection, Fault> {
        Connection::writer(&self.path, &self.settings, true)
    }

    /// A connection that only reads, beside those that write.
    pub(crate) fn reader(&self) -> Result<Connection, Fault> {
        self.in_place(|| Connection::reader(&self.path, &self.settings))
    }

    /// As [`Opener::reader`], of a file that may be open nowhere else.
    pub(crate) fn first_reader(&self) -> Result<Connection, Fault> {
        self.in_place(|| Connection::first_reader(&self.path, &self.settings))
    }

    /// Another file may take the path while it is opened.
    fn in_place(&self, open: impl FnOnce() -> Result<Connection, Fault>) -> Result<Connection, Fault> {
        let Some(place) = &self.in_place else { return open() };
        place.require()?;
        let connection = open()?;
        place.require()?;
        Ok(connection)
    }

    /// A connection that only reads, and leaves no trace on the file or beside it.
    /// It is bounded as [`Connection::bound`] says.
    pub(crate) fn traceless(&self, cancel: &Cancel, within: Duration) -> Result<Traceless, Fault> {
        Traceless::open(&self.path, cancel, within)
    }

    /// What the file begins with, read past the engine; nothing where it is no database, its key is not known, or this process has it open.
    pub(crate) fn header(&self) -> io::Result<Option<Header>> {
        let cipher = known(&self.path);
        let Some(_past_engine) = PastEngine::begin(&self.path) else { return Ok(None) };
        header(&mut fs::File::open(&self.path)?, cipher.as_deref())
    }
}

/// What a file begins with; nothing where it is no database, or does not open with its key.
pub(super) fn header(file: &mut fs::File, cipher: Option<&FileCipher>) -> io::Result<Option<Header>> {
    let length = file.metadata()?.len();
    Ok(start_of_first(file, cipher)?.and_then(|start| Header::read(&start, length)))
}

/// How the first page begins that stands here; nothing where it is cut, or does not open with its key.
pub(super) fn start_of_first(
    file: &mut impl Read,
    cipher: Option<&FileCipher>,
) -> io::Result<Option<[u8; Header::BYTES]>> {
    let mut page = vec![0; if cipher.is_some() { PAGE } else { Header::BYTES }];
    match file.read_exact(&mut page) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    }
    let is_open = cipher.is_none_or(|cipher| cipher.open(1, &mut page));
    Ok(page.first_chunk().copied().filter(|_| is_open))
}
