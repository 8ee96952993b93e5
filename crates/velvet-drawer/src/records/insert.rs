//! Inserting records.

use super::{clash, misfit};
use crate::drawer::{Drawer, Scope, Writes};
use crate::engine::Statement;
use crate::error::Error;
use crate::work::progress;
use jiff::Timestamp;
use velvet_core::column_type::stored_value;
use velvet_core::records::stamp::{StampedColumn, When};
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
        self.inner.transaction(|scope| scope.insert(record))
    }

    /// Inserts a copy of a record that stays with the caller, and returns its key.
    ///
    /// # Errors
    /// As [`Drawer::insert`].
    pub fn insert_ref<T: Record>(&self, record: &T) -> Result<Key<T>, Error> {
        self.inner.transaction(|scope| scope.insert_ref(record))
    }

    /// Inserts records in one transaction: all or none.
    ///
    /// # Errors
    /// As [`Drawer::insert`], for the first record that cannot be inserted, with its position.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Debug)] struct Glaze { #[record(own_key)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let names = ["Celadon", "Tenmoku", "Celadon"];
    /// let error = drawer.insert_all(names.map(|n| Glaze { name: n.into() })).unwrap_err();
    /// assert!(error.is_clash());
    /// assert_eq!(drawer.count::<Glaze>()?, 0);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn insert_all<T: Record>(&self, records: impl IntoIterator<Item = T>) -> Result<Vec<Stored<T>>, Error> {
        self.inner.transaction(|scope| scope.insert_all(records))
    }
}

/// For so many records room is made at once: more may never come, whatever the iterator says.
const FORESEEN: usize = 1 << 17;

impl Scope<'_, Writes> {
    #[inline]
    pub(crate) fn insert<T: Record>(self, mut record: T) -> Result<Stored<T>, Error> {
        if !T::STAMPED.is_empty() {
            record.stamp(self.now(), When::Created);
        }
        let statement = || Ok::<_, Error>(self.connection.prepare(&T::statements().insert)?);
        let doing = || format!("cannot insert a {}", T::TABLE);
        let key = self.doing(doing, || self.insert_stamped(&mut statement()?, &record))?;
        Ok(Stored::new(key, record))
    }

    #[inline]
    pub(crate) fn insert_ref<T: Record>(self, record: &T) -> Result<Key<T>, Error> {
        self.insert_with(&T::statements().insert, record, || format!("cannot insert a {}", T::TABLE))
    }

    pub(crate) fn insert_all<T: Record>(self, records: impl IntoIterator<Item = T>) -> Result<Vec<Stored<T>>, Error> {
        let records = records.into_iter();
        let (least, most) = records.size_hint();
        let foreseen = most.filter(|most| *most == least).map(|most| most as u64);
        let mut all = Vec::with_capacity(least.min(FORESEEN));
        let insert = &T::statements().insert;
        let doing = || format!("cannot insert records of {}", T::TABLE);
        let mut statement = self.doing(doing, || Ok(self.connection.prepare(insert)?))?;
        for (position, mut record) in records.enumerate() {
            if !T::STAMPED.is_empty() {
                record.stamp(self.now(), When::Created);
            }
            progress::tell_rows(|| format!("inserting records of {}", T::TABLE), position as u64, foreseen);
            let doing = || format!("cannot insert record {} of the {} given", position + 1, T::TABLE);
            let key = self.doing(doing, || self.insert_stamped(&mut statement, &record))?;
            all.push(Stored::new(key, record));
        }
        progress::tell(|| format!("inserting records of {}", T::TABLE), all.len() as u64, Some(all.len() as u64));
        Ok(all)
    }

    /// Inserts a record by a statement, which binds all of its columns.
    #[inline]
    pub(super) fn insert_with<T: Record>(
        self,
        text: &str,
        record: &T,
        doing: impl FnOnce() -> String,
    ) -> Result<Key<T>, Error> {
        self.doing(doing, || self.insert_by(&mut self.connection.prepare(text)?, record))
    }

    /// Inserts a record by a prepared statement, with the moment where the library fills that.
    #[inline]
    pub(super) fn insert_by<T: Record>(self, statement: &mut Statement<'_>, record: &T) -> Result<Key<T>, Error> {
        self.insert_with_moment(statement, record, T::STAMPED)
    }

    /// As [`Scope::insert_by`], of a record that has the moment already.
    #[inline]
    fn insert_stamped<T: Record>(self, statement: &mut Statement<'_>, record: &T) -> Result<Key<T>, Error> {
        self.insert_with_moment(statement, record, &[])
    }

    #[inline]
    fn insert_with_moment<T: Record>(
        self,
        statement: &mut Statement<'_>,
        record: &T,
        stamped: &[StampedColumn],
    ) -> Result<Key<T>, Error> {
        let mut columns = statement.columns();
        record.store(&mut columns).map_err(misfit::<T>)?;
        columns.fault()?;
        if !stamped.is_empty() {
            let now = stored_value::<Timestamp>(&self.now()).map_err(misfit::<T>)?;
            stamped.iter().try_for_each(|column| statement.bind(column.at + 1, now.as_ref()))?;
        }
        match statement.execute() {
            Ok(_) => Ok(Key::from_number(self.connection.last_row_number())),
            Err(fault) => Err(clash::explain(self, record, fault)),
        }
    }
}
