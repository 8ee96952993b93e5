//! Pages as they stand in a file: rows are read as they were written, and nothing is trusted.

use proptest::prelude::*;
use velvet_core::Value;
use velvet_core::file::b_tree::{Encoding, Layout, Node, node, rest, unused, values};
use velvet_core::file::header::Header;
use velvet_core::file::wal::{self, FRAME, HEADER, WalHeader};

const PAGE: usize = 512;

fn layout() -> Layout {
    Layout { page_size: PAGE, usable: PAGE, encoding: Encoding::Utf8 }
}

/// A number in the form of the file: seven bits a byte, the last of nine with eight.
fn varint(number: i64) -> Vec<u8> {
    let number = number as u64;
    if number >> 56 != 0 {
        let mut bytes: Vec<u8> = (0..8).map(|n| (number >> (8 + 7 * (7 - n))) as u8 | 0x80).collect();
        bytes.push(number as u8);
        return bytes;
    }
    let length = (1..=8).find(|n| number >> (7 * n) == 0).unwrap();
    (0..length)
        .map(|n| (number >> (7 * (length - 1 - n))) as u8 & 0x7f | if n + 1 < length { 0x80 } else { 0 })
        .collect()
}

/// A row in the form of the file.
fn row(all: &[Value]) -> Vec<u8> {
    let (mut kinds, mut body) = (Vec::new(), Vec::new());
    for value in all {
        match value {
            Value::Missing => kinds.extend(varint(0)),
            Value::Integer(0) => kinds.extend(varint(8)),
            Value::Integer(1) => kinds.extend(varint(9)),
            Value::Integer(n) => {
                let (kind, length) = [(1, 1), (2, 2), (3, 3), (4, 4), (5, 6), (6, 8)]
                    .into_iter()
                    .find(|(_, length)| *length == 8 || (*n << (64 - 8 * length)) >> (64 - 8 * length) == *n)
                    .unwrap();
                kinds.extend(varint(kind));
                body.extend(&n.to_be_bytes()[8 - length..]);
            }
            Value::Real(x) => {
                kinds.extend(varint(7));
                body.extend(x.to_be_bytes());
            }
            Value::Bytes(bytes) => {
                kinds.extend(varint(12 + 2 * bytes.len() as i64));
                body.extend(bytes);
            }
            Value::Text(text) => {
                kinds.extend(varint(13 + 2 * text.len() as i64));
                body.extend(text.as_bytes());
            }
        }
    }
    assert!(kinds.len() < 127, "the length of the head takes one byte here");
    [varint(kinds.len() as i64 + 1), kinds, body].concat()
}

/// A page with rows.
fn leaf(rows: &[(i64, Vec<u8>)]) -> Vec<u8> {
    let mut page = vec![0; PAGE];
    page[0] = 13;
    page[3..5].copy_from_slice(&(rows.len() as u16).to_be_bytes());
    let mut end = PAGE;
    for (at, (number, row)) in rows.iter().enumerate() {
        let cell = [varint(row.len() as i64), varint(*number), row.clone()].concat();
        end -= cell.len();
        page[end..end + cell.len()].copy_from_slice(&cell);
        page[8 + 2 * at..10 + 2 * at].copy_from_slice(&(end as u16).to_be_bytes());
    }
    page
}

fn a_value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Missing),
        any::<i64>().prop_map(Value::Integer),
        (-200_i64..70_000).prop_map(Value::Integer),
        any::<f64>().prop_filter("comparable", |x| !x.is_nan()).prop_map(Value::Real),
        "[a-zö]{0,9}".prop_map(Value::Text),
        proptest::collection::vec(any::<u8>(), 0..9).prop_map(Value::Bytes),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rows_of_a_page_are_read_as_they_were_written(rows in proptest::collection::vec((any::<i64>(), proptest::collection::vec(a_value(), 0..4)), 0..6)) {
        let written: Vec<(i64, Vec<u8>)> = rows.iter().map(|(number, values)| (*number, row(values))).collect();
        let page = leaf(&written);
        let Some(Node::Leaf { cells, broken: 0 }) = node(&page, false, &layout()) else { panic!("a page with rows") };
        let read: Vec<(i64, Vec<Value>)> =
            cells.iter().map(|c| (c.row, values(&page[c.here.clone()], Encoding::Utf8).unwrap())).collect();
        prop_assert_eq!(read, rows);
    }

    /// Any bytes are looked at without a panic, and what is said to stand in a page does.
    #[test]
    fn nothing_is_trusted(mut page in proptest::collection::vec(any::<u8>(), PAGE), kind in 0_usize..4, count in 0_u16..300) {
        page[0] = [13, 5, 10, page[0]][kind];
        page[3..5].copy_from_slice(&count.to_be_bytes());
        for is_first in [false, true] {
            if let Some(Node::Leaf { cells, .. }) = node(&page, is_first, &layout()) {
                for cell in cells {
                    prop_assert!(cell.here.end <= PAGE && cell.here.len() <= cell.total);
                    let _ = values(&page[cell.here], Encoding::Utf16Low);
                }
            }
        }
        let _ = values(&page, Encoding::Utf8);
        prop_assert!(rest(&page, &layout()).is_some());
        let (_, named) = unused(&page, &layout()).unwrap();
        prop_assert!(named.len() <= PAGE / 4);
        let _ = wal::frames(&mut std::io::Cursor::new(&page), PAGE as u32);
        let mut header: [u8; 100] = page[..100].try_into().unwrap();
        let _ = (Header::read(&header, u64::MAX), Layout::read(&header));
        header[..16].copy_from_slice(b"SQLite format 3\0");
        if let Some(layout) = Layout::read(&header) {
            prop_assert!(layout.page_size.is_power_of_two() && (480..=layout.page_size).contains(&layout.usable));
        }
    }
}

/// The checksum of the open format over words whose high byte is first.
fn summed((mut first, mut second): (u32, u32), bytes: &[u8]) -> (u32, u32) {
    for pair in bytes.chunks(8) {
        let word = |at: usize| u32::from_be_bytes(pair[at..at + 4].try_into().unwrap());
        first = first.wrapping_add(word(0)).wrapping_add(second);
        second = second.wrapping_add(word(4)).wrapping_add(first);
    }
    (first, second)
}

/// A log with these pages, each with whether it ends a transaction.
fn log(pages: &[(u32, bool)]) -> Vec<u8> {
    let mut log = [0x377f_0683_u32.to_be_bytes(), [0; 4], (PAGE as u32).to_be_bytes(), [0; 4]].concat();
    log.extend(b"saltsalt");
    let put = |log: &mut Vec<u8>, (first, second): (u32, u32)| {
        log.extend([first.to_be_bytes(), second.to_be_bytes()].concat())
    };
    let mut sum = summed((0, 0), &log);
    put(&mut log, sum);
    for (number, ends) in pages {
        let head = [number.to_be_bytes(), if *ends { [0, 0, 0, 9] } else { [0; 4] }].concat();
        let page = vec![*number as u8; PAGE];
        sum = summed(summed(sum, &head), &page);
        log.extend(head);
        log.extend(b"saltsalt");
        put(&mut log, sum);
        log.extend(page);
    }
    log
}

proptest! {
    #[test]
    fn frames_of_a_log_count_up_to_the_last_commit_before_the_first_wrong_byte(
        pages in prop::collection::vec((1_u32..9, any::<bool>()), 1..8),
        at in any::<prop::sample::Index>(),
        is_cut in any::<bool>(),
    ) {
        let whole = log(&pages);
        let read = |bytes: &[u8]| wal::frames(&mut std::io::Cursor::new(bytes), PAGE as u32).unwrap();
        let committed = |up_to: usize| pages[..up_to].iter().rposition(|(_, ends)| *ends).map_or(0, |at| at + 1);
        prop_assert_eq!(read(&whole).unwrap().len(), committed(pages.len()));
        let at = HEADER + at.index(whole.len() - HEADER);
        let mut bytes = whole.clone();
        if is_cut { bytes.truncate(at) } else { bytes[at] ^= 1 }
        let found = read(&bytes).unwrap();
        prop_assert_eq!(found.len(), committed((at - HEADER) / (PAGE + FRAME)));
        let same = |(frame, (page, ends)): (&wal::Frame, &(u32, bool))| frame.page == *page && frame.commit.is_some() == *ends;
        prop_assert!(found.iter().zip(&pages).all(same));
    }
}

#[test]
fn the_beginning_of_a_log_is_known_by_its_own_sum() {
    let mut head: [u8; HEADER] = log(&[])[..].try_into().unwrap();
    assert_eq!(WalHeader::read(&head).unwrap().page_size, PAGE as u32);
    head[20] ^= 1;
    assert!(WalHeader::read(&head).is_none());
}
