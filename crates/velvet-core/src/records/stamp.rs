//! Columns that the library fills with the moment of a write.

use crate::column_type::ColumnType;
use jiff::Timestamp;

/// A column that the library fills.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StampedColumn {
    /// Its position among the record's columns.
    pub at: usize,
    /// When it is filled.
    pub when: When,
}

/// When the library fills a column with the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// When the record is inserted.
    Created,
    /// Then, and whenever one of its columns is written.
    Changed,
}

/// A type that a moment can be kept as.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot hold the moment of a write",
    note = "give the field the type `jiff::Timestamp`, or an `Option` of it where older records have none"
)]
pub trait Stamp: ColumnType<Value = Self> + Sized {
    /// This moment.
    fn at(moment: Timestamp) -> Self;
}

impl Stamp for Timestamp {
    fn at(moment: Timestamp) -> Timestamp {
        moment
    }
}

impl Stamp for Option<Timestamp> {
    fn at(moment: Timestamp) -> Option<Timestamp> {
        Some(moment)
    }
}
