//! Whether the write-ahead log next to a file belongs to it, in the state that the file has.

use super::open_here::{OpenHere, PastEngine};
use super::opener::header;
use super::{Connection, Fault, FaultKind, FileCipher, Opener, PAGE, known};
use crate::device::companions::with_companions;
use rusqlite::OpenFlags;
use rusqlite::config::DbConfig;
use std::collections::BTreeSet;
use std::fs;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::file::header::Header;
use velvet_core::file::wal;

/// What a write-ahead log is to the file beside which it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LogBeside {
    /// Nothing proves that it does not go on from the file.
    Fits,
    /// It is no log of a file like this, or its beginning is damaged: the engine reads nothing of it.
    NoLog,
    /// It is of an earlier moment than the file.
    Older,
    /// It is of a later moment than the file, which lacks what was merged in between.
    Newer,
    /// It belongs to another state of the file, or to another file. Of an encrypted one it is not known which is older.
    OfAnother,
    /// It is of a later moment, or the file is cut: there are pages that are in neither of them.
    PagesMissing,
}

/// The key of an encrypted file, and its first page as it stands there.
pub(crate) struct Encrypted {
    cipher: Arc<FileCipher>,
    first: Vec<u8>,
}

impl Encrypted {
    /// Of the file at a path, which this process does not have open; nothing where it is plain.
    pub(crate) fn at(path: &Path) -> Option<Encrypted> {
        let cipher = known(path)?;
        let _past_engine = PastEngine::begin(path)?;
        Encrypted::of(Some(cipher), &mut fs::File::open(path).ok()?)
    }

    fn of(cipher: Option<Arc<FileCipher>>, file: &mut fs::File) -> Option<Encrypted> {
        let (cipher, mut first) = (cipher?, vec![0; PAGE]);
        file.rewind().and_then(|()| file.read_exact(&mut first)).ok()?;
        Some(Encrypted { cipher, first })
    }

    /// Whether a log goes on from this file, whose first page is among those of the log, in their order, each as it stands there.
    ///
    /// The engine counts from what it reads before it decrypts. So the first of them has a count that is one above those bytes of the file; or the same count as
    /// the file where one connection wrote both; or the file has one of them, once it was merged.
    fn is_followed_by(&self, header: &Header, pages: &[Vec<u8>]) -> bool {
        let Some(first) = pages.first() else { return true };
        let stored = self.first.get(24..28).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_be_bytes);
        let mut opened = first.clone();
        let count = self.cipher.open(1, &mut opened).then(|| opened.first_chunk().map(Header::count)).flatten();
        count.is_some_and(|count| count == stored.wrapping_add(1) || count == header.count)
            || pages.contains(&self.first)
    }
}

/// What the log at `log` is to a file that begins with `header`, and is encrypted so, where it is.
///
/// Only frames that the engine counts prove anything: a kill leaves some that begin as new ones and hold old pages.
pub(crate) fn log_beside(log: &Path, header: &Header, encrypted: Option<&Encrypted>) -> io::Result<LogBeside> {
    let mut file = BufReader::new(fs::File::open(log)?);
    let Some(frames) = wal::frames(&mut file, header.page_size)? else { return Ok(LogBeside::NoLog) };
    // How often the file's header had been written at the first and the last time that the log has it.
    let (mut counts, mut pages) = (None, header.pages_there);
    let mut firsts = Vec::new();
    for (at, frame) in frames.iter().enumerate() {
        pages = frame.commit.unwrap_or(pages);
        if at > 0 && frame.page != 1 {
            continue;
        }
        let mut page = vec![0; header.page_size as usize];
        file.seek(SeekFrom::Start(frame.at))?;
        file.read_exact(&mut page)?;
        // The engine would lay a page over the file that does not open with its key.
        if encrypted.is_some_and(|encrypted| !encrypted.cipher.open(frame.page, &mut page.clone())) {
            return Ok(LogBeside::OfAnother);
        }
        match (frame.page, encrypted, page.first_chunk()) {
            (1, Some(_), _) => firsts.push(page),
            (1, None, Some(start)) => {
                let count = Header::count(start);
                counts = Some((counts.map_or(count, |(first, _)| first), count));
            }
            _ => {}
        }
    }
    if encrypted.is_some_and(|encrypted| !encrypted.is_followed_by(header, &firsts)) {
        return Ok(LogBeside::OfAnother);
    }
    let there: BTreeSet<u32> = frames.iter().map(|f| f.page).collect();
    let is_missing = (header.pages_there.saturating_add(1)..=pages).any(|p| !there.contains(&p));
    // Whoever writes a header counts one up from the header that he read, so the file has the count before the first of the log, or one that the log has.
    // Counts begin again at 0.
    let from_first = |first: u32, count: u32| count.wrapping_sub(first.wrapping_sub(1));
    Ok(match counts {
        Some((first, last)) if from_first(first, header.count) > from_first(first, last) => {
            if header.count.wrapping_sub(last) < u32::MAX / 2 { LogBeside::Older } else { LogBeside::Newer }
        }
        _ if is_missing => LogBeside::PagesMissing,
        _ => LogBeside::Fits,
    })
}

/// The first pages in the log beside the file at `path`, which is encrypted, so many at most, each with its number.
#[cfg(feature = "encryption")]
pub(super) fn pages_of_log(path: &Path, at_most: usize) -> io::Result<Vec<(u32, Vec<u8>)>> {
    let Some(Ok(log)) = with_companions(path).nth(1).map(fs::File::open) else { return Ok(Vec::new()) };
    let mut log = BufReader::new(log);
    let frames = wal::frames(&mut log, PAGE as u32)?.unwrap_or_default();
    let page = |frame: &wal::Frame| {
        let mut page = vec![0; PAGE];
        log.seek(SeekFrom::Start(frame.at)).and_then(|_| log.read_exact(&mut page)).map(|()| (frame.page, page))
    };
    frames.iter().take(at_most).map(page).collect()
}

/// How many transactions the engine takes from the log at `log`, whatever its pages are.
pub(crate) fn transactions_in(log: &Path) -> io::Result<u64> {
    let (mut file, mut head) = (BufReader::new(fs::File::open(log)?), [0; wal::HEADER]);
    match file.read_exact(&mut head) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(0),
        read => read?,
    }
    let Some(head) = wal::WalHeader::read(&head) else { return Ok(0) };
    let frames = wal::frames(&mut file, head.page_size)?.unwrap_or_default();
    Ok(frames.iter().filter(|frame| frame.commit.is_some()).count() as u64)
}

/// Whether a valid part of the log next to a file proves that it belongs to another state of it. The engine would replay it all the same.
pub(super) fn is_foreign(path: &Path, log: &Path) -> bool {
    // While others write, the log is written over as it is read here. Where they have the file open, the log is theirs.
    let seems_so =
        Opener::new(path).header().is_ok_and(|h| h.is_some() && is_of_another(log, h, Encrypted::at(path).as_ref()));
    seems_so && !matches!(HeldAlone::with(path), Ok(None))
}

fn is_of_another(log: &Path, header: Option<Header>, encrypted: Option<&Encrypted>) -> bool {
    use LogBeside::{Newer, OfAnother, Older};
    header.is_some_and(|header| matches!(log_beside(log, &header, encrypted), Ok(Older | Newer | OfAnother)))
}

/// Runs `work` while nobody else can open the file at `path`, with the file and with whether the log at `log` is proven to belong to another state of it.
/// `None` if somebody has it open.
pub(crate) fn alone_with_log<R>(
    path: &Path,
    log: &Path,
    work: impl FnOnce(&mut fs::File, bool) -> io::Result<R>,
) -> Result<Option<R>, Fault> {
    let device = |error: io::Error| Fault::device(&error);
    let Some(alone) = HeldAlone::with(path)? else { return Ok(None) };
    // The handle is closed only with the lock: closing it drops the lock.
    let mut file = fs::File::open(path).map_err(device)?;
    let cipher = alone.0.cipher.clone();
    let header = header(&mut file, cipher.as_deref());
    let encrypted = Encrypted::of(cipher, &mut file);
    let is_another = header.is_ok_and(|header| is_of_another(log, header, encrypted.as_ref()));
    let result = file.rewind().and_then(|()| work(&mut file, is_another)).map_err(device);
    drop((file, alone));
    result.map(Some)
}

/// Refuses a foreign log next to the file at `path`, which may not exist yet.
pub(crate) fn fits_its_log(path: &Path) -> Result<(), Fault> {
    fitting_wal(path).map(drop)
}

/// Runs `work` while nobody else can open the empty file at `path`. Nothing where it is not empty any more, or somebody has it open.
pub(crate) fn hold_empty<R>(path: &Path, work: impl FnOnce() -> R) -> Result<Option<R>, Fault> {
    let Some(_alone) = HeldAlone::with(path)? else { return Ok(None) };
    // Whoever held it before may have put another file in its place.
    let is_empty = fs::metadata(path).is_ok_and(|file| file.len() <= 1);
    Ok(is_empty.then(work))
}

/// Keeps everybody else from a file as long as it lives. It neither merges the log of the file nor removes it.
struct HeldAlone(Connection, #[allow(dead_code, reason = "held")] OpenHere);

impl HeldAlone {
    /// Nothing where somebody has the file open.
    fn with(path: &Path) -> Result<Option<HeldAlone>, Fault> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let cipher = known(path);
        let open_here = match OpenHere::new(path, &cipher, Duration::ZERO) {
            Err(Fault { kind: FaultKind::Locked, .. }) => return Ok(None),
            open_here => open_here?,
        };
        let connection = Connection::with_key(rusqlite::Connection::open_with_flags(path, flags)?, cipher)?;
        let engine = &connection.engine;
        engine.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
        engine.busy_timeout(Duration::ZERO)?;
        // The first that is read takes the lock, before the log is opened.
        let read = engine.execute_batch("PRAGMA locking_mode = EXCLUSIVE; SELECT count(*) FROM sqlite_schema");
        match read.map_err(Fault::from) {
            Err(Fault { kind: FaultKind::Locked, .. }) => Ok(None),
            // What the log makes of the file may be no database.
            Ok(()) | Err(Fault { kind: FaultKind::Damaged | FaultKind::NotADatabase, .. }) => {
                Ok(Some(HeldAlone(connection, open_here)))
            }
            Err(fault) => Err(fault),
        }
    }
}

/// The file's write-ahead log, unless it is missing or empty.
///
/// # Errors
/// When the engine would lose it, or lay it over a file that it is not of.
pub(super) fn fitting_wal(path: &Path) -> Result<Option<PathBuf>, Fault> {
    let wal = found_wal(path);
    refuse_to_lose_wal(path, wal.as_deref())?;
    if wal.as_ref().is_some_and(|wal| is_foreign(path, wal)) {
        return Err(Fault { kind: FaultKind::ForeignLog, message: String::new() });
    }
    Ok(wal)
}

pub(super) fn found_wal(path: &Path) -> Option<PathBuf> {
    with_companions(path).nth(1).filter(|log| std::fs::metadata(log).is_ok_and(|m| m.len() > 0))
}

/// The engine removes the write-ahead log beside a file in which nothing is: it takes it for one of a file that was removed. A file that was cut
/// may have all that can be saved of it there.
pub(super) fn refuse_to_lose_wal(path: &Path, wal: Option<&Path>) -> Result<(), Fault> {
    let bytes = |path: &Path| std::fs::metadata(path).map(|m| m.len());
    if wal.is_none_or(|wal| bytes(wal).is_ok_and(|bytes| bytes <= wal::HEADER as u64)) {
        return Ok(());
    }
    match bytes(path) {
        // It takes one byte for none.
        Ok(0 | 1) => {
            let message = "nothing is in it, and something in the write-ahead log beside it".into();
            Err(Fault { kind: FaultKind::Damaged, message })
        }
        // The engine would remove a log without a file.
        Err(error)
            if error.kind() == io::ErrorKind::NotFound
                && wal.is_some_and(|w| transactions_in(w).is_ok_and(|n| n > 0)) =>
        {
            Err(Fault { kind: FaultKind::ForeignLog, message: String::new() })
        }
        _ => Ok(()),
    }
}
