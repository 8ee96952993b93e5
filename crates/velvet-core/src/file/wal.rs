//! The write-ahead log beside a database file (WAL), as the documentation of the open format describes it.

use crate::file::header::number;
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};

/// What the names of the files end with that stand beside a database file and belong to it: the write-ahead log, its shared memory, the rollback journal.
pub const COMPANIONS: [&str; 3] = ["-wal", "-shm", "-journal"];

/// The database file to which one of this name would belong; nothing where it is no such name.
pub fn database_of(path: &Path) -> Option<PathBuf> {
    let name = path.file_name()?.to_str()?;
    let of = COMPANIONS.iter().find_map(|end| name.strip_suffix(end)).filter(|of| !of.is_empty())?;
    Some(path.with_file_name(of))
}

/// How many bytes a log begins with.
pub const HEADER: usize = 32;

/// How many bytes stand before each page in a log.
pub const FRAME: usize = 24;

/// What a log begins with.
#[derive(Clone, Copy, Debug)]
pub struct WalHeader {
    /// The bytes of a page.
    pub page_size: u32,
    salts: [u8; 8],
    word: fn([u8; 4]) -> u32,
    sum: Checksum,
}

/// The running checksum of a log: that of a frame covers everything before it.
type Checksum = (u32, u32);

/// Continues a checksum over bytes, whose number is a multiple of 8.
fn continued((mut first, mut second): Checksum, word: fn([u8; 4]) -> u32, bytes: &[u8]) -> Checksum {
    for pair in bytes.chunks_exact(8) {
        first = first.wrapping_add(word([pair[0], pair[1], pair[2], pair[3]])).wrapping_add(second);
        second = second.wrapping_add(word([pair[4], pair[5], pair[6], pair[7]])).wrapping_add(first);
    }
    (first, second)
}

impl WalHeader {
    /// Reads it; nothing where it is no log, or damaged.
    pub fn read(bytes: &[u8; HEADER]) -> Option<WalHeader> {
        let magic = number(bytes, 0);
        let word: fn([u8; 4]) -> u32 = match magic {
            0x377f_0682 => u32::from_le_bytes,
            0x377f_0683 => u32::from_be_bytes,
            _ => return None,
        };
        let sum = continued((0, 0), word, &bytes[..24]);
        let salts = bytes[16..24].try_into().ok()?;
        let is_whole = sum == (number(bytes, 24), number(bytes, 28));
        is_whole.then_some(WalHeader { page_size: number(bytes, 8), salts, word, sum })
    }

    /// Which page a frame has, and how many pages the file has after it where it ends a transaction. `None` unless the engine counts the frame: it is left over
    /// from before the log began again, or a kill fell between its start and its page.
    fn frame(&mut self, start: &[u8; FRAME], page: &[u8]) -> Option<(u32, Option<u32>)> {
        let sum = continued(continued(self.sum, self.word, &start[..8]), self.word, page);
        let counts =
            number(start, 0) > 0 && start[8..16] == self.salts && sum == (number(start, 16), number(start, 20));
        self.sum = sum;
        let commit = Some(number(start, 4)).filter(|pages| *pages > 0);
        counts.then(|| (number(start, 0), commit))
    }
}

/// One page in a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Frame {
    /// Which page it is.
    pub page: u32,
    /// Where in the log the page stands.
    pub at: u64,
    /// How many pages the file has after it, where it ends a transaction.
    pub commit: Option<u32>,
}

/// The pages that the engine takes from a log, in the order in which they were written: those of all transactions that were committed, up to the first frame
/// whose checksum is wrong. `None` unless it is a log with pages of this size whose beginning is sound.
///
/// # Errors
/// When it cannot be read.
pub fn frames(log: &mut (impl Read + Seek), page_size: u32) -> io::Result<Option<Vec<Frame>>> {
    let length = log.seek(io::SeekFrom::End(0))?;
    log.rewind()?;
    let (mut head, mut start) = ([0; HEADER], [0; FRAME]);
    if length < HEADER as u64 {
        return Ok(None);
    }
    log.read_exact(&mut head)?;
    let Some(mut head) = WalHeader::read(&head).filter(|head| head.page_size == page_size) else { return Ok(None) };
    let (mut frames, mut committed, mut at) = (Vec::new(), 0, (HEADER + FRAME) as u64);
    let mut content = vec![0; page_size as usize];
    while at + u64::from(page_size) <= length {
        log.read_exact(&mut start)?;
        log.read_exact(&mut content)?;
        let Some((page, commit)) = head.frame(&start, &content) else { break };
        frames.push(Frame { page, at, commit });
        if commit.is_some() {
            committed = frames.len();
        }
        at += FRAME as u64 + u64::from(page_size);
    }
    frames.truncate(committed);
    Ok(Some(frames))
}
