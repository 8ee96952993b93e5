//! Conditions on columns whose values have smaller and larger ones, and between two columns.

use super::{Column, Term};
use crate::column_type::{ColumnType, Comparable};
use crate::query::condition::Condition;

// The bounds stand on the methods, so that the compiler's message is the bound's own.
impl<T, C: ColumnType, E: Term> Column<T, C, E> {
    /// `arg` or larger.
    pub fn at_least(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Comparable,
    {
        self.compare(" >=", arg)
    }

    /// `arg` or smaller.
    pub fn at_most(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Comparable,
    {
        self.compare(" <=", arg)
    }

    /// Larger than `arg`.
    pub fn more_than(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Comparable,
    {
        self.compare(" >", arg)
    }

    /// Smaller than `arg`.
    pub fn less_than(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Comparable,
    {
        self.compare(" <", arg)
    }

    /// `least` or larger, and `most` or smaller.
    pub fn between(self, least: C::Arg<'_>, most: C::Arg<'_>) -> Condition<T>
    where
        C: Comparable,
    {
        self.clone().at_least(least) & self.at_most(most)
    }

    /// The same as the value of another column of the record; two missing values are the same.
    pub fn same_as<D: ColumnType<Inner = C::Inner>, F: Term>(self, other: Column<T, D, F>) -> Condition<T> {
        Condition::of(self.write().then(" IS ").and(other.write()))
    }

    /// Larger than the value of another column of the record.
    pub fn above<D: ColumnType<Inner = C::Inner>, F: Term>(self, other: Column<T, D, F>) -> Condition<T>
    where
        C: Comparable,
    {
        Condition::of(self.write().then(" > ").and(other.write()))
    }

    /// Smaller than the value of another column of the record.
    pub fn below<D: ColumnType<Inner = C::Inner>, F: Term>(self, other: Column<T, D, F>) -> Condition<T>
    where
        C: Comparable,
    {
        Condition::of(self.write().then(" < ").and(other.write()))
    }
}
