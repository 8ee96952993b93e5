//! Reading records: by key, by their own key, by conditions, from one consistent state.

mod access;
mod by_key;
mod each;
mod explain;
mod gather;
mod groups;
mod only;
mod readable;
mod records;
mod search;
mod stream;
mod suggest;
#[cfg(feature = "table")]
mod table;
mod view;
mod with;

pub use access::{Reads, Writes};
pub use each::Going;
pub(crate) use explain::EXPLAIN;
pub use explain::Explained;
pub use gather::Gather;
pub use groups::Groups;
pub use only::Only;
pub use readable::Readable;
pub use records::Records;
pub use search::{Hit, Search};
pub use stream::Stream;
pub(crate) use suggest::SuggestedFrom;
pub use view::View;
pub use with::{Follow, With};

use crate::drawer::Inner;
use crate::engine::{Connection, Fault, Row, Rows};
use crate::error::{Cause, Error};
use velvet_core::{Fragment, Key, Record, Stored};

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

    /// Runs a statement about records of `T`, and `work` with its rows.
    #[inline]
    pub(crate) fn ask<T: Record, R>(
        self,
        statement: Fragment,
        work: impl FnOnce(Open<'_>, &mut Rows<'_>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        let Fragment { text, values, misfit } = statement;
        if let Some(misfit) = misfit {
            return Err(self.inner.place.name(Error::misfit(
                Cause::Misfit,
                &reading::<T>(),
                T::TABLE,
                T::COLUMNS,
                misfit,
            )));
        }
        let mut statement = self.connection.prepare(&text).map_err(self.fault(reading::<T>))?;
        statement.bind_all(&values).map_err(self.fault(reading::<T>))?;
        work(self, &mut statement.rows())
    }
}

fn reading<T: Record>() -> String {
    format!("cannot read records of {}", T::TABLE)
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
