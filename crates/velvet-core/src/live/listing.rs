//! A list that is kept in order while rows come in, go out and change.

use super::{Chunk, Chunked, List};
use crate::query::sort_key::SortKeys;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

/// How many rows a chunk has at most.
const MOST: usize = 512;

/// So many rows are looked for one by one in each chunk.
const FEW: usize = 32;

/// A row to be put into a list.
pub struct Row<'k, R> {
    /// Its number.
    pub number: i64,
    /// A hash of its values.
    pub hash: u64,
    /// Its sort key.
    pub key: &'k [u8],
    /// What it was read as.
    pub item: Arc<R>,
}

/// What is held of a row.
#[derive(Debug)]
pub struct Held {
    /// The hash of its values.
    pub hash: u64,
    /// Its sort key.
    pub key: Vec<u8>,
}

/// A list that is kept in order.
pub struct Listing<R> {
    list: List<R>,
    keys: SortKeys,
}

impl<R> Listing<R> {
    /// Without rows.
    pub fn new(keys: SortKeys) -> Listing<R> {
        Listing { list: List::default(), keys }
    }

    /// The list as it is now.
    pub fn list(&self) -> &List<R> {
        &self.list
    }

    /// Puts a row behind the last, where the caller knows that it belongs there.
    pub fn push(&mut self, number: i64, hash: u64, key: &[u8], item: Arc<R>) {
        let chunks = Arc::make_mut(&mut self.list.chunks);
        let begin = chunks.last().map_or(0, |c| c.end);
        // Half full, so that the first rows to come in split none.
        match chunks.last_mut().filter(|c| c.chunk.numbers.len() < MOST / 2) {
            Some(last) => {
                let chunk = Arc::make_mut(&mut last.chunk);
                chunk.insert(chunk.numbers.len(), Row { number, hash, key, item });
                last.end += 1;
                if chunk.numbers.len() == MOST / 2 {
                    chunk.shrink();
                }
            }
            None => {
                let mut chunk = Chunk::with_room(MOST / 2, key.len());
                chunk.insert(0, Row { number, hash, key, item });
                chunks.push(Chunked { end: begin + 1, chunk: Arc::new(chunk) });
            }
        }
    }

    /// The number of each row, the hash of its values, and what it was read as.
    pub fn rows(&self) -> impl Iterator<Item = (i64, u64, &Arc<R>)> {
        let all = self.list.chunks.iter().map(|c| &c.chunk);
        all.flat_map(|c| {
            c.numbers.iter().zip(&c.hashes).zip(&c.items).map(|((number, hash), item)| (*number, *hash, item))
        })
    }

    /// What is held of those of the rows that are in the list. The numbers are sorted.
    pub fn held(&self, numbers: &[i64]) -> HashMap<i64, Held> {
        let mut held = HashMap::new();
        let mut add = |chunk: &Chunk<R>, at: usize| {
            held.insert(chunk.numbers[at], Held { hash: chunk.hashes[at], key: chunk.key(at).to_vec() });
        };
        for chunk in self.list.chunks.iter().map(|c| &*c.chunk) {
            if numbers.len() <= FEW {
                numbers.iter().filter_map(|n| chunk.find(*n)).for_each(|at| add(chunk, at));
            } else {
                let among = |at: &usize| numbers.binary_search(&chunk.numbers[*at]).is_ok();
                (0..chunk.numbers.len()).filter(among).for_each(|at| add(chunk, at));
            }
        }
        held
    }

    /// The item of a row, by its number and sort key.
    pub fn item(&self, number: i64, key: &[u8]) -> Option<&Arc<R>> {
        let (chunk, at) = self.found(number, key)?;
        self.list.chunks[chunk].chunk.items.get(at)
    }

    /// Whether a row with this sort key comes before the last.
    pub fn is_before_last(&self, number: i64, key: &[u8]) -> bool {
        let last = self.list.chunks.last().map(|c| &c.chunk);
        last.is_some_and(|last| {
            let at = last.numbers.len() - 1;
            self.keys.compare((key, number), (last.key(at), last.numbers[at])).is_lt()
        })
    }

    /// Puts a row in its place.
    pub fn insert(&mut self, row: Row<'_, R>) {
        let (mut chunk, mut at) = self.place(row.number, row.key);
        if self.list.is_empty() {
            return self.push(row.number, row.hash, row.key, row.item);
        }
        let chunks = Arc::make_mut(&mut self.list.chunks);
        // What comes between two chunks goes to the end of the first.
        if at == 0 && chunk > 0 {
            chunk -= 1;
            at = chunks[chunk].chunk.numbers.len();
        }
        chunks[chunk..].iter_mut().for_each(|c| c.end += 1);
        let changed = Arc::make_mut(&mut chunks[chunk].chunk);
        changed.insert(at, row);
        if changed.numbers.len() > MOST {
            let second = changed.split_off(MOST / 2);
            changed.shrink();
            let end = chunks[chunk].end;
            chunks[chunk].end -= second.numbers.len();
            chunks.insert(chunk + 1, Chunked { end, chunk: Arc::new(second) });
        }
    }

    /// Takes a row out.
    pub fn remove(&mut self, number: i64, key: &[u8]) {
        let Some((chunk, at)) = self.found(number, key) else { return };
        let chunks = Arc::make_mut(&mut self.list.chunks);
        chunks[chunk..].iter_mut().for_each(|c| c.end -= 1);
        let changed = Arc::make_mut(&mut chunks[chunk].chunk);
        changed.remove(at);
        if changed.numbers.is_empty() {
            chunks.remove(chunk);
        }
    }

    /// Gives a row other values that leave it in its place.
    pub fn replace(&mut self, row: Row<'_, R>) {
        let Some((chunk, at)) = self.found(row.number, row.key) else { return };
        let changed = Arc::make_mut(&mut Arc::make_mut(&mut self.list.chunks)[chunk].chunk);
        (changed.hashes[at], changed.items[at]) = (row.hash, row.item);
    }

    /// Leaves only the first rows.
    pub fn truncate(&mut self, length: usize) {
        if length >= self.list.len() {
            return;
        }
        let (chunk, at) = self.list.located(length);
        let chunks = Arc::make_mut(&mut self.list.chunks);
        chunks.truncate(chunk + 1);
        let end = length;
        let last = &mut chunks[chunk];
        Arc::make_mut(&mut last.chunk).split_off(at);
        last.end = end;
        if at == 0 {
            chunks.pop();
        }
    }

    /// The first chunk and place within it at which no row comes before this one.
    fn place(&self, number: i64, key: &[u8]) -> (usize, usize) {
        let compare =
            |chunk: &Chunk<R>, at: usize| self.keys.compare((chunk.key(at), chunk.numbers[at]), (key, number));
        let chunks = &self.list.chunks;
        let chunk = chunks.partition_point(|c| compare(&c.chunk, c.chunk.numbers.len() - 1) == Ordering::Less);
        let Some(within) = chunks.get(chunk).map(|c| &c.chunk) else { return (chunk, 0) };
        let (mut low, mut high) = (0, within.numbers.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if compare(within, middle) == Ordering::Less { low = middle + 1 } else { high = middle }
        }
        (chunk, low)
    }

    fn found(&self, number: i64, key: &[u8]) -> Option<(usize, usize)> {
        let (chunk, at) = self.place(number, key);
        let there = self.list.chunks.get(chunk)?.chunk.numbers.get(at)?;
        (*there == number).then_some((chunk, at))
    }
}
