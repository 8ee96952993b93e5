//! Reading one record by its key.

use super::stored;
use crate::drawer::{Drawer, Mode, Scope};
use crate::engine::Statement;
use crate::error::{Cause, Error};
use velvet_core::column_type::{stored_value, with_stored_arg};
use velvet_core::{ColumnType, Key, Keyed, Record, Stored, Value, ValueRef};

impl Drawer {
    /// The record with this key, or nothing when it is not there.
    ///
    /// # Errors
    /// When the file cannot be read, or a stored value is not one of its field's type.
    #[inline]
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.inner.reading(|scope| scope.get(key))
    }

    /// The record whose own key (`#[record(own_key)]`) is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(own_key)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// assert!(drawer.get_by_own_key::<Glaze>("Celadon")?.is_some());
    /// assert!(drawer.get_by_own_key::<Glaze>("Shino")?.is_none());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn get_by_own_key<T: Keyed>(
        &self,
        own_key: <T::OwnKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.inner.reading(|scope| scope.get_by_own_key(own_key))
    }
}

impl<M: Mode> Scope<'_, M> {
    #[inline]
    pub(crate) fn get<T: Record>(self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.found(&T::statements().get, key.number().into(), || format!("cannot read {key}"))
    }

    pub(crate) fn get_by_own_key<T: Keyed>(
        self,
        own_key: <T::OwnKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        let doing = || format!("cannot read a {} by its own key", T::TABLE);
        let text = T::statements().get_by_own_key.as_deref().unwrap_or_default();
        let found = with_stored_arg::<T::OwnKey, _>(own_key, |value| {
            let found: Option<Stored<T>> = self.found(text, value, doing)?;
            // Another program may have stored texts with a NUL, which the engine compares only up to it.
            match value {
                ValueRef::Text(text) if text.contains('\0') => Ok(found.filter(|found| {
                    let stored = stored_value::<T::OwnKey>(found.own_key());
                    matches!(stored, Ok(Value::Text(stored)) if stored.eq_ignore_ascii_case(text))
                })),
                _ => Ok(found),
            }
        });
        found.unwrap_or_else(|wrong| {
            let misfit = Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, wrong.at(T::OWN_KEY_POSITION));
            self.doing(doing, || Err(misfit))
        })
    }

    /// The record that a statement finds for its one argument.
    #[inline]
    pub(crate) fn found<T: Record>(
        self,
        text: &str,
        argument: ValueRef<'_>,
        doing: impl FnOnce() -> String,
    ) -> Result<Option<Stored<T>>, Error> {
        self.doing(doing, || found_by(&mut self.connection.prepare(text)?, argument))
    }
}

/// The record that a prepared statement finds for its one argument.
#[inline]
pub(super) fn found_by<T: Record>(
    statement: &mut Statement<'_>,
    argument: ValueRef<'_>,
) -> Result<Option<Stored<T>>, Error> {
    statement.bind(1, argument)?;
    statement.rows().next()?.map(stored).transpose()
}
