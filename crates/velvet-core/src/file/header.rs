//! What a database file begins with, as the documentation of the open format describes it.

/// What the file begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    /// The bytes of a page.
    pub page_size: u32,
    /// Whether the newest changes are kept in a write-ahead log beside the file.
    pub keeps_log: bool,
    /// How often the header was written.
    pub count: u32,
    /// How many pages the file should have, where it says so reliably.
    pub pages: Option<u32>,
    /// How many whole pages there are.
    pub pages_there: u32,
    /// The version that the file is at, as its program counts.
    pub version: i32,
    /// The number by which its program marks its files.
    pub application: i32,
}

/// How every file of the format begins.
pub const MAGIC: &[u8; 16] = b"SQLite format 3\0";

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
        Some(Header {
            page_size,
            keeps_log: bytes[18] == 2,
            count,
            pages: Some(number(bytes, 28)).filter(|pages| *pages > 0 && number(bytes, 92) == count),
            pages_there: u32::try_from(length / u64::from(page_size)).ok()?,
            version: number(bytes, 60).cast_signed(),
            application: number(bytes, 68).cast_signed(),
        })
    }

    /// Where the count of how often it was written stands, and where it stands again.
    pub const COUNT_AT: [usize; 2] = [24, 92];

    /// The bytes of a count that no file has reached by being written to, one of a billion.
    pub fn any_count(chance: u64) -> [u8; 4] {
        ((chance as u32 & 0x3fff_ffff) | 0x4000_0000).to_be_bytes()
    }

    /// How often the header was written, in the first bytes of a page 1.
    pub fn count(bytes: &[u8; Self::BYTES]) -> u32 {
        number(bytes, 24)
    }
}

/// Four bytes of a file, the high byte first.
pub(crate) fn number(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_be_bytes)
}
