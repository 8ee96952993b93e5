//! All or nothing.

use crate::drawer::{Drawer, Scope, Writes};
use crate::error::Error;
use crate::query::Records;
use std::panic::Location;
use velvet_core::{ColumnType, Key, Keyed, Pick, Record, Stored};

/// A transaction: everything written through it is kept together, or not at all.
#[doc(alias = "transaction")]
pub struct Tx<'a>(Scope<'a, Writes>);

impl Drawer {
    /// Runs `work` as one transaction. When it returns an error or panics, everything it wrote is rolled back.
    ///
    /// One transaction runs at a time; others, also of other processes, wait for it, as long as [`Options::lock_timeout`](crate::Options::lock_timeout)
    /// says. So never wait for another thread in `work`: if that writes too, each waits for the other. To give up with an error of the
    /// app's own, return [`Error::own`].
    ///
    /// # Errors
    /// What `work` returns, and when the file is locked for too long or cannot be written. Nothing is written then.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Error, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let given_up = drawer.write(|tx| {
    ///     tx.insert(Glaze { name: "Celadon".into() })?;
    ///     Err::<(), _>(Error::own("changed my mind"))
    /// });
    /// assert!(given_up.unwrap_err().is_own());
    /// assert_eq!(drawer.count::<Glaze>()?, 0);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "transaction")]
    #[track_caller]
    pub fn write<R>(&self, work: impl FnOnce(&Tx<'_>) -> Result<R, Error>) -> Result<R, Error> {
        let at = Location::caller();
        self.inner.transaction(|scope| self.inner.writing_at(at, || work(&Tx(scope))))
    }
}

impl<'a> Tx<'a> {
    pub(crate) fn scope(&self) -> Scope<'a, Writes> {
        self.0
    }

    /// Inserts a record; see [`Drawer::insert`].
    ///
    /// # Errors
    /// As [`Drawer::insert`].
    pub fn insert<T: Record>(&self, record: T) -> Result<Stored<T>, Error> {
        self.0.insert(record)
    }

    /// Inserts a copy of a record; see [`Drawer::insert_ref`].
    ///
    /// # Errors
    /// As [`Drawer::insert`].
    pub fn insert_ref<T: Record>(&self, record: &T) -> Result<Key<T>, Error> {
        self.0.insert_ref(record)
    }

    /// Inserts records; see [`Drawer::insert_all`].
    ///
    /// # Errors
    /// As [`Drawer::insert_all`].
    pub fn insert_all<T: Record>(&self, records: impl IntoIterator<Item = T>) -> Result<Vec<Stored<T>>, Error> {
        self.0.insert_all(records)
    }

    /// The record with this one's own key, or this one inserted; see [`Drawer::get_or_insert`].
    ///
    /// # Errors
    /// As [`Drawer::get_or_insert`].
    pub fn get_or_insert<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.0.insert_or_keep(self.0.with_same_own_key(&record)?, record)
    }

    /// Inserts a record, or puts it in the place of the one with the same own key; see [`Drawer::insert_or_replace`].
    ///
    /// # Errors
    /// As [`Drawer::insert_or_replace`].
    pub fn insert_or_replace<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.0.insert_or_put(self.0.with_same_own_key(&record)?, record)
    }

    /// Inserts a record, or writes chosen columns to the one with the same own key; see [`Drawer::insert_or_merge`].
    ///
    /// # Errors
    /// As [`Drawer::insert_or_merge`].
    pub fn insert_or_merge<T: Keyed, P: Pick<T>>(
        &self,
        record: T,
        columns: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.0.insert_or_merge(self.0.with_same_own_key(&record)?, record, columns)
    }

    /// The record with the same values in unique columns, or this one inserted; see [`Drawer::get_or_insert_by`].
    ///
    /// # Errors
    /// As [`Drawer::get_or_insert_by`].
    pub fn get_or_insert_by<T: Record, P: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.0.insert_or_keep(self.0.with_same(&record, unique)?, record)
    }

    /// Inserts a record, or puts it in the place of the one with the same values in unique columns; see
    /// [`Drawer::insert_or_replace_by`].
    ///
    /// # Errors
    /// As [`Drawer::insert_or_replace_by`].
    pub fn insert_or_replace_by<T: Record, P: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.0.insert_or_put(self.0.with_same(&record, unique)?, record)
    }

    /// Inserts a record, or writes chosen columns to the one with the same values in unique ones; see
    /// [`Drawer::insert_or_merge_by`].
    ///
    /// # Errors
    /// As [`Drawer::insert_or_merge_by`].
    pub fn insert_or_merge_by<T: Record, P: Pick<T>, Q: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
        columns: impl FnOnce(T::Columns) -> Q,
    ) -> Result<Stored<T>, Error> {
        self.0.insert_or_merge(self.0.with_same(&record, unique)?, record, columns)
    }

    /// Puts a record in the place of a stored one; see [`Drawer::replace`].
    ///
    /// # Errors
    /// As [`Drawer::replace`].
    pub fn replace<T: Record>(&self, key: Key<T>, record: T) -> Result<Stored<T>, Error> {
        self.0.replace(key, record)
    }

    /// Edits a stored record; see [`Drawer::change`].
    ///
    /// # Errors
    /// As [`Drawer::change`].
    pub fn change<T: Record>(&self, key: Key<T>, edit: impl FnOnce(&mut T)) -> Result<Stored<T>, Error> {
        self.0.change(key, edit)
    }

    /// Removes a record; see [`Drawer::remove`].
    ///
    /// # Errors
    /// As [`Drawer::remove`].
    pub fn remove<T: Record>(&self, key: Key<T>) -> Result<bool, Error> {
        self.0.remove(key)
    }

    /// Removes all records of a type; see [`Drawer::remove_all`].
    ///
    /// # Errors
    /// As [`Drawer::remove_all`].
    pub fn remove_all<T: Record>(&self) -> Result<u64, Error> {
        self.0.remove_all::<T>()
    }

    /// Runs `work` as a part of the transaction that is rolled back alone when it returns an error; what was written before
    /// it stays, and the transaction goes on. Parts may have parts.
    ///
    /// # Errors
    /// What `work` returns.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Error, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(own_key)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.write(|tx| {
    ///     tx.insert(Glaze { name: "Celadon".into() })?;
    ///     let part = tx.part(|tx| {
    ///         tx.insert(Glaze { name: "Shino".into() })?;
    ///         tx.insert(Glaze { name: "Celadon".into() })
    ///     });
    ///     assert!(part.is_err());
    ///     Ok(())
    /// })?;
    /// assert_eq!(drawer.count::<Glaze>()?, 1);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "savepoint")]
    pub fn part<R>(&self, work: impl FnOnce(&Tx<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.0.part(|| work(self))
    }

    /// The record with this key, or nothing when it is not there. What this transaction wrote is seen.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.0.to_read().get(key)
    }

    /// The record whose own key is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get_by_own_key<T: Keyed>(
        &self,
        own_key: <T::OwnKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.0.to_read().get_by_own_key(own_key)
    }

    /// The records of type `T`, to be filtered, sorted and collected.
    pub fn records<T: Record>(&self) -> Records<T, Scope<'_, Writes>> {
        Records::at(self.0)
    }

    /// How many records of type `T` there are.
    ///
    /// # Errors
    /// As [`Drawer::count`].
    pub fn count<T: Record>(&self) -> Result<u64, Error> {
        self.records::<T>().count()
    }
}
