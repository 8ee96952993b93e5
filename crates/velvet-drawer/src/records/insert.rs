//! Inserting records.

use super::{clash, misfit};
use crate::drawer::{Drawer, Scope, Writes};
use crate::engine::Statement;
use crate::error::Error;
use crate::work::progress;
use jiff::Timestamp;
use velvet_core::column_type::stored_value;
use velvet_core::records::stamp::When;
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
        let moment = self.moment_of::<T>();
        let key = self.inserted(&record, moment, || format!("cannot insert a {}", T::TABLE))?;
        stamp(&mut record, moment);
        Ok(Stored::new(key, record))
    }

    #[inline]
    pub(crate) fn insert_ref<T: Record>(self, record: &T) -> Result<Key<T>, Error> {
        self.inserted(record, self.moment_of::<T>(), || format!("cannot insert a {}", T::TABLE))
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
            progress::tell_rows(|| format!("inserting records of {}", T::TABLE), position as u64, foreseen);
            let doing = || format!("cannot insert record {} of the {} given", position + 1, T::TABLE);
            let moment = self.moment_of::<T>();
            let key = self.doing(doing, || self.insert_row(&mut statement, &record, moment))?;
            stamp(&mut record, moment);
            all.push(Stored::new(key, record));
        }
        progress::tell(|| format!("inserting records of {}", T::TABLE), all.len() as u64, Some(all.len() as u64));
        Ok(all)
    }

    /// The moment of an insert, where the library fills any column with it.
    #[inline]
    pub(super) fn moment_of<T: Record>(self) -> Option<Timestamp> {
        if T::STAMPED.is_empty() { None } else { Some(self.now()) }
    }

    /// Inserts one record.
    #[inline]
    pub(super) fn inserted<T: Record>(
        self,
        record: &T,
        moment: Option<Timestamp>,
        doing: impl FnOnce() -> String,
    ) -> Result<Key<T>, Error> {
        let statement = || Ok::<_, Error>(self.connection.prepare(&T::statements().insert)?);
        self.doing(doing, || self.insert_row(&mut statement()?, record, moment))
    }

    /// Inserts a record by the prepared statement, with the moment in the columns that the library fills.
    #[inline]
    pub(super) fn insert_row<T: Record>(
        self,
        statement: &mut Statement<'_>,
        record: &T,
        moment: Option<Timestamp>,
    ) -> Result<Key<T>, Error> {
        let mut columns = statement.columns();
        record.store(&mut columns).map_err(misfit::<T>)?;
        columns.fault()?;
        if let Some(moment) = moment {
            let moment = stored_value::<Timestamp>(&moment).map_err(misfit::<T>)?;
            T::STAMPED.iter().try_for_each(|column| statement.bind(column.at + 1, moment.as_ref()))?;
        }
        match statement.execute() {
            Ok(_) => Ok(Key::from_number(self.connection.last_row_number())),
            Err(fault) => Err(clash::explain(self, record, fault)),
        }
    }
}

/// Puts the moment of the insert into what is handed back.
#[inline]
fn stamp<T: Record>(record: &mut T, moment: Option<Timestamp>) {
    if let Some(moment) = moment {
        record.stamp(moment, When::Created);
    }
}
