//! The write-ahead log beside a database file (WAL), as the documentation of the open format describes it.

use crate::header::number;
use std::io::{self, Read, Seek};

/// How many bytes a log begins with.
pub const HEADER: usize = 32;

/// How many bytes stand before each page in a log.
pub const FRAME: usize = 24;

/// What a log begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WalHeader {
    /// The bytes of a page.
    pub page_size: u32,
    salts: [u8; 8],
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
        let (mut first, mut second) = (0_u32, 0_u32);
        for pair in bytes[..24].chunks_exact(8) {
            first = first.wrapping_add(word([pair[0], pair[1], pair[2], pair[3]])).wrapping_add(second);
            second = second.wrapping_add(word([pair[4], pair[5], pair[6], pair[7]])).wrapping_add(first);
        }
        let salts = bytes[16..24].try_into().ok()?;
        let is_whole = first == number(bytes, 24) && second == number(bytes, 28);
        is_whole.then_some(WalHeader { page_size: number(bytes, 8), salts })
    }

    /// Which page a frame has, and how many pages the file has after it where it ends a transaction. Nothing where the frame is
    /// left over from before the log began anew.
    pub fn frame(&self, bytes: &[u8; FRAME]) -> Option<(u32, Option<u32>)> {
        let commit = Some(number(bytes, 4)).filter(|pages| *pages > 0);
        (bytes[8..16] == self.salts).then(|| (number(bytes, 0), commit))
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

/// The pages of a log, in the order in which they were written, up to the first that is not whole. Nothing where it is no log of a file
/// with pages of this size, or its beginning is damaged.
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
    let Some(head) = WalHeader::read(&head).filter(|head| head.page_size == page_size) else { return Ok(None) };
    let (mut frames, mut at) = (Vec::new(), (HEADER + FRAME) as u64);
    while at + u64::from(page_size) <= length {
        log.read_exact(&mut start)?;
        let Some((page, commit)) = head.frame(&start) else { break };
        frames.push(Frame { page, at, commit });
        log.seek_relative(page_size.into())?;
        at += FRAME as u64 + u64::from(page_size);
    }
    Ok(Some(frames))
}
