//! How the code of the derives reaches the column type of a field.
//!
//! A type that is no column is one error, at a check of its own. So that the rest of the code is not further ones, each of them in parts
//! that the app's author does not know, it falls back there to code that never runs: by method lookup, which takes [`Fit`] where
//! the type is a column, and else [`Unfit`], which is one reference further away.

use crate::column_type::{ColumnType, Misfit};
use crate::query::excerpt::Wanted;
use crate::records::record::{Sink, Source};
use crate::schema::structure::{ColumnDefinition, OnDelete};
use crate::value::{Value, ValueRef};
use std::marker::PhantomData;

/// The column type of a field, or a type that is none.
pub struct FieldOf<C>(PhantomData<fn() -> C>);

impl<C> FieldOf<C> {
    /// That of this type.
    pub const HERE: FieldOf<C> = FieldOf(PhantomData);
}

/// What a field with a column type can do.
pub trait Fit {
    /// The field's Rust type.
    type Value;

    /// Hands the field's value to `sink`.
    ///
    /// # Errors
    /// As [`Sink::put`].
    fn put<S: Sink>(&self, sink: &mut S, at: usize, value: &Self::Value) -> Result<(), Misfit>;

    /// Takes the field's value from `source`.
    ///
    /// # Errors
    /// As [`Source::take`].
    fn take<S: Source>(&self, source: &mut S, at: usize) -> Result<Self::Value, Misfit>;

    /// Sees that a stored value is one of its type.
    ///
    /// # Errors
    /// When it is not.
    fn fits(&self, at: usize, value: ValueRef<'_>) -> Result<(), Misfit>;

    /// Its column, as data.
    fn column(&self, name: &str, default: Option<Value>, on_delete: Option<OnDelete>) -> ColumnDefinition;

    /// Its column in an excerpt.
    fn wanted(&self, name: &'static str) -> Wanted;
}

impl<C: ColumnType> Fit for FieldOf<C> {
    type Value = C::Value;

    #[inline(always)]
    fn put<S: Sink>(&self, sink: &mut S, at: usize, value: &C::Value) -> Result<(), Misfit> {
        sink.put::<C>(at, value)
    }

    #[inline(always)]
    fn take<S: Source>(&self, source: &mut S, at: usize) -> Result<C::Value, Misfit> {
        source.take::<C>(at)
    }

    fn fits(&self, at: usize, value: ValueRef<'_>) -> Result<(), Misfit> {
        C::load(value).map(drop).map_err(|misfit| misfit.at(at))
    }

    fn column(&self, name: &str, default: Option<Value>, on_delete: Option<OnDelete>) -> ColumnDefinition {
        ColumnDefinition::new(name, (C::kind(), C::OPTIONAL), default, on_delete)
    }

    fn wanted(&self, name: &'static str) -> Wanted {
        Wanted::named::<C>(name)
    }
}

/// What stands in for [`Fit`] where the type is no column; never run, because such code does not compile.
#[allow(missing_docs, clippy::missing_errors_doc)]
pub trait Unfit: Sized {
    fn put<S, V>(&self, _: &mut S, _: usize, _: &V) -> Result<(), Misfit> {
        unreachable!()
    }

    fn take<S, V>(&self, _: &mut S, _: usize) -> Result<V, Misfit> {
        unreachable!()
    }

    fn fits(&self, _: usize, _: ValueRef<'_>) -> Result<(), Misfit> {
        unreachable!()
    }

    fn column(&self, _: &str, _: Option<Value>, _: Option<OnDelete>) -> ColumnDefinition {
        unreachable!()
    }

    fn wanted(&self, _: &'static str) -> Wanted {
        unreachable!()
    }
}

impl<C> Unfit for &FieldOf<C> {}
