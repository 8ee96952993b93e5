//! Changing stored records. Only columns whose stored form changed are written.

use super::{UNTOUCHED, clash, misfit};
use crate::drawer::Drawer;
use crate::error::{Cause, Error};
use crate::reading::Open;
use velvet_core::statement;
use velvet_core::stored_form::StoredForm;
use velvet_core::{Key, Record, Stored, ValueRef};

impl Drawer {
    /// Puts `record` in the place of the one stored under `key`.
    ///
    /// # Errors
    /// When no record has this key ([`Error::is_not_found`]), and as [`Drawer::insert`]. Nothing is written then.
    pub fn update<T: Record>(&self, key: Key<T>, record: T) -> Result<Stored<T>, Error> {
        self.write(|tx| tx.update(key, record))
    }

    /// Reads the record stored under `key`, lets `edit` change it, and writes what changed, in one transaction.
    ///
    /// # Errors
    /// When no record has this key ([`Error::is_not_found`]), a stored value is not one of its field's type, and as
    /// [`Drawer::insert`]. Nothing is written then.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let bowl = drawer.insert(Piece { mark: "K-1".into(), grams: 640 })?;
    /// let bowl = drawer.change(bowl.key(), |p| p.grams -= 90)?;
    /// assert_eq!(bowl.grams, 550);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn change<T: Record>(&self, key: Key<T>, edit: impl FnOnce(&mut T)) -> Result<Stored<T>, Error> {
        self.write(|tx| tx.change(key, edit))
    }
}

impl Open<'_> {
    pub(crate) fn update<T: Record>(self, key: Key<T>, record: T) -> Result<Stored<T>, Error> {
        let doing = || format!("cannot update {key}");
        let before = match self.get(key) {
            Ok(Some(old)) => StoredForm::of(&*old).ok(),
            Ok(None) => return Err(self.not_there::<T>(&doing())),
            // What cannot be read is overwritten whole: that is what the caller asked for.
            Err(error) if error.is_unreadable() => None,
            Err(error) => return Err(error),
        };
        let after = StoredForm::of(&record).map_err(|wrong| misfit::<T>(self, &doing(), wrong))?;
        let changed = match before {
            Some(before) => before.changed(&after),
            None => (0..T::COLUMNS.len()).collect(),
        };
        self.write_columns(key, &record, &changed, doing)?;
        Ok(Stored::new(key, record))
    }

    pub(crate) fn change<T: Record>(self, key: Key<T>, edit: impl FnOnce(&mut T)) -> Result<Stored<T>, Error> {
        let doing = || format!("cannot change {key}");
        let mut record = match self.get(key)? {
            Some(old) => old.into_record(),
            None => return Err(self.not_there::<T>(&doing())),
        };
        let before = StoredForm::of(&record).map_err(|wrong| misfit::<T>(self, &doing(), wrong))?;
        edit(&mut record);
        let after = StoredForm::of(&record).map_err(|wrong| misfit::<T>(self, &doing(), wrong))?;
        self.write_columns(key, &record, &before.changed(&after), doing)?;
        Ok(Stored::new(key, record))
    }

    pub(super) fn write_columns<T: Record>(
        self,
        key: Key<T>,
        record: &T,
        changed: &[usize],
        doing: impl Fn() -> String,
    ) -> Result<(), Error> {
        if changed.is_empty() {
            return Ok(());
        }
        let engine = |fault| self.inner.fault(&doing(), fault).untouched(UNTOUCHED);
        let text = statement::update(T::TABLE, T::COLUMNS, changed.iter().copied());
        let mut statement = self.connection.prepare(&text).map_err(engine)?;
        let mut columns = statement.columns(Some(changed));
        record.store(&mut columns).map_err(|wrong| misfit::<T>(self, &doing(), wrong))?;
        columns.fault().map_err(engine)?;
        statement.bind(changed.len() + 1, ValueRef::Integer(key.number())).map_err(engine)?;
        statement.execute().map(drop).map_err(|fault| clash::explain(self, &doing(), record, fault))
    }

    fn not_there<T: Record>(self, doing: &str) -> Error {
        let error = Error::new(Cause::NotFound, format!("{doing}: it is not there"))
            .untouched(UNTOUCHED)
            .advise("It was removed, or its key comes from another file");
        self.inner.place.name(error.in_table(T::TABLE, None))
    }
}
