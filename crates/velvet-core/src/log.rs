//! The beginnings of a database file and of the log beside it, as far as they tell whether the two belong together.
//!
//! Both are described in the documentation of the open format.

/// What the file begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    /// The bytes of a page.
    pub page_size: u32,
    /// Whether the newest changes are kept in a log beside the file.
    pub keeps_log: bool,
    /// How often the header was written.
    pub count: u32,
    /// How many pages the file should have, where it says so reliably.
    pub pages: Option<u32>,
    /// How many whole pages there are.
    pub pages_there: u32,
}

const MAGIC: &[u8; 16] = b"SQLite format 3\0";

impl Header {
    /// How many bytes it has.
    pub const BYTES: usize = 100;

    /// Reads the header of a file of this length; nothing where it is no database.
    pub fn read(bytes: &[u8; Self::BYTES], length: u64) -> Option<Header> {
        let page_size = match u32::from(u16::from_be_bytes([bytes[16], bytes[17]])) {
            1 => 65_536,
            size => size,
        };
        if !bytes.starts_with(MAGIC) || !page_size.is_power_of_two() || page_size < 512 {
            return None;
        }
        let count = Header::count(bytes);
        let pages = Some(number(bytes, 28)).filter(|pages| *pages > 0 && number(bytes, 92) == count);
        let pages_there = u32::try_from(length / u64::from(page_size)).ok()?;
        Some(Header { page_size, keeps_log: bytes[18] == 2, count, pages, pages_there })
    }

    /// How often the header was written, in the first bytes of a page 1.
    pub fn count(bytes: &[u8; Self::BYTES]) -> u32 {
        number(bytes, 24)
    }
}

/// How many bytes a log begins with.
pub const HEAD: usize = 32;

/// How many bytes stand before each page in a log.
pub const FRAME: usize = 24;

/// What a log begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Head {
    /// The bytes of a page.
    pub page_size: u32,
    salts: [u8; 8],
}

impl Head {
    /// Reads it; nothing where it is no log, or damaged.
    pub fn read(bytes: &[u8; HEAD]) -> Option<Head> {
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
        is_whole.then_some(Head { page_size: number(bytes, 8), salts })
    }

    /// Which page a frame has, and how many pages the file has after it where it ends a transaction. Nothing where the frame is
    /// left over from before the log began anew.
    pub fn frame(&self, bytes: &[u8; FRAME]) -> Option<(u32, Option<u32>)> {
        let commit = Some(number(bytes, 4)).filter(|pages| *pages > 0);
        (bytes[8..16] == self.salts).then(|| (number(bytes, 0), commit))
    }
}

fn number(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_be_bytes)
}
