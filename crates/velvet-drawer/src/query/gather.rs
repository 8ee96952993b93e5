//! What a selection can be collected into.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::hash::Hash;
use velvet_core::{Key, Stored};

/// A collection of records: a list or set of stored records, or a map from keys to records.
pub trait Gather<T>: Default {
    /// Adds the next record of the selection.
    fn add(&mut self, record: Stored<T>);
}

impl<T> Gather<T> for Vec<Stored<T>> {
    fn add(&mut self, record: Stored<T>) {
        self.push(record);
    }
}

impl<T> Gather<T> for VecDeque<Stored<T>> {
    fn add(&mut self, record: Stored<T>) {
        self.push_back(record);
    }
}

impl<T: Eq + Hash> Gather<T> for HashSet<Stored<T>> {
    fn add(&mut self, record: Stored<T>) {
        self.insert(record);
    }
}

impl<T> Gather<T> for HashSet<Key<T>> {
    fn add(&mut self, record: Stored<T>) {
        self.insert(record.key());
    }
}

impl<T> Gather<T> for BTreeSet<Key<T>> {
    fn add(&mut self, record: Stored<T>) {
        self.insert(record.key());
    }
}

impl<T> Gather<T> for HashMap<Key<T>, T> {
    fn add(&mut self, record: Stored<T>) {
        let (key, record) = record.into_parts();
        self.insert(key, record);
    }
}

impl<T> Gather<T> for BTreeMap<Key<T>, T> {
    fn add(&mut self, record: Stored<T>) {
        let (key, record) = record.into_parts();
        self.insert(key, record);
    }
}
