//! The key of a stored record.

use crate::column_type::{ColumnType, Comparable, Misfit, Output, Shape};
use crate::records::record::Record;
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use std::cmp;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;

/// The key of a stored `T`: the number of its row, which is never given to another record, also after it is removed.
///
/// A key of one type is not accepted for another. As a field, `Key<Glaze>` is a link to that glaze.
#[doc(alias = "foreign key")]
#[doc(alias = "primary key")]
#[doc(alias = "rowid")]
pub struct Key<T> {
    number: i64,
    of: PhantomData<fn() -> T>,
}

impl<T> Key<T> {
    /// The key with this row number, such as one that came back in a notification or a link into the app.
    ///
    /// Whether such a record exists is seen when it is used.
    pub const fn from_number(number: i64) -> Key<T> {
        Key { number, of: PhantomData }
    }

    /// The row number.
    pub const fn number(self) -> i64 {
        self.number
    }
}

impl<T> Clone for Key<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Key<T> {}

impl<T> PartialEq for Key<T> {
    fn eq(&self, other: &Self) -> bool {
        self.number == other.number
    }
}

impl<T> Eq for Key<T> {}

impl<T> PartialOrd for Key<T> {
    fn partial_cmp(&self, other: &Self) -> Option<cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl<T> Ord for Key<T> {
    fn cmp(&self, other: &Self) -> cmp::Ordering {
        self.number.cmp(&other.number)
    }
}

impl<T> Hash for Key<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.number.hash(state);
    }
}

impl<T: Record> fmt::Debug for Key<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", T::TABLE, self.number)
    }
}

impl<T: Record> fmt::Display for Key<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self, f)
    }
}

impl<T> serde::Serialize for Key<T> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_i64(self.number)
    }
}

impl<'de, T> serde::Deserialize<'de> for Key<T> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        i64::deserialize(deserializer).map(Key::from_number)
    }
}

impl<T: Record> ColumnType for Key<T> {
    type Value = Key<T>;
    type Inner = Key<T>;
    type Arg<'a> = Key<T>;
    const SHAPE: Shape = Shape::Link;

    fn kind() -> Kind {
        Kind::Link { table: T::TABLE.to_owned() }
    }

    #[inline]
    fn store<O: Output>(value: &Key<T>, out: O) -> Result<(), Misfit> {
        out.integer(value.number);
        Ok(())
    }

    #[inline]
    fn store_arg<O: Output>(arg: Key<T>, out: O) -> Result<(), Misfit> {
        Self::store(&arg, out)
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<Key<T>, Misfit> {
        match stored {
            ValueRef::Integer(number) => Ok(Key::from_number(number)),
            other => Err(Misfit::kind(other, "the key of a record")),
        }
    }
}

impl<T: Record> Comparable for Key<T> {}
