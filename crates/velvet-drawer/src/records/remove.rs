//! Removing records.

use super::clash;
use crate::drawer::{Drawer, Scope, Writes};
use crate::error::Error;
use velvet_core::{Key, Record};

impl Drawer {
    /// Removes a record. Says whether it was there. Its key is never given to another.
    ///
    /// # Errors
    /// When other records link to it and do not allow that ([`Error::is_broken_link`]), or the file cannot be written.
    /// Nothing is removed then.
    pub fn remove<T: Record>(&self, key: Key<T>) -> Result<bool, Error> {
        self.inner.transaction(|scope| scope.remove(key))
    }

    /// Removes all records of a type, and says how many there were.
    ///
    /// # Errors
    /// As [`Drawer::remove`].
    pub fn remove_all<T: Record>(&self) -> Result<u64, Error> {
        self.inner.transaction(|scope| scope.remove_all::<T>())
    }
}

impl Scope<'_, Writes> {
    pub(crate) fn remove<T: Record>(self, key: Key<T>) -> Result<bool, Error> {
        self.doing(
            || format!("cannot remove {key}"),
            || {
                let mut statement = self.connection.prepare(&T::statements().remove)?;
                statement.bind(1, key.number().into())?;
                let removed = statement.execute();
                removed.map(|rows| rows > 0).map_err(|fault| clash::explain_removal(self, Some(key), fault))
            },
        )
    }

    pub(crate) fn remove_all<T: Record>(self) -> Result<u64, Error> {
        self.doing(
            || format!("cannot remove all records of {}", T::TABLE),
            || {
                let mut statement = self.connection.prepare(&T::statements().remove_all)?;
                let removed = statement.execute().map_err(|fault| clash::explain_removal::<T>(self, None, fault))?;
                self.connection.removed_at_once(T::TABLE, removed);
                Ok(removed)
            },
        )
    }
}
