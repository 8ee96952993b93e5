//! Reading one record by its key.

use super::{Open, stored};
use crate::drawer::Drawer;
use crate::engine::Statement;
use crate::error::{Cause, Error};
use velvet_core::column_type::stored_arg;
use velvet_core::{ColumnType, Key, Keyed, Record, Stored, ValueRef};

impl Drawer {
    /// The record with this key, or nothing when it is not there.
    ///
    /// # Errors
    /// When the file cannot be read, or a stored value is not one of its field's type.
    #[inline]
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.reading(|connection| Open { connection, inner: &self.inner }.get(key))
    }

    /// The record whose own key (`#[record(key)]`) is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(key)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// assert!(drawer.get_by::<Glaze>("Celadon")?.is_some());
    /// assert!(drawer.get_by::<Glaze>("Shino")?.is_none());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn get_by<T: Keyed>(
        &self,
        own_key: <T::NaturalKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.reading(|connection| Open { connection, inner: &self.inner }.get_by(own_key))
    }
}

impl Open<'_> {
    #[inline]
    pub(crate) fn get<T: Record>(self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.one(&T::statements().get, ValueRef::Integer(key.number()), || format!("cannot read {key}"))
    }

    pub(crate) fn get_by<T: Keyed>(
        self,
        own_key: <T::NaturalKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        let doing = || format!("cannot read a {} by its own key", T::TABLE);
        let value = stored_arg::<T::NaturalKey>(own_key).map_err(|misfit| {
            let misfit = misfit.at(T::KEY_POSITION);
            self.inner.place.name(Error::misfit(Cause::Misfit, &doing(), T::TABLE, T::COLUMNS, misfit))
        })?;
        self.one(T::statements().get_by.as_deref().unwrap_or_default(), value.as_ref(), doing)
    }

    #[inline]
    pub(crate) fn one<T: Record>(
        self,
        text: &str,
        argument: ValueRef<'_>,
        doing: impl Fn() -> String,
    ) -> Result<Option<Stored<T>>, Error> {
        let mut statement = self.connection.prepare(text).map_err(self.fault(&doing))?;
        self.one_of(&mut statement, argument, doing)
    }

    /// The record that a prepared statement finds for its one argument.
    #[inline]
    pub(super) fn one_of<T: Record>(
        self,
        statement: &mut Statement<'_>,
        argument: ValueRef<'_>,
        doing: impl Fn() -> String,
    ) -> Result<Option<Stored<T>>, Error> {
        statement.bind(1, argument).map_err(self.fault(&doing))?;
        let mut rows = statement.rows();
        match rows.next().map_err(self.fault(&doing))? {
            Some(row) => stored(self, row).map(Some),
            None => Ok(None),
        }
    }
}
