//! A record that is in the file.

use crate::records::key::Key;
use crate::records::record::Record;
use std::fmt;
use std::ops::Deref;

/// A record that is in the file: its key and, by deref, its fields.
///
/// It is what was stored at the time it was read or written; to edit it, take a copy with [`Stored::into_record`] or use
/// the drawer's `change`.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Stored<T> {
    key: Key<T>,
    record: T,
}

impl<T> Stored<T> {
    /// Joins a key and the record stored under it.
    #[doc(hidden)]
    pub fn new(key: Key<T>, record: T) -> Stored<T> {
        Stored { key, record }
    }

    /// The record's key.
    pub fn key(&self) -> Key<T> {
        self.key
    }

    /// The plain record, to keep or to edit.
    pub fn into_record(self) -> T {
        self.record
    }

    /// The key and the plain record.
    pub fn into_parts(self) -> (Key<T>, T) {
        (self.key, self.record)
    }
}

impl<T> Deref for Stored<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.record
    }
}

impl<T: Record + fmt::Debug> fmt::Debug for Stored<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: ", self.key)?;
        self.record.fmt(f)
    }
}
