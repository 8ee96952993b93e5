//! Writing records: one or many, all or nothing.

mod aside;
mod change;
pub(crate) mod clash;
mod compact;
mod indexing;
mod insert;
mod refresh;
mod remove;
mod save;
mod selection;
mod trail;
mod transaction;
mod upsert;

pub use compact::Space;
#[cfg(feature = "inspect")]
pub use compact::compact_file;
pub use refresh::{LastRefresh, Refresh, Refreshed};
pub use save::Unsaved;
pub use transaction::Tx;

use crate::error::{Cause, Error};
use velvet_core::{Misfit, Pick, Record};

/// An error of a value that has no stored form.
fn misfit<T: Record>(misfit: Misfit) -> Error {
    Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit)
}

/// The positions of columns among the record's.
fn positions<T: Record, P: Pick<T>>(columns: impl FnOnce(T::Columns) -> P) -> Vec<usize> {
    let mut positions = Vec::new();
    columns(T::columns()).each(&mut |column| positions.extend(column.position));
    positions
}
