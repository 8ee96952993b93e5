//! Pages as they stand in a file: rows are read as they were written, and nothing is trusted.

use proptest::prelude::*;
use velvet_core::Value;
use velvet_core::b_tree::{Encoding, Layout, Node, node, rest, unused, values};
use velvet_core::header::Header;
use velvet_core::wal::{FRAME, HEADER, WalHeader};

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
        let _ = WalHeader::read(page[..HEADER].try_into().unwrap()).map(|head| head.frame(page[..FRAME].try_into().unwrap()));
        let mut header: [u8; 100] = page[..100].try_into().unwrap();
        let _ = (Header::read(&header, u64::MAX), Layout::read(&header));
        header[..16].copy_from_slice(b"SQLite format 3\0");
        if let Some(layout) = Layout::read(&header) {
            prop_assert!(layout.page_size.is_power_of_two() && (480..=layout.page_size).contains(&layout.usable));
        }
    }
}

#[test]
fn the_beginning_of_a_log_is_told_by_its_own_sum() {
    let mut head = [0_u8; HEADER];
    head[..4].copy_from_slice(&0x377f_0683_u32.to_be_bytes());
    head[8..12].copy_from_slice(&4096_u32.to_be_bytes());
    head[16..24].copy_from_slice(b"saltsalt");
    let (mut first, mut second) = (0_u32, 0_u32);
    for pair in head[..24].chunks(8) {
        let word = |at: usize| u32::from_be_bytes(pair[at..at + 4].try_into().unwrap());
        first = first.wrapping_add(word(0)).wrapping_add(second);
        second = second.wrapping_add(word(4)).wrapping_add(first);
    }
    head[24..28].copy_from_slice(&first.to_be_bytes());
    head[28..].copy_from_slice(&second.to_be_bytes());
    let read = WalHeader::read(&head).unwrap();
    assert_eq!(read.page_size, 4096);
    let mut frame = [0_u8; FRAME];
    frame[3] = 7;
    assert_eq!(read.frame(&frame), None, "it is left over from before");
    frame[8..16].copy_from_slice(b"saltsalt");
    assert_eq!(read.frame(&frame), Some((7, None)));
    frame[7] = 9;
    assert_eq!(read.frame(&frame), Some((7, Some(9))));
    head[20] ^= 1;
    assert_eq!(WalHeader::read(&head), None);
}
