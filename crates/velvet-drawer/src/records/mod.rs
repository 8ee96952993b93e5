//! Writing records: one or many, all or nothing.

mod aside;
mod change;
pub(crate) mod clash;
mod compact;
mod indexing;
mod insert;
mod refresh;
mod remove;
mod renew_key;
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

use crate::drawer::{Scope, Writes};
use crate::error::{Cause, Error};
use jiff::Timestamp;
use velvet_core::{Misfit, Pick, Record};

/// An error of a value that has no stored form.
fn misfit<T: Record>(misfit: Misfit) -> Error {
    Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit)
}

impl Scope<'_, Writes> {
    /// The moment, for columns that the library fills.
    pub(super) fn now(self) -> Timestamp {
        self.inner.in_effect().clock.now()
    }
}

/// Whether the library fills a column.
fn is_stamped<T: Record>(column: usize) -> bool {
    T::STAMPED.iter().any(|stamped| stamped.at == column)
}

/// The positions of columns among the record's.
fn positions<T: Record, P: Pick<T>>(columns: impl FnOnce(T::Columns) -> P) -> Vec<usize> {
    let mut positions = Vec::new();
    columns(T::columns()).each(&mut |column| positions.extend(column.position));
    positions
}
