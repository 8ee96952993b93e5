//! What can be known of an encrypted file without its key.

use super::forms;
use crate::device::companions::with_companions;
use crate::engine::{PAGE, PastEngine};
use crate::opening::resolved;
use serde::Serialize;
use std::fs;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use velvet_core::file::header::MAGIC;
use velvet_core::file::wal;
use velvet_core::value::hex::hex;

/// How many pages to look at, beside the first.
const LOOKED_AT: u64 = 16;

/// A file that is no plain database, and whose pages look random, as those of an encrypted one do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct SeemsEncrypted {
    /// Where it is.
    #[serde(serialize_with = "forms::path")]
    pub path: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
    /// How many pages it has.
    pub pages: u64,
    /// The first 16 bytes in hexadecimal, which tell the file from others and are no secret. A keeper of keys has its key under `file/` and these.
    pub salt: String,
    /// How many pages stand in the write-ahead log beside it.
    pub pages_in_log: u64,
}

/// What can be known without its key of the file at `path`, where it seems to be encrypted as `Options::encrypted` has it. Nothing where it is plain, or does
/// not look like chance; compressed data of the same length look like that too.
///
/// # Errors
/// When it cannot be read.
///
/// ```
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("text");
/// std::fs::write(&path, "no secret\n".repeat(4096))?;
/// assert_eq!(velvet_drawer::inspect::seems_encrypted(&path)?, None);
/// # Ok::<(), std::io::Error>(())
/// ```
pub fn seems_encrypted(path: impl AsRef<Path>) -> io::Result<Option<SeemsEncrypted>> {
    let path = path.as_ref();
    // What is no file may have no end, or no beginning. Closing a handle of ours would drop the locks on a file that is open.
    if !fs::metadata(path)?.is_file() {
        return Ok(None);
    }
    let resolved = resolved(path).unwrap_or_else(|_| path.to_owned());
    let Some(_past_engine) = PastEngine::begin(&resolved) else { return Ok(None) };
    let mut file = fs::File::open(path)?;
    let bytes = file.metadata()?.len();
    let pages = bytes / PAGE as u64;
    if pages == 0 || !bytes.is_multiple_of(PAGE as u64) {
        return Ok(None);
    }
    let step = usize::try_from((pages / LOOKED_AT).max(1)).unwrap_or(usize::MAX);
    let (mut page, mut salt) = (vec![0; PAGE], String::new());
    for at in (0..pages).step_by(step) {
        file.seek(SeekFrom::Start(at * PAGE as u64))?;
        file.read_exact(&mut page)?;
        if at == 0 {
            salt = hex(&page[..MAGIC.len()]);
        }
        if page.starts_with(MAGIC) || !is_chance(&page) {
            return Ok(None);
        }
    }
    let log = with_companions(path).nth(1).map(fs::File::open);
    let frames = match log {
        Some(Ok(mut log)) => wal::frames(&mut log, PAGE as u32)?.map_or(0, |frames| frames.len()),
        _ => 0,
    };
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    Ok(Some(SeemsEncrypted { path, bytes, pages, salt, pages_in_log: frames as u64 }))
}

/// Whether all values of a byte are about as frequent in a page as chance makes them: of 4,096 bytes, 16 each.
fn is_chance(page: &[u8]) -> bool {
    let mut counts = [0_u32; 256];
    page.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
    let expected = page.len() as f64 / 256.0;
    let distance: f64 = counts.iter().map(|count| (f64::from(*count) - expected).powi(2) / expected).sum();
    // Chance gives 255 on average, and less than 400 but once in a hundred million pages.
    distance < 400.0
}
