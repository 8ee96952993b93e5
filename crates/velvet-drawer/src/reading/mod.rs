//! Reading records: by key, by their own key, by conditions, from one consistent state.

mod by_key;
mod each;
mod explain;
mod gather;
mod only;
mod records;
#[cfg(feature = "table")]
mod table;
mod view;

pub use each::Going;
pub use explain::Explained;
pub use gather::Gather;
pub use only::{Groups, Only};
pub use records::Records;
pub use view::View;

use crate::drawer::Inner;
use crate::engine::{Connection, Fault, Row};
use crate::error::{Cause, Error};
use velvet_core::{Key, Record, Stored};

/// A connection of an open drawer, in the middle of its work.
#[derive(Clone, Copy)]
pub(crate) struct Open<'a> {
    pub(crate) connection: &'a Connection,
    pub(crate) inner: &'a Inner,
}

impl Open<'_> {
    /// An error of the engine; `doing` is asked only when there is one.
    pub(crate) fn fault(self, doing: impl FnOnce() -> String) -> impl FnOnce(Fault) -> Error {
        move |fault| self.inner.fault(&doing(), fault)
    }
}

/// The record in a row that begins with its key.
#[inline]
pub(crate) fn stored<T: Record>(open: Open<'_>, mut row: Row<'_, '_>) -> Result<Stored<T>, Error> {
    let key = Key::from_number(row.integer(0));
    match T::load(&mut row) {
        Ok(record) => Ok(Stored::new(key, record)),
        Err(misfit) => {
            let doing = format!("cannot read {key}");
            Err(open.inner.place.name(Error::misfit(Cause::Unreadable, &doing, T::TABLE, T::COLUMNS, misfit)))
        }
    }
}
