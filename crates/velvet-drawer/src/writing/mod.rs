//! Writing records: one or many, all or nothing.

mod change;
mod clash;
mod indexing;
mod insert;
mod remove;
mod selection;
mod transaction;
mod upsert;

pub use transaction::Tx;

use crate::error::{Cause, Error};
use crate::reading::Open;
use velvet_core::{Misfit, Record};

const UNTOUCHED: &str = "Nothing was written";

/// An error made of a value that has no stored form.
fn misfit<T: Record>(open: Open<'_>, doing: &str, misfit: Misfit) -> Error {
    open.inner.place.name(Error::misfit(Cause::Misfit, doing, T::TABLE, T::COLUMNS, misfit).untouched(UNTOUCHED))
}
