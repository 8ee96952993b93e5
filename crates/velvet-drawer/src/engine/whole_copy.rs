//! A complete copy of a file, also of one that is open.

use super::{Connection, Fault, FaultKind, FileCipher, Opener, PAGE, ciphers};
use crate::work::progress;
use rusqlite::backup::{Backup, StepResult};
use std::fs::File;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::time::{Duration, Instant};
use velvet_core::file::header::Header;

const WAIT: Duration = Duration::from_secs(5);

/// How long to wait until trying again where somebody has the file just now.
const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(4);

/// How many pages to copy before others get a turn, and it is told how far it has come.
const PAGES: i32 = 4096;

/// Copies what the file at `path` holds, what stands in the write-ahead log beside it included, to a new file at `to`. The copy is one
/// file, on the device when this returns, and has the same key where the file is encrypted.
pub(crate) fn copy_whole(path: &Path, to: &Path) -> Result<(), Fault> {
    copy_from(&Opener::new(path).waiting(WAIT).reader()?, to)
}

/// As [`copy_whole`], of the file behind a connection.
pub(crate) fn copy_from(source: &Connection, to: &Path) -> Result<(), Fault> {
    let mut target = Opener::new(to).waiting(WAIT).encrypted(source.cipher.clone()).new_writer()?;
    let backup = Backup::new(&source.engine, &mut target.engine)?;
    let deadline = Instant::now() + WAIT;
    loop {
        source.refuse_if_cancelled()?;
        let copied = backup.step(PAGES)?;
        let at = backup.progress();
        let [left, all] = [at.remaining, at.pagecount].map(|pages| u64::try_from(pages).unwrap_or_default());
        progress::tell(|| "copying pages".to_owned(), all.saturating_sub(left), Some(all));
        match copied {
            StepResult::Done => break,
            StepResult::More => {}
            _ if Instant::now() < deadline => std::thread::sleep(BETWEEN_ATTEMPTS),
            _ => {
                return Err(Fault {
                    kind: FaultKind::Locked,
                    message: "the file is being written all the time".into(),
                });
            }
        }
    }
    drop(backup);
    source.refuse_unproven()?;
    target.leave_wal()?;
    target.close()?;
    count_anew(to, source.cipher.as_deref()).map_err(|error| Fault::device(&error))
}

/// Gives a copy, which nobody has open yet, a count of its own of how often its header was written. A write-ahead log of the file that it is a
/// copy of, left by a kill where the copy is put, is told by that from one of its own.
fn count_anew(copy: &Path, cipher: Option<&FileCipher>) -> io::Result<()> {
    let mut file = File::options().read(true).write(true).open(copy)?;
    if file.metadata()?.len() == 0 {
        return Ok(());
    }
    let mut first = [0; PAGE];
    let start = if cipher.is_some() { &mut first[..] } else { &mut first[..Header::BYTES] };
    file.read_exact(start)?;
    if cipher.is_some_and(|cipher| !cipher.open(1, start)) {
        return Err(io::Error::other("what was copied does not open with its key"));
    }
    let count = Header::any_count(RandomState::new().build_hasher().finish());
    for at in Header::COUNT_AT {
        start[at..at + count.len()].copy_from_slice(&count);
    }
    cipher.map_or(Ok(()), |cipher| ciphers::close(cipher, 1, &mut first))?;
    let bytes = if cipher.is_some() { &first[..] } else { &first[..Header::BYTES] };
    file.seek(SeekFrom::Start(0))?;
    file.write_all(bytes)?;
    file.sync_all()
}
