//! Named values: a name and a value of one type, kept in a table of their own.

pub(crate) mod settings;

mod reading;
mod writing;

use crate::drawer::{Access, Alone, Drawer, Scope, Writes};
use crate::error::{Cause, Error};
use crate::query::View;
use crate::records::Tx;
use std::marker::PhantomData;
use velvet_core::column_type::{stored_arg, with_stored_arg};
use velvet_core::{ColumnType, Keyed, Misfit, NamedValue, Value, ValueRef};

/// A set of named values: those of a struct with `#[record(named)]` and the fields `name` and `value`.
///
/// The name is text, a whole number or a UUID; the value is of any column type, or with `#[record(json)]` of any type that serde can write and read.
/// Each set is a table with the columns `name` and `value`, so whatever is done with records is done with named values too: conditions and
/// orders, watching, upgrades, trails, `private`, `shared`.
///
/// ```
/// use velvet_drawer::{Drawer, Record, Schema};
///
/// /// The last number on a mark, for each kind of ware.
/// #[derive(Record)]
/// #[record(named)]
/// struct LastMark { name: String, value: u32 }
///
/// # fn main() -> Result<(), velvet_drawer::Error> {
/// let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<LastMark>())?;
/// let marks = drawer.named::<LastMark>();
/// marks.set("bowl", 139)?;
/// assert_eq!(marks.change_or("bowl", 0, |n| *n += 1)?, 140);
/// assert_eq!(marks.get("bowl")?, Some(140));
/// assert_eq!(marks.get_or("jug", 0)?, 0);
/// assert_eq!(marks.with_prefix("bo").count()?, 1);
/// # Ok(()) }
/// ```
pub struct NamedValues<T, A = Alone> {
    at: A,
    of: PhantomData<fn() -> T>,
}

/// What a name is looked for by.
type NameArg<'n, T> = <<T as Keyed>::OwnKey as ColumnType>::Arg<'n>;

/// What is stored under a name.
type ValueOf<T> = <<T as NamedValue>::Value as ColumnType>::Value;

impl Drawer {
    /// The named values of a set; see [`NamedValues`].
    pub fn named<T: NamedValue>(&self) -> NamedValues<T> {
        NamedValues::at(self.alone())
    }
}

impl View<'_> {
    /// The named values of a set; see [`NamedValues`].
    pub fn named<T: NamedValue>(&self) -> NamedValues<T, Scope<'_>> {
        NamedValues::at(self.scope())
    }
}

impl<'t> Tx<'t> {
    /// The named values of a set; see [`NamedValues`].
    pub fn named<T: NamedValue>(&self) -> NamedValues<T, Scope<'t, Writes>> {
        NamedValues::at(self.scope())
    }
}

impl<T: NamedValue, A: Access> NamedValues<T, A> {
    fn at(at: A) -> Self {
        NamedValues { at, of: PhantomData }
    }
}

impl<T, A: Clone> Clone for NamedValues<T, A> {
    fn clone(&self) -> Self {
        NamedValues { at: self.at.clone(), of: PhantomData }
    }
}

/// The stored form of a name.
fn stored_name<T: NamedValue>(name: NameArg<'_, T>) -> Result<Value, Error> {
    stored_arg::<T::OwnKey>(name).map_err(|wrong| misfit::<T>(wrong.at(T::OWN_KEY_POSITION)))
}

/// Works with the stored form of a name.
#[inline]
fn with_name<T: NamedValue, R>(
    name: NameArg<'_, T>,
    work: impl FnOnce(ValueRef<'_>) -> Result<R, Error>,
) -> Result<R, Error> {
    with_stored_arg::<T::OwnKey, _>(name, work).unwrap_or_else(|wrong| Err(misfit::<T>(wrong.at(T::OWN_KEY_POSITION))))
}

/// A value as it is known to a person: `last_mark 'bowl'`.
fn called<T: NamedValue>(name: ValueRef<'_>) -> String {
    format!("{} {}", T::TABLE, name.to_value().literal())
}

fn misfit<T: NamedValue>(misfit: Misfit) -> Error {
    Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit)
}
