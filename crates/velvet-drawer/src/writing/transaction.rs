//! All or nothing.

use crate::drawer::Drawer;
use crate::engine::Connection;
use crate::error::Error;
use crate::reading::{Open, Records};
use crate::searching;
use crate::trails::Keeping;
use velvet_core::{ColumnType, Key, Keyed, Pick, Record, Stored};

/// A transaction: everything written through it is kept together, or not at all.
pub struct Tx<'a>(Open<'a>);

impl Drawer {
    /// Runs `work` as one transaction. When it returns an error or panics, everything it wrote is rolled back.
    ///
    /// One transaction runs at a time; others, also of other processes, wait for it. To give up with an error of the
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
    pub fn write<R>(&self, work: impl FnOnce(&Tx<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.writing(|connection| {
            let open = Open { connection, inner: &self.inner };
            let engine = |doing: &'static str| move |fault| self.inner.fault(doing, fault).untouched(super::UNTOUCHED);
            if let Some(recorder) = self.inner.recorder() {
                recorder.note_if_due(connection);
            }
            let trail = open.begin_trail()?;
            let transaction = connection.transaction().map_err(engine("cannot begin to write"))?;
            if let Some((keeping, _)) = trail {
                keeping.begin(connection).map_err(engine("cannot begin the trail of a write"))?;
            }
            let result = self.busy_here(|| work(&Tx(open)))?;
            if self.inner.is_searched {
                searching::catch_up(connection, &self.inner.declared.structure)
                    .map_err(engine("cannot tell the search index of what was written"))?;
            }
            if let Some((keeping, session)) = trail {
                keeping.end(connection, session).map_err(engine("cannot keep the trail of a write"))?;
            }
            transaction.commit().map_err(engine("cannot keep what was written"))?;
            Ok(result)
        })
    }
}

impl<'a> Open<'a> {
    /// What keeps the trails, where any are on, and the number of this session there.
    #[inline]
    fn begin_trail(self) -> Result<Option<(&'a Keeping, Option<i64>)>, Error> {
        let Some(keeping) = self.inner.trails() else { return Ok(None) };
        let session = self.inner.recorder().map(|recorder| recorder.number(self.connection)).transpose();
        let session =
            session.map_err(|fault| self.inner.fault("cannot begin the session", fault).untouched(super::UNTOUCHED))?;
        Ok(Some((keeping, session)))
    }

    /// Runs `work` as a part of the transaction that this is in; rolled back alone when it fails.
    pub(crate) fn part<R>(self, work: impl FnOnce() -> Result<R, Error>) -> Result<R, Error> {
        let engine = |fault| self.inner.fault("cannot begin or end a part of the transaction", fault);
        let part = self.connection.savepoint().map_err(engine)?;
        let result = work()?;
        part.keep().map_err(engine)?;
        Ok(result)
    }
}

impl<'a> Tx<'a> {
    pub(crate) fn connection(&self) -> &Connection {
        self.0.connection
    }

    pub(crate) fn open(&self) -> Open<'a> {
        self.0
    }

    /// Inserts a record; see [`Drawer::insert`].
    ///
    /// # Errors
    /// As [`Drawer::insert`].
    pub fn insert<T: Record>(&self, record: T) -> Result<Stored<T>, Error> {
        self.0.insert(record)
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
        self.0.get_or_insert(record)
    }

    /// Inserts a record, or puts it in the place of the one with the same own key; see [`Drawer::insert_or_replace`].
    ///
    /// # Errors
    /// As [`Drawer::insert_or_replace`].
    pub fn insert_or_replace<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.0.insert_or_replace(record)
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
        self.0.insert_or_merge(record, columns)
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
        self.0.get_or_insert_by(record, unique)
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
        self.0.insert_or_replace_by(record, unique)
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
        self.0.insert_or_merge_by(record, unique, columns)
    }

    /// Puts a record in the place of a stored one; see [`Drawer::update`].
    ///
    /// # Errors
    /// As [`Drawer::update`].
    pub fn update<T: Record>(&self, key: Key<T>, record: T) -> Result<Stored<T>, Error> {
        self.0.update(key, record)
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
    /// # #[derive(Record)] struct Glaze { #[record(key)] name: String }
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
    pub fn part<R>(&self, work: impl FnOnce(&Tx<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.0.part(|| work(self))
    }

    /// The record with this key, or nothing when it is not there. What this transaction wrote is seen.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.0.get(key)
    }

    /// The record whose own key is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get_by<T: Keyed>(
        &self,
        own_key: <T::NaturalKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.0.get_by(own_key)
    }

    /// The records of type `T`, to be filtered, sorted and collected.
    pub fn records<T: Record>(&self) -> Records<'_, T> {
        self.0.writable()
    }

    /// How many records of type `T` there are.
    ///
    /// # Errors
    /// As [`Drawer::count`].
    pub fn count<T: Record>(&self) -> Result<u64, Error> {
        self.records::<T>().count()
    }
}
