//! Keys of rows that compare as the engine sorts the rows.

use crate::query::collation::Collation;
use crate::search::letters::ignoring_case;
use crate::value::ValueRef;
use std::cmp::Ordering;

/// How rows of a list compare, so that a row's place is found without asking the engine.
///
/// Of each row its values of the orders are kept as bytes, which compare as the engine compares the values: missing ones first or last, numbers
/// whatever their kind, text, bytes. Only orders of the app's own keep the text itself.
#[derive(Clone, Debug, Default)]
pub struct SortKeys {
    terms: Vec<SortTerm>,
    /// Among equals, whether the larger row number comes first.
    newest_first: bool,
}

/// How one order sorts.
#[derive(Clone, Debug)]
pub(crate) struct SortTerm {
    pub(crate) descending: bool,
    pub(crate) missing_last: bool,
    pub(crate) ignores_case: bool,
    pub(crate) collation: Option<Collation>,
}

/// What a value's bytes begin with. In a descending order all its bits are turned.
const NUMBER: u8 = 0x20;
const TEXT: u8 = 0x30;
const BYTES: u8 = 0x40;

/// Before and after everything, in whichever direction.
const FIRST: u8 = 0x01;
const LAST: u8 = 0xFE;

impl SortKeys {
    pub(crate) fn new(terms: Vec<SortTerm>, newest_first: bool) -> SortKeys {
        SortKeys { terms, newest_first }
    }

    /// How many values a row's key has.
    pub fn len(&self) -> usize {
        self.terms.len()
    }

    /// Whether rows have no order but that of their numbers.
    pub fn is_empty(&self) -> bool {
        self.terms.is_empty()
    }

    /// Appends the key of a row with these values.
    pub fn write<'v>(&self, values: impl IntoIterator<Item = ValueRef<'v>>, key: &mut Vec<u8>) {
        let extent = if self.has_collations() { Extent::Measured } else { Extent::Marked };
        for (term, value) in self.terms.iter().zip(values) {
            term.write(value, extent, key);
        }
    }

    /// Which of two rows comes first, each with its key and its number.
    pub fn compare(&self, a: (&[u8], i64), b: (&[u8], i64)) -> Ordering {
        let by_key = if self.has_collations() { self.compare_measured(a.0, b.0) } else { a.0.cmp(b.0) };
        by_key.then_with(|| if self.newest_first { b.1.cmp(&a.1) } else { a.1.cmp(&b.1) })
    }

    fn has_collations(&self) -> bool {
        self.terms.iter().any(|term| term.collation.is_some())
    }

    fn compare_measured(&self, mut a: &[u8], mut b: &[u8]) -> Ordering {
        for term in &self.terms {
            let ((tag_a, value_a), (tag_b, value_b)) = (taken(&mut a), taken(&mut b));
            let text = if term.descending { !TEXT } else { TEXT };
            let compared = match &term.collation {
                Some(collation) if tag_a == text && tag_b == text => {
                    let [a, b] = [value_a, value_b].map(|bytes| std::str::from_utf8(bytes).unwrap_or_default());
                    let compared = (collation.compare)(a, b);
                    if term.descending { compared.reverse() } else { compared }
                }
                _ => tag_a.cmp(&tag_b).then_with(|| {
                    // Turned bytes have no end: the longer of two that begin alike comes first.
                    let length = value_a.len().min(value_b.len());
                    let by_length = value_a.len().cmp(&value_b.len());
                    let by_length = if term.descending { by_length.reverse() } else { by_length };
                    value_a[..length].cmp(&value_b[..length]).then(by_length)
                }),
            };
            if compared.is_ne() {
                return compared;
            }
        }
        Ordering::Equal
    }
}

/// How the end of a value in a key is found.
#[derive(Clone, Copy, PartialEq)]
enum Extent {
    /// It says how many bytes it has, so that it can be taken out again.
    Measured,
    /// It ends where the next cannot be mistaken for a part of it.
    Marked,
}

impl SortTerm {
    fn write(&self, value: ValueRef<'_>, extent: Extent, key: &mut Vec<u8>) {
        let begin = key.len();
        let tag = match value {
            ValueRef::Missing => {
                key.push(if self.missing_last { LAST } else { FIRST });
                if extent == Extent::Measured {
                    key.extend([0; LENGTH]);
                }
                return;
            }
            ValueRef::Integer(_) | ValueRef::Real(_) => NUMBER,
            ValueRef::Text(_) | ValueRef::BrokenText(_) => TEXT,
            ValueRef::Bytes(_) => BYTES,
        };
        key.push(tag);
        if extent == Extent::Measured {
            key.extend([0; LENGTH]);
        }
        let content = key.len();
        match value {
            ValueRef::Integer(number) => push_number(number as f64, residue(number), key),
            ValueRef::Real(number) => push_number(number, 0, key),
            ValueRef::Text(text) => self.push_text(text.as_bytes(), extent, key),
            ValueRef::BrokenText(bytes) => self.push_text(bytes, extent, key),
            ValueRef::Bytes(bytes) => push_bytes(bytes, extent, key),
            ValueRef::Missing => {}
        }
        let is_kept = self.collation.is_some() && tag == TEXT;
        if self.descending {
            key[begin] = !key[begin];
            if !is_kept {
                key[content..].iter_mut().for_each(|byte| *byte = !*byte);
            }
        }
        if extent == Extent::Measured {
            let length = u32::try_from(key.len() - content).unwrap_or(u32::MAX);
            key[begin + 1..content].copy_from_slice(&length.to_be_bytes());
        }
    }

    fn push_text(&self, text: &[u8], extent: Extent, key: &mut Vec<u8>) {
        if self.ignores_case {
            let (compared, length) = ignoring_case(text);
            push_bytes(&compared, extent, key);
            key.extend((length as u64).to_be_bytes());
        } else {
            push_bytes(text, extent, key);
        }
    }
}

/// How many bytes say how many there are.
const LENGTH: usize = 4;

/// The tag and the bytes of the value with which a key begins, which is then without it.
fn taken<'k>(key: &mut &'k [u8]) -> (u8, &'k [u8]) {
    let Some((head, rest)) = key.split_at_checked(1 + LENGTH) else { return (0, std::mem::take(key)) };
    let length = head[1..].try_into().map_or(0, u32::from_be_bytes) as usize;
    let (value, rest) = rest.split_at(length.min(rest.len()));
    *key = rest;
    (head[0], value)
}

/// What a whole number has beyond the decimal that is nearest to it.
fn residue(number: i64) -> i16 {
    // The nearest decimal of the largest numbers is just above what the type takes, which `i128` still does.
    i16::try_from(i128::from(number) - number as f64 as i128).unwrap_or_default()
}

/// A number as the nearest decimal and what it has beyond that, so that numbers of both kinds compare by what they are.
fn push_number(nearest: f64, residue: i16, key: &mut Vec<u8>) {
    // Both zeros are the same to the engine.
    let bits = if nearest == 0.0 { 0 } else { nearest.to_bits() };
    let ordered = if bits >> 63 == 1 { !bits } else { bits | 1 << 63 };
    key.extend(ordered.to_be_bytes());
    match residue.cmp(&0) {
        // Hardly any number has one.
        Ordering::Equal => key.push(0x80),
        side => {
            key.push(if side.is_lt() { 0x7F } else { 0x81 });
            key.extend((residue as u16 ^ 0x8000).to_be_bytes());
        }
    }
}

fn push_bytes(bytes: &[u8], extent: Extent, key: &mut Vec<u8>) {
    if extent == Extent::Measured {
        return key.extend(bytes);
    }
    for byte in bytes {
        key.push(*byte);
        if *byte == 0 {
            key.push(0xFF);
        }
    }
    key.extend([0, 0]);
}
