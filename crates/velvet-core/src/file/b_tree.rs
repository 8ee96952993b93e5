//! Reading the pages of a table as they stand in a file, for one that is damaged: whatever does not add up is left out, and nothing
//! is trusted.
//!
//! The form of pages is described in the documentation of the open format.

use crate::file::header::Header;
use crate::value::Value;
use std::ops::Range;

/// What all pages of a file have in common.
#[derive(Clone, Copy, Debug)]
pub struct Layout {
    /// The bytes of a page.
    pub page_size: usize,
    /// The bytes of a page that hold something.
    pub usable: usize,
    /// How text is written.
    pub encoding: Encoding,
}

/// How text is written in a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// As UTF-8.
    Utf8,
    /// As UTF-16, the low byte first.
    Utf16Low,
    /// As UTF-16, the high byte first.
    Utf16High,
}

impl Layout {
    /// Reads it from the beginning of a file; nothing where that is no database.
    pub fn read(header: &[u8; 100]) -> Option<Layout> {
        let page_size = Header::read(header, 0)?.page_size as usize;
        let usable = page_size - usize::from(header[20]);
        let encoding = match header[59] {
            2 => Encoding::Utf16Low,
            3 => Encoding::Utf16High,
            _ => Encoding::Utf8,
        };
        (usable >= 480).then_some(Layout { page_size, usable, encoding })
    }
}

/// A page of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Node {
    /// One that leads to others: each with the largest row number below it, the last without.
    Inner(Vec<(Option<i64>, u32)>),
    /// One with rows.
    Leaf {
        /// The rows.
        cells: Vec<Cell>,
        /// How many rows do not add up.
        broken: usize,
    },
}

/// Where a row stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cell {
    /// The row number.
    pub row: i64,
    /// The bytes of the row that stand in the page.
    pub here: Range<usize>,
    /// How many bytes the row has altogether.
    pub total: usize,
    /// The page on which the rest begins.
    pub rest: Option<u32>,
}

const INNER: u8 = 5;
const LEAF: u8 = 13;

/// Reads a page of a table; nothing where it is none. The first page of a file begins with the file's header.
pub fn node(page: &[u8], is_first: bool, layout: &Layout) -> Option<Node> {
    let start = if is_first { 100 } else { 0 };
    let kind = *page.get(start)?;
    let count = usize::from(short(page, start + 3)?);
    let head = match kind {
        INNER => 12,
        LEAF => 8,
        _ => return None,
    };
    if start + head + 2 * count > layout.usable || page.len() < layout.page_size {
        return None;
    }
    let at = |n: usize| short(page, start + head + 2 * n).map(usize::from);
    if kind == INNER {
        let mut children = Vec::with_capacity(count + 1);
        for n in 0..count {
            let at = at(n)?;
            let (key, _) = varint(page.get(at + 4..)?)?;
            children.push((Some(key), long(page, at)?));
        }
        children.push((None, long(page, start + 8)?));
        return Some(Node::Inner(children));
    }
    let cells: Vec<Cell> = (0..count).filter_map(|n| cell(page, at(n)?, layout)).collect();
    Some(Node::Leaf { broken: count - cells.len(), cells })
}

fn cell(page: &[u8], at: usize, layout: &Layout) -> Option<Cell> {
    let (total, first) = varint(page.get(at..layout.usable)?)?;
    let (row, second) = varint(page.get(at + first..layout.usable)?)?;
    let total = usize::try_from(total).ok()?;
    let start = at + first + second;
    let (most, least) = (layout.usable - 35, (layout.usable - 12) * 32 / 255 - 23);
    let here = if total <= most {
        total
    } else {
        let kept = least + (total - least) % (layout.usable - 4);
        if kept <= most { kept } else { least }
    };
    if start + here > layout.usable {
        return None;
    }
    let rest = if here < total { Some(long(page, start + here)?) } else { None };
    Some(Cell { row, here: start..start + here, total, rest })
}

/// The page that follows one with the rest of a row, and the bytes in it.
pub fn rest<'p>(page: &'p [u8], layout: &Layout) -> Option<(u32, &'p [u8])> {
    Some((long(page, 0)?, page.get(4..layout.usable)?))
}

/// The pages that are in no use, which one page of their list names, and the next page of the list.
pub fn unused(page: &[u8], layout: &Layout) -> Option<(u32, Vec<u32>)> {
    let count = long(page, 4)? as usize;
    let most = (layout.usable / 4).saturating_sub(2);
    let named = (0..count.min(most)).filter_map(|n| long(page, 8 + 4 * n)).collect();
    Some((long(page, 0)?, named))
}

/// The values of a row; nothing where they do not add up.
pub fn values(row: &[u8], encoding: Encoding) -> Option<Vec<Value>> {
    let (head, mut at) = varint(row)?;
    let head = usize::try_from(head).ok()?;
    let mut body = head;
    let mut all = Vec::new();
    while at < head {
        let (kind, length) = varint(row.get(at..head)?)?;
        at += length;
        let (value, bytes) = value(kind, row.get(body..)?, encoding)?;
        body += bytes;
        all.push(value);
    }
    (at == head && body == row.len()).then_some(all)
}

fn value(kind: i64, bytes: &[u8], encoding: Encoding) -> Option<(Value, usize)> {
    let whole = |length: usize| -> Option<i64> {
        let bytes = bytes.get(..length)?;
        let start = if bytes[0] & 0x80 == 0 { 0 } else { -1 };
        Some(bytes.iter().fold(start, |number, byte| number << 8 | i64::from(*byte)))
    };
    let found = match kind {
        0 => (Value::Missing, 0),
        1..=4 => (Value::Integer(whole(kind as usize)?), kind as usize),
        5 => (Value::Integer(whole(6)?), 6),
        6 => (Value::Integer(whole(8)?), 8),
        7 => (Value::Real(f64::from_be_bytes(bytes.get(..8)?.try_into().ok()?)), 8),
        8 => (Value::Integer(0), 0),
        9 => (Value::Integer(1), 0),
        12.. if kind % 2 == 0 => {
            let length = usize::try_from((kind - 12) / 2).ok()?;
            (Value::Bytes(bytes.get(..length)?.to_vec()), length)
        }
        13.. => {
            let length = usize::try_from((kind - 13) / 2).ok()?;
            (Value::Text(text(bytes.get(..length)?, encoding)), length)
        }
        _ => return None,
    };
    Some(found)
}

fn text(bytes: &[u8], encoding: Encoding) -> String {
    let units = |unit: fn([u8; 2]) -> u16| -> String {
        let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| unit([pair[0], pair[1]])).collect();
        String::from_utf16_lossy(&units)
    };
    match encoding {
        Encoding::Utf8 => String::from_utf8_lossy(bytes).into_owned(),
        Encoding::Utf16Low => units(u16::from_le_bytes),
        Encoding::Utf16High => units(u16::from_be_bytes),
    }
}

/// A number of one to nine bytes, and how many those are.
fn varint(bytes: &[u8]) -> Option<(i64, usize)> {
    let mut number = 0_u64;
    for (at, byte) in bytes.iter().take(9).enumerate() {
        if at == 8 {
            return Some(((number << 8 | u64::from(*byte)) as i64, 9));
        }
        number = number << 7 | u64::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            return Some((number as i64, at + 1));
        }
    }
    None
}

fn short(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

fn long(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}
