//! A list that changes a little at a time, and what changed between two states of it.

mod listing;
mod steps;

pub use listing::{Held, Listing, Row};
pub use steps::Step;

use crate::query::sort_key::SortKeys;
use std::fmt;
use std::ops::{Index, Range};
use std::sync::Arc;

/// A list as it was at one moment. Cloning it is cheap, however long it is: states of one list share what is the same in them.
pub struct List<R> {
    chunks: Arc<Vec<Chunked<R>>>,
}

/// A part of a list, and where it ends.
struct Chunked<R> {
    end: usize,
    chunk: Arc<Chunk<R>>,
}

/// Items that follow each other, and what is known of each.
struct Chunk<R> {
    numbers: Vec<i64>,
    hashes: Vec<u64>,
    items: Vec<Arc<R>>,
    /// The sort keys, one after the other, and where each ends.
    keys: Vec<u8>,
    key_ends: Vec<u32>,
    /// A bit for each number, so that most that are not here are told by one look.
    seen: [u64; SEEN],
}

/// How many words of bits there are.
const SEEN: usize = 32;

/// Where the bit of a number is.
fn bit(number: i64) -> (usize, u64) {
    ((number as u64 >> 6) as usize % SEEN, 1 << (number & 63))
}

impl<R> Default for List<R> {
    fn default() -> Self {
        List { chunks: Arc::default() }
    }
}

impl<R> Clone for List<R> {
    fn clone(&self) -> Self {
        List { chunks: Arc::clone(&self.chunks) }
    }
}

impl<R> Clone for Chunked<R> {
    fn clone(&self) -> Self {
        Chunked { end: self.end, chunk: Arc::clone(&self.chunk) }
    }
}

impl<R> Clone for Chunk<R> {
    fn clone(&self) -> Self {
        Chunk {
            numbers: self.numbers.clone(),
            hashes: self.hashes.clone(),
            items: self.items.clone(),
            keys: self.keys.clone(),
            key_ends: self.key_ends.clone(),
            seen: self.seen,
        }
    }
}

impl<R> List<R> {
    /// How many items it has.
    pub fn len(&self) -> usize {
        self.chunks.last().map_or(0, |c| c.end)
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.chunks.is_empty()
    }

    /// The item at this place, if there is one.
    pub fn get(&self, at: usize) -> Option<&R> {
        self.shared(at).map(|item| &**item)
    }

    /// The item at this place, if there is one, to be kept.
    pub fn shared(&self, at: usize) -> Option<&Arc<R>> {
        let chunk = self.chunks.partition_point(|c| c.end <= at);
        let begin = self.begin(chunk);
        self.chunks.get(chunk)?.chunk.items.get(at - begin)
    }

    /// The items in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &R> {
        self.chunks.iter().flat_map(|c| c.chunk.items.iter().map(|item| &**item))
    }

    /// The number of each item's row, in order.
    pub fn numbers(&self) -> impl Iterator<Item = i64> {
        self.chunks.iter().flat_map(|c| c.chunk.numbers.iter().copied())
    }

    /// Whether both have the same rows with the same values in the same order.
    pub fn is_same(&self, other: &List<R>) -> bool {
        if self.len() != other.len() {
            return false;
        }
        // States of one list share most of their chunks.
        let shared = self.chunks.iter().zip(other.chunks.iter()).take_while(|(a, b)| Arc::ptr_eq(&a.chunk, &b.chunk));
        let shared = shared.count();
        self.rows_from(shared).eq(other.rows_from(shared))
    }

    /// The items at these places, as far as they are there.
    #[must_use]
    pub fn part(&self, places: Range<usize>) -> List<R> {
        let mut part = Listing::new(SortKeys::default());
        for at in places.start..places.end.min(self.len()) {
            let (chunk, within) = self.located(at);
            let chunk = &self.chunks[chunk].chunk;
            part.push(chunk.numbers[within], chunk.hashes[within], &[], Arc::clone(&chunk.items[within]));
        }
        part.list().clone()
    }

    fn rows_from(&self, chunk: usize) -> impl Iterator<Item = (&i64, &u64)> {
        self.chunks[chunk..].iter().flat_map(|c| c.chunk.numbers.iter().zip(&c.chunk.hashes))
    }

    fn begin(&self, chunk: usize) -> usize {
        if chunk == 0 { 0 } else { self.chunks[chunk - 1].end }
    }

    fn located(&self, at: usize) -> (usize, usize) {
        let chunk = self.chunks.partition_point(|c| c.end <= at);
        (chunk, at - self.begin(chunk))
    }
}

impl<R> Index<usize> for List<R> {
    type Output = R;

    /// # Panics
    /// When there is no item at this place.
    fn index(&self, at: usize) -> &R {
        self.get(at).unwrap_or_else(|| panic!("place {at} of a list of {}", self.len()))
    }
}

impl<R: fmt::Debug> fmt::Debug for List<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

impl<R> Chunk<R> {
    /// With room for so many rows, whose sort keys have about this length.
    fn with_room(rows: usize, key: usize) -> Chunk<R> {
        Chunk {
            numbers: Vec::with_capacity(rows),
            hashes: Vec::with_capacity(rows),
            items: Vec::with_capacity(rows),
            keys: Vec::with_capacity(rows * key),
            key_ends: Vec::with_capacity(rows),
            seen: [0; SEEN],
        }
    }

    fn key(&self, at: usize) -> &[u8] {
        &self.keys[self.key_range(at)]
    }

    fn key_range(&self, at: usize) -> Range<usize> {
        let begin = if at == 0 { 0 } else { self.key_ends[at - 1] as usize };
        begin..self.key_ends[at] as usize
    }

    fn insert(&mut self, at: usize, row: Row<'_, R>) {
        let begin = if at == 0 { 0 } else { self.key_ends[at - 1] as usize };
        self.keys.splice(begin..begin, row.key.iter().copied());
        let length = row.key.len() as u32;
        self.key_ends.insert(at, begin as u32);
        self.key_ends[at..].iter_mut().for_each(|end| *end += length);
        self.numbers.insert(at, row.number);
        self.see(row.number);
        self.hashes.insert(at, row.hash);
        self.items.insert(at, row.item);
    }

    fn remove(&mut self, at: usize) {
        let range = self.key_range(at);
        let length = range.len() as u32;
        self.keys.drain(range);
        self.key_ends.remove(at);
        self.key_ends[at..].iter_mut().for_each(|end| *end -= length);
        self.numbers.remove(at);
        self.hashes.remove(at);
        self.items.remove(at);
    }

    fn split_off(&mut self, at: usize) -> Chunk<R> {
        let begin = if at == 0 { 0 } else { self.key_ends[at - 1] };
        let mut key_ends = self.key_ends.split_off(at);
        key_ends.iter_mut().for_each(|end| *end -= begin);
        let mut second = Chunk {
            numbers: self.numbers.split_off(at),
            hashes: self.hashes.split_off(at),
            items: self.items.split_off(at),
            keys: self.keys.split_off(begin as usize),
            key_ends,
            seen: [0; SEEN],
        };
        for chunk in [self, &mut second] {
            chunk.seen = [0; SEEN];
            (0..chunk.numbers.len()).for_each(|at| chunk.see(chunk.numbers[at]));
        }
        second
    }

    fn see(&mut self, number: i64) {
        let (word, bit) = bit(number);
        self.seen[word] |= bit;
    }

    /// The place of a row, by its number.
    fn find(&self, number: i64) -> Option<usize> {
        let (word, bit) = bit(number);
        if self.seen[word] & bit == 0 { None } else { self.numbers.iter().position(|n| *n == number) }
    }

    fn shrink(&mut self) {
        self.numbers.shrink_to_fit();
        self.hashes.shrink_to_fit();
        self.items.shrink_to_fit();
        self.keys.shrink_to_fit();
        self.key_ends.shrink_to_fit();
    }
}
