//! What is made of all records of a group, or of a selection: how many, sums, extremes, means.

use super::{Column, Computed, Term};
use crate::column_type::{ColumnType, Comparable, Summed};
use crate::query::fragment::Fragment;
use crate::records::record::Record;
use std::marker::PhantomData;

/// A group of records with the same values, as the closures of a grouped selection get it.
///
/// What it gives is used as a column is: in conditions on groups, in their order, and to be read.
pub struct Group<T>(PhantomData<fn() -> T>);

impl<T> Clone for Group<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Group<T> {}

impl<T> Default for Group<T> {
    fn default() -> Self {
        Group(PhantomData)
    }
}

/// A value that is made of all records of a group.
type Made<T, C> = Column<Group<T>, C, Computed>;

impl<T: Record> Group<T> {
    /// How many records it has.
    pub fn count(self) -> Made<T, u64> {
        Column::computed(Fragment::text("count(*)"))
    }

    /// The sum of a column; missing values do not count, and the sum of nothing is 0.
    pub fn sum<C: Summed, E: Term>(self, column: impl FnOnce(T::Columns) -> Column<T, C, E>) -> Made<T, C::Sum> {
        let whole = C::Sum::kind().storage() == "INTEGER";
        let (begin, end) = if whole { ("coalesce(sum(", "), 0)") } else { ("total(", ")") };
        Column::computed(Fragment::text(begin).and(column(T::columns()).write()).then(end))
    }

    /// The mean of a column; nothing when no record has a value there.
    pub fn average<C: Summed, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Made<T, Option<f64>> {
        made("avg(", column)
    }

    /// The smallest value of a column; nothing when no record has a value there.
    pub fn min<C: Comparable, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Made<T, Option<C::Inner>> {
        made("min(", column)
    }

    /// The largest value of a column; nothing when no record has a value there.
    pub fn max<C: Comparable, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Made<T, Option<C::Inner>> {
        made("max(", column)
    }
}

fn made<T: Record, C: ColumnType, E: Term, Out>(
    function: &str,
    column: impl FnOnce(T::Columns) -> Column<T, C, E>,
) -> Made<T, Out> {
    Column::computed(Fragment::text(function).and(column(T::columns()).write()).then(")"))
}
