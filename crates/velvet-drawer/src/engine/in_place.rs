//! Whether the file that is open is still the one at its path.
//!
//! The engine goes on with a file that was deleted, replaced or overwritten as if nothing had happened: what is written then is in a file without a name, or in
//! one that holds something else.

use super::log_beside::transactions_in;
use super::open_here::{hold, let_go, with_held};
use super::opener::start_of_first;
use super::{Fault, FaultKind, FileCipher};
use crate::device::companions::{self, with_companions};
use parking_lot::Mutex;
use std::fs;
use std::io::{self, Seek};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use velvet_core::file::header::Header;
use velvet_core::file::wal;

/// What distinguishes a file from all others on the device: device, number and when it was created. If the system does not say, only whether it exists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Identity(u64, u64, i128);

/// The file at a path, found without opening it: closing a handle of ours would drop the engine's locks.
pub(crate) fn identity(path: &Path) -> io::Result<Identity> {
    seen(path).map(|seen| seen.identity)
}

/// What can be seen of a file without opening it.
pub(crate) struct Seen {
    pub(crate) identity: Identity,
    pub(crate) bytes: u64,
    /// How many names it has.
    pub(crate) names: u64,
}

/// The file at a path.
///
/// When it was written is not asked for: the system would have to give each write after that another time, and to store that with every commit.
pub(crate) fn seen(path: &Path) -> io::Result<Seen> {
    #[cfg(any(target_os = "linux", target_os = "android"))]
    {
        use rustix::fs::{AtFlags, CWD, StatxFlags, statx};
        use rustix::io::Errno;
        let asked = StatxFlags::INO | StatxFlags::SIZE | StatxFlags::NLINK | StatxFlags::BTIME;
        match statx(CWD, path, AtFlags::empty(), asked) {
            Ok(file) => {
                let device = (u64::from(file.stx_dev_major) << 32) | u64::from(file.stx_dev_minor);
                let created = i128::from(file.stx_btime.tv_sec) * 1_000_000_000 + i128::from(file.stx_btime.tv_nsec);
                let identity = Identity(device, file.stx_ino, created);
                return Ok(Seen { identity, bytes: file.stx_size, names: file.stx_nlink.into() });
            }
            // An old system does not know this.
            Err(Errno::NOSYS | Errno::PERM) => {}
            Err(error) => return Err(error.into()),
        }
    }
    let file = fs::metadata(path)?;
    #[cfg(unix)]
    let (device, number, names) = {
        use std::os::unix::fs::MetadataExt;
        (file.dev(), file.ino(), file.nlink())
    };
    #[cfg(not(unix))]
    let (device, number, names) = (0, u64::from(file.is_dir()), 1);
    let created = file.created().ok().and_then(|at| at.duration_since(std::time::UNIX_EPOCH).ok());
    let created = created.map_or(0, |at| i128::try_from(at.as_nanos()).unwrap_or(0));
    Ok(Seen { identity: Identity(device, number, created), bytes: file.len(), names })
}

/// What became of a file while it was open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Displaced {
    /// Nothing is at its path any more.
    Gone,
    /// Another file is.
    Replaced,
    /// The file is there, and its write-ahead log is not.
    WithoutLog,
    /// It is the same file, and holds something else, or nothing.
    Overwritten,
}

impl Displaced {
    /// What became of it, as a part of a sentence.
    pub(crate) fn in_words(self) -> &'static str {
        match self {
            Displaced::Gone => "the file was deleted or moved away while it was open",
            Displaced::Replaced => "another file was put in its place while it was open",
            Displaced::WithoutLog => "the write-ahead log next to it was deleted or replaced while the file was open",
            Displaced::Overwritten => "another program overwrote the file while it was open",
        }
    }
}

/// The file that is open at a path, and its write-ahead log.
#[derive(Clone, Debug)]
pub(crate) struct InPlace {
    path: PathBuf,
    file: Identity,
    /// `None` while there is none that is this file's.
    log: Arc<Mutex<Option<Log>>>,
    start: Arc<Mutex<Start>>,
}

/// The write-ahead log next to an open file.
#[derive(Debug)]
struct Log {
    path: PathBuf,
    identity: Identity,
    /// The engine holds no lock on it, so that this may be closed at any time. Elsewhere it would keep the engine from deleting the log.
    #[cfg(unix)]
    file: Option<fs::File>,
}

impl Log {
    fn of(path: PathBuf) -> Option<Log> {
        let identity = identity(&path).ok()?;
        #[cfg(unix)]
        let file = fs::File::open(&path).ok();
        Some(Log {
            path,
            identity,
            #[cfg(unix)]
            file,
        })
    }

    fn file(&self) -> Option<&fs::File> {
        #[cfg(unix)]
        return self.file.as_ref();
        #[cfg(not(unix))]
        None
    }

    /// What distinguishes it from itself before it last began again from its start.
    fn salts(&self) -> Option<[u8; 8]> {
        bytes_at(self.file()?, 16).ok()
    }

    /// Whether it holds a first page with these bytes.
    fn holds_first(&self, page_size: u32, bytes: [u8; 16]) -> io::Result<bool> {
        let Some(file) = self.file() else { return Ok(true) };
        let in_page = (wal::FRAME + Header::COUNT_AT[0]) as u64;
        let mut at = wal::HEADER as u64;
        loop {
            match bytes_at(file, at).map(u32::from_be_bytes) {
                Ok(1) if bytes_at(file, at + in_page).is_ok_and(|now| bytes == now) => return Ok(true),
                Ok(_) => at += wal::FRAME as u64 + u64::from(page_size),
                Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
                Err(error) => return Err(error),
            }
        }
    }
}

/// How the file begins, as it was seen last.
#[derive(Debug, Default)]
struct Start {
    cipher: Option<Arc<FileCipher>>,
    /// The bytes that change with the header, as they are in the file.
    bytes: [u8; 16],
    header: Option<Header>,
    /// Those of the log, read before that.
    salts: Option<[u8; 8]>,
}

/// How many headers may have been written between two looks. A file that says more is another one.
const MOST_HEADERS: u32 = 1 << 24;

/// How often to read a page that another process may be writing this very moment.
const ATTEMPTS: u32 = 5;

impl Start {
    /// Whether the file still begins as one that goes on from what was seen last.
    fn goes_on(&mut self, path: &Path, bytes: u64, log: Option<&Log>) -> bool {
        let salts = log.and_then(Log::salts);
        if bytes == 0 {
            // It was not when it was opened, or nothing was in it yet.
            return self.header.is_none();
        }
        for attempt in 0..ATTEMPTS {
            // Without a handle nothing can be said.
            let Some(changing) = with_held(path, |held| changing_bytes(held)) else { return true };
            match changing {
                Ok(now) if now == self.bytes && self.header.is_some() => {
                    self.salts = salts;
                    return true;
                }
                Ok(now) => {
                    let first =
                        |held: &mut fs::File| held.rewind().and_then(|()| start_of_first(held, self.cipher.as_deref()));
                    let read = with_held(path, first).and_then(Result::ok).flatten();
                    // One that is being written says its count twice, and not the same.
                    let header = read
                        .and_then(|start| Header::read(&start, bytes))
                        .filter(|h| h.pages.is_some() || h.count == 0);
                    let follows = |header: &Header| {
                        self.header.as_ref().is_none_or(|before| {
                            // The engine counts from the encrypted bytes, so of such a file the count says nothing.
                            let is_later = header.count.wrapping_sub(before.count) < MOST_HEADERS;
                            (is_later || self.cipher.is_some())
                                && header.page_size == before.page_size
                                && (before.application == 0 || header.application == before.application)
                        })
                    };
                    if header.as_ref().is_some_and(|header| follows(header) && self.can_be_of(log, header, now)) {
                        (self.bytes, self.header, self.salts) = (now, header, salts);
                        return true;
                    }
                }
                // What the device refuses is said by the engine.
                Err(_) => return true,
            }
            if attempt > 0 {
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
        }
        // A kill may have left a first page that only the log makes whole.
        self.header.is_none()
    }

    /// Whether the engine can have written these bytes since the last look: it only copies the first page from the log, which still holds it unless it began again.
    fn can_be_of(&self, log: Option<&Log>, header: &Header, bytes: [u8; 16]) -> bool {
        let Some(log) = log.filter(|_| self.header.is_some() && self.salts.is_some()) else { return true };
        log.holds_first(header.page_size, bytes).unwrap_or(true) || log.salts() != self.salts
    }
}

/// The bytes of the header that count.
fn changing_bytes(file: &fs::File) -> io::Result<[u8; 16]> {
    bytes_at(file, Header::COUNT_AT[0] as u64)
}

fn bytes_at<const N: usize>(file: &fs::File, at: u64) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    #[cfg(unix)]
    std::os::unix::fs::FileExt::read_exact_at(file, &mut bytes, at)?;
    #[cfg(not(unix))]
    {
        use std::io::Read;
        let mut file = file;
        file.seek(io::SeekFrom::Start(at))?;
        file.read_exact(&mut bytes)?;
    }
    Ok(bytes)
}

impl InPlace {
    /// Of a file that was opened this moment, and was this one before; `None` if there is none, as for a drawer in memory.
    pub(crate) fn of(path: &Path, opened: Option<Identity>, cipher: Option<Arc<FileCipher>>) -> Option<InPlace> {
        let found = identity(path).ok();
        let start = Arc::new(Mutex::new(Start { cipher, ..Start::default() }));
        let place = InPlace { path: path.to_owned(), file: opened.or(found)?, log: Arc::default(), start };
        place.note_log();
        place.hold();
        Some(place)
    }

    /// Notes which log is this file's: the file was opened.
    pub(super) fn note_log(&self) {
        *self.log.lock() = with_companions(&self.path).nth(1).and_then(Log::of);
    }

    /// No log is this file's any more: the file is being closed.
    pub(super) fn forget_log(&self) {
        *self.log.lock() = None;
    }

    /// Watches how the file begins. The engine has it open, or opens it next.
    pub(super) fn hold(&self) {
        hold(&self.path);
    }

    /// Holds nothing of the file any more, which the engine has closed.
    pub(super) fn let_go(&self) {
        let_go(&self.path);
    }

    /// How large the write-ahead log is; or what became of the file, where it is not in its place, as far as the system says.
    pub(crate) fn log_bytes(&self) -> Result<u64, Displaced> {
        let log = self.log.lock();
        match seen(&self.path) {
            Ok(found) if found.identity != self.file => return Err(Displaced::Replaced),
            Ok(found) if !self.start.lock().goes_on(&self.path, found.bytes, log.as_ref()) => {
                return Err(Displaced::Overwritten);
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(Displaced::Gone),
            _ => {}
        }
        let Some(log) = &*log else { return Ok(0) };
        match seen(&log.path) {
            Ok(found) if found.identity != log.identity => Err(Displaced::WithoutLog),
            Ok(found) => Ok(found.bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(Displaced::WithoutLog),
            Err(_) => Ok(0),
        }
    }

    /// For whoever cannot go on where it is not in its place.
    pub(super) fn require(&self) -> Result<(), Fault> {
        let displaced = |how| Fault { kind: FaultKind::Displaced(how), message: String::new() };
        self.log_bytes().map(drop).map_err(displaced)
    }

    /// How many transactions the log holds; `None` if it is not in its place. Other processes may have the file open, and add some.
    pub(crate) fn transactions(&self) -> Option<u64> {
        let log = self.log.lock();
        let log = log.as_ref()?;
        identity(&log.path).is_ok_and(|found| found == log.identity).then(|| transactions_in(&log.path).ok()).flatten()
    }

    /// Takes the log of a file that is gone from the path, where it would be replayed over the file that is there now or comes next. It is removed if all of its
    /// transactions are `kept`, and otherwise becomes the companion of `aside`. The caller has closed the file.
    pub(crate) fn take_log_away(&self, kept: Option<u64>, aside: &Path) -> io::Result<()> {
        let Some(there) = self.transactions() else { return Ok(()) };
        let (log, aside) = (self.log.lock(), with_companions(aside).nth(1));
        match (&*log, aside) {
            (Some(log), _) if kept == Some(there) => fs::remove_file(&log.path)?,
            (Some(log), Some(aside)) => fs::rename(&log.path, aside)?,
            _ => return Ok(()),
        }
        // The engine makes the shared memory anew from the log that is there.
        let _ = with_companions(&self.path).nth(2).map(fs::remove_file);
        companions::keep_names(&self.path)
    }
}
