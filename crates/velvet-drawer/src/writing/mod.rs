//! Writing records: one or many, all or nothing.

mod aside;
mod change;
mod clash;
mod compact;
mod draft;
mod indexing;
mod insert;
mod refresh;
mod remove;
mod selection;
mod transaction;
mod upsert;

pub use compact::Space;
pub use compact::compact_file;
pub use draft::Unsaved;
pub use refresh::{LastRefresh, Refresh, Refreshed};
pub use transaction::Tx;

use crate::error::{Cause, Error};
use crate::reading::Open;
use velvet_core::{Misfit, Pick, Record};

const UNTOUCHED: &str = "Nothing was written";

/// An error made of a value that has no stored form.
fn misfit<T: Record>(open: Open<'_>, doing: &str, misfit: Misfit) -> Error {
    open.inner.place.name(Error::misfit(Cause::Misfit, doing, T::TABLE, T::COLUMNS, misfit).untouched(UNTOUCHED))
}

/// The positions of columns among the record's.
fn positions<T: Record, P: Pick<T>>(columns: impl FnOnce(T::Columns) -> P) -> Vec<usize> {
    let mut positions = Vec::new();
    columns(T::columns()).each(&mut |column| positions.extend(column.position));
    positions
}
