//! Removing records.

use super::{UNTOUCHED, clash};
use crate::drawer::Drawer;
use crate::error::Error;
use crate::reading::Open;
use velvet_core::{Key, Record, ValueRef};

impl Drawer {
    /// Removes a record. Says whether it was there. Its key is never given to another.
    ///
    /// # Errors
    /// When other records link to it and do not allow that ([`Error::is_broken_link`]), or the file cannot be written.
    /// Nothing is removed then.
    pub fn remove<T: Record>(&self, key: Key<T>) -> Result<bool, Error> {
        self.writing_records(|open| open.remove(key))
    }

    /// Removes all records of a type, and says how many there were.
    ///
    /// # Errors
    /// As [`Drawer::remove`].
    pub fn remove_all<T: Record>(&self) -> Result<u64, Error> {
        self.writing_records(|open| open.remove_all::<T>())
    }
}

impl Open<'_> {
    pub(crate) fn remove<T: Record>(self, key: Key<T>) -> Result<bool, Error> {
        let doing = || format!("cannot remove {key}");
        let engine = |fault| self.inner.fault(&doing(), fault).untouched(UNTOUCHED);
        let mut statement = self.connection.prepare(&T::statements().remove).map_err(engine)?;
        statement.bind(1, ValueRef::Integer(key.number())).map_err(engine)?;
        match statement.execute() {
            Ok(removed) => Ok(removed > 0),
            Err(fault) => Err(clash::explain_removal::<T>(self, &doing(), Some(key), fault)),
        }
    }

    pub(crate) fn remove_all<T: Record>(self) -> Result<u64, Error> {
        let doing = || format!("cannot remove all records of {}", T::TABLE);
        let engine = |fault| self.inner.fault(&doing(), fault).untouched(UNTOUCHED);
        let mut statement = self.connection.prepare(&T::statements().remove_all).map_err(engine)?;
        let removed = statement.execute().map_err(|fault| clash::explain_removal::<T>(self, &doing(), None, fault))?;
        self.connection.removed_at_once(T::TABLE, removed);
        Ok(removed)
    }
}
