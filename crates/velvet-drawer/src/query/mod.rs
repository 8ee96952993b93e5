//! Reading records: by key, by their own key, by conditions, from one consistent state.

#[cfg(feature = "table")]
pub mod grid;

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

pub use each::Going;
pub(crate) use explain::EXPLAIN;
pub use explain::Explained;
pub use gather::Gather;
pub use groups::Groups;
pub use only::Only;
pub use readable::Readable;
pub use records::Records;
pub use search::{Hit, OnlyFound, Search};
pub use stream::Stream;
pub use view::View;
pub use with::{Follow, LinkedTo, NestedLink, With};

use crate::drawer::{Mode, Scope};
use crate::engine::{Row, Rows};
use crate::error::{Cause, Error};
use crate::live::Of;
use velvet_core::{Fragment, Key, Misfit, Record, Stored, Value};

impl<M: Mode> Scope<'_, M> {
    /// Runs a statement about records of `T`, and `work` with its rows.
    #[inline]
    pub(crate) fn ask<T: Record, R>(
        self,
        statement: Fragment,
        work: impl FnOnce(Scope<'_, M>, &mut Rows<'_>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        self.doing(reading::<T>, || {
            let Fragment { text, values, misfit } = statement;
            if let Some(misfit) = misfit {
                return Err(Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit));
            }
            let mut statement = self.connection.prepare(&text)?;
            statement.bind_all(values.iter().map(Value::as_ref))?;
            work(self, &mut statement.rows())
        })
    }
}

/// What live results say of records of `T`.
fn of<T: Record>() -> Of {
    Of {
        table: T::TABLE,
        ignore_case: T::IGNORES_CASE.len(),
        doing: reading::<T>,
        misfit: |misfit| Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit),
    }
}

fn reading<T: Record>() -> String {
    format!("cannot read records of {}", T::TABLE)
}

/// The record in a row that begins with its key.
#[inline]
pub(crate) fn stored<T: Record>(mut row: Row<'_, '_>) -> Result<Stored<T>, Error> {
    let key = Key::from_number(row.key());
    match T::load(&mut row) {
        Ok(record) => Ok(Stored::new(key, record)),
        Err(misfit) => Err(unreadable::<T>(misfit).doing(format_args!("cannot read {key}"))),
    }
}

/// An error of a stored value that is none of its column's type.
#[cold]
pub(crate) fn unreadable<T: Record>(misfit: Misfit) -> Error {
    Error::misfit(Cause::Unreadable, T::TABLE, T::COLUMNS, misfit)
}
