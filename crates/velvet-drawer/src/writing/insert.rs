//! Inserting records.

use super::{UNTOUCHED, clash, misfit};
use crate::drawer::Drawer;
use crate::engine::Statement;
use crate::error::Error;
use crate::reading::Open;
use velvet_core::{Key, Record, Stored};

impl Drawer {
    /// Inserts a record and returns it with its key. When this returns, the record is safe.
    ///
    /// # Errors
    /// When another record has the same key or unique value ([`Error::is_clash`]), a link leads nowhere
    /// ([`Error::is_broken_link`]), a value has no stored form ([`Error::is_misfit`]), or the file cannot be written.
    /// Nothing is written then.
    #[inline]
    pub fn insert<T: Record>(&self, record: T) -> Result<Stored<T>, Error> {
        self.writing_records(|open| open.insert(record))
    }

    /// Inserts records in one transaction: all or none.
    ///
    /// # Errors
    /// As [`Drawer::insert`], for the first record that cannot be inserted, with its position.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Debug)] struct Glaze { #[record(key)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let names = ["Celadon", "Tenmoku", "Celadon"];
    /// let error = drawer.insert_all(names.map(|n| Glaze { name: n.into() })).unwrap_err();
    /// assert!(error.is_clash());
    /// assert_eq!(drawer.count::<Glaze>()?, 0);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn insert_all<T: Record>(&self, records: impl IntoIterator<Item = T>) -> Result<Vec<Stored<T>>, Error> {
        self.write(|tx| tx.insert_all(records))
    }
}

impl Open<'_> {
    #[inline]
    pub(crate) fn insert<T: Record>(self, record: T) -> Result<Stored<T>, Error> {
        let doing = || format!("cannot insert a {}", T::TABLE);
        let mut statement = self.connection.prepare(&T::statements().insert).map_err(self.fault(doing))?;
        let key = self.insert_with(&mut statement, &record, doing)?;
        Ok(Stored::new(key, record))
    }

    pub(crate) fn insert_all<T: Record>(self, records: impl IntoIterator<Item = T>) -> Result<Vec<Stored<T>>, Error> {
        let records = records.into_iter();
        let mut all = Vec::with_capacity(records.size_hint().0);
        let preparing = || format!("cannot insert records of {}", T::TABLE);
        let mut statement = self.connection.prepare(&T::statements().insert).map_err(self.fault(preparing))?;
        for (position, record) in records.enumerate() {
            let doing = || format!("cannot insert record {} of the {} given", position + 1, T::TABLE);
            let key = self.insert_with(&mut statement, &record, doing)?;
            all.push(Stored::new(key, record));
        }
        Ok(all)
    }

    #[inline]
    pub(super) fn insert_with<T: Record>(
        self,
        statement: &mut Statement<'_>,
        record: &T,
        doing: impl Fn() -> String,
    ) -> Result<Key<T>, Error> {
        let mut columns = statement.columns(None);
        record.store(&mut columns).map_err(|wrong| misfit::<T>(self, &doing(), wrong))?;
        columns.fault().map_err(|fault| self.inner.fault(&doing(), fault).untouched(UNTOUCHED))?;
        match statement.execute() {
            Ok(_) => Ok(Key::from_number(self.connection.last_row_number())),
            Err(fault) => Err(clash::explain(self, &doing(), record, fault)),
        }
    }
}
