//! Changing stored records. Only columns whose stored form changed are written.

use super::{clash, misfit};
use crate::drawer::{Drawer, Scope, Writes};
use crate::error::{Cause, Error};
use jiff::Timestamp;
use velvet_core::column_type::stored_value;
use velvet_core::records::record_statements;
use velvet_core::records::stamp::{StampedColumn, When};
use velvet_core::records::stored_form::StoredForm;
use velvet_core::{Key, Record, Stored, Value, ValueRef};

impl Drawer {
    /// Puts `record` in the place of the one stored under `key`.
    ///
    /// # Errors
    /// When no record has this key ([`Error::is_not_found`]), and as [`Drawer::insert`]. Nothing is written then.
    pub fn replace<T: Record>(&self, key: Key<T>, record: T) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.replace(key, record))
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
        self.inner.transaction(|scope| scope.change(key, edit))
    }
}

impl Scope<'_, Writes> {
    pub(crate) fn replace<T: Record>(self, key: Key<T>, mut record: T) -> Result<Stored<T>, Error> {
        self.doing(
            || format!("cannot replace {key}"),
            || {
                let before = match self.get(key) {
                    Ok(Some(old)) => {
                        record.keep_created(&old);
                        StoredForm::of(&*old).ok()
                    }
                    Ok(None) => return Err(not_there::<T>()),
                    // What cannot be read is overwritten whole: that is what the caller asked for.
                    Err(error) if error.is_unreadable() => None,
                    Err(error) => return Err(error),
                };
                let after = StoredForm::of(&record).map_err(misfit::<T>)?;
                let changed = match before {
                    Some(before) => before.changed(&after),
                    None => (0..T::COLUMNS.len()).collect(),
                };
                if let Some(now) = self.write_columns(key, &record, &after, &changed)? {
                    record.stamp(now, When::Changed);
                }
                Ok(Stored::new(key, record))
            },
        )
    }

    pub(crate) fn change<T: Record>(self, key: Key<T>, edit: impl FnOnce(&mut T)) -> Result<Stored<T>, Error> {
        let record = self.doing(
            || format!("cannot change {key}"),
            || {
                let mut record = self.get(key)?.ok_or_else(not_there::<T>)?.into_record();
                let before = StoredForm::of(&record).map_err(misfit::<T>)?;
                edit(&mut record);
                let after = StoredForm::of(&record).map_err(misfit::<T>)?;
                if let Some(now) = self.write_columns(key, &record, &after, &before.changed(&after))? {
                    record.stamp(now, When::Changed);
                }
                Ok(record)
            },
        )?;
        Ok(Stored::new(key, record))
    }

    /// Writes the columns at these positions of a record, whose stored form is at hand. Returns the moment, where a column holds it then.
    pub(super) fn write_columns<T: Record>(
        self,
        key: Key<T>,
        record: &T,
        form: &StoredForm,
        changed: &[usize],
    ) -> Result<Option<Timestamp>, Error> {
        let is_filled = |column: &usize| T::STAMPED.contains(&StampedColumn { at: *column, when: When::Changed });
        let written = changed.iter().copied().filter(|column| !is_filled(column));
        if written.clone().next().is_none() {
            return Ok(None);
        }
        let filled = T::STAMPED.iter().filter(|column| column.when == When::Changed).map(|column| column.at);
        let now = filled.clone().next().map(|_| self.now());
        let moment = now.map(|now| stored_value::<Timestamp>(&now)).transpose().map_err(misfit::<T>)?;
        let text = record_statements::update(T::LAYOUT, written.clone().chain(filled.clone()));
        let moments = filled.map(|_| moment.as_ref().map_or(ValueRef::Missing, Value::as_ref));
        let values = written.map(|at| form.value(at)).chain(moments).chain([key.number().into()]);
        self.connection.execute(&text, values).map_err(|fault| clash::explain(self, record, fault))?;
        Ok(now)
    }
}

fn not_there<T: Record>() -> Error {
    Error::bare(Cause::NotFound, "it does not exist")
        .advise("It was removed, or its key comes from another file")
        .in_table(T::TABLE, None)
}
