//! Writing named values.

use super::{NameArg, NamedValues, ValueOf, called, misfit, with_name};
use crate::drawer::{Access, MayWrite, Scope, Writes};
use crate::engine::Fault;
use crate::error::{Cause, Error};
use crate::records::{Refresh, Refreshed, clash};
use velvet_core::column_type::stored_value;
use velvet_core::{ColumnType, NamedValue, Value, ValueRef};

impl<T: NamedValue, A: Access> NamedValues<T, A> {
    /// Gives a name a value, whether it had one or not. Nothing is written where it has that value already.
    ///
    /// # Errors
    /// When the name or value has no stored form ([`Error::is_misfit`]), or the file cannot be written. Nothing is written then.
    pub fn set(&self, name: NameArg<'_, T>, value: ValueOf<T>) -> Result<(), Error>
    where
        A: MayWrite,
    {
        with_name::<T, _>(name, |name| self.at.writing(|scope| scope.set_named::<T>(name, value)))
    }

    /// Reads the value with this name, lets `edit` change it, and writes it, in one transaction. Returns the new value.
    ///
    /// # Errors
    /// When there is none ([`Error::is_not_found`]), and as [`NamedValues::get`] and [`NamedValues::set`]. Nothing is written then.
    pub fn change(&self, name: NameArg<'_, T>, edit: impl FnOnce(&mut ValueOf<T>)) -> Result<ValueOf<T>, Error>
    where
        A: MayWrite,
    {
        self.edited(name, None, edit)
    }

    /// As [`NamedValues::change`]; where there is no value with this name, `default` is edited and set.
    ///
    /// # Errors
    /// As [`NamedValues::change`].
    pub fn change_or(
        &self,
        name: NameArg<'_, T>,
        default: ValueOf<T>,
        edit: impl FnOnce(&mut ValueOf<T>),
    ) -> Result<ValueOf<T>, Error>
    where
        A: MayWrite,
    {
        self.edited(name, Some(default), edit)
    }

    fn edited(
        &self,
        name: NameArg<'_, T>,
        default: Option<ValueOf<T>>,
        edit: impl FnOnce(&mut ValueOf<T>),
    ) -> Result<ValueOf<T>, Error>
    where
        A: MayWrite,
    {
        with_name::<T, _>(name, |name| self.at.writing(|scope| scope.change_named::<T>(name, default, edit)))
    }

    /// Removes the value with this name. Says whether there was one.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn remove(&self, name: NameArg<'_, T>) -> Result<bool, Error>
    where
        A: MayWrite,
    {
        with_name::<T, _>(name, |name| {
            let doing = || format!("cannot remove {}", called::<T>(name));
            let remove = &T::named_statements().remove;
            self.at.writing(|scope| scope.doing(doing, || Ok(scope.connection.execute(remove, [name])? > 0)))
        })
    }

    /// Removes the value with this name, and returns it; nothing when there is none.
    ///
    /// # Errors
    /// As [`NamedValues::get`], and when the file cannot be written. Nothing is removed then.
    pub fn take(&self, name: NameArg<'_, T>) -> Result<Option<ValueOf<T>>, Error>
    where
        A: MayWrite,
    {
        with_name::<T, _>(name, |name| {
            let doing = || format!("cannot take {}", called::<T>(name));
            self.at.writing(|scope| {
                scope.doing(doing, || {
                    let found = scope.named::<T>(name)?;
                    if found.is_some() {
                        scope.connection.execute(&T::named_statements().remove, [name])?;
                    }
                    Ok(found)
                })
            })
        })
    }

    /// Removes all values of the set, and says how many there were.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn clear(&self) -> Result<u64, Error>
    where
        A: MayWrite,
    {
        self.at.writing(|scope| scope.remove_all::<T>())
    }

    /// Gives names values, in one transaction, and leaves the others as they are.
    ///
    /// # Errors
    /// When a name comes twice, or a name or value has no stored form, each with its position; and when the file cannot be written. Nothing is written
    /// then.
    pub fn merge<'n>(&self, values: impl IntoIterator<Item = (NameArg<'n, T>, ValueOf<T>)>) -> Result<Refreshed, Error>
    where
        A: MayWrite,
    {
        self.refresh(values)?.run()
    }

    /// Makes these the values of the set, in one transaction: others are removed.
    ///
    /// # Errors
    /// As [`NamedValues::merge`].
    pub fn replace_all<'n>(
        &self,
        values: impl IntoIterator<Item = (NameArg<'n, T>, ValueOf<T>)>,
    ) -> Result<Refreshed, Error>
    where
        A: MayWrite,
    {
        self.refresh(values)?.remove_absent().run()
    }

    fn refresh<'n>(
        &self,
        values: impl IntoIterator<Item = (NameArg<'n, T>, ValueOf<T>)>,
    ) -> Result<Refresh<T, Vec<T>, A>, Error>
    where
        A: MayWrite,
    {
        let entry = |(name, value)| Ok(T::named(with_name::<T, _>(name, owned_name::<T>)?, value));
        let entries = values.into_iter().map(entry).collect::<Result<Vec<T>, Error>>()?;
        Ok(Refresh::new(self.at.clone(), entries, vec![T::OWN_KEY_POSITION]))
    }
}

impl<T: NamedValue<OwnKey = i64>, A: Access> NamedValues<T, A> {
    /// Gives a value the next number as its name, and returns that. No number is given twice, also after its value was removed.
    ///
    /// # Errors
    /// As [`NamedValues::set`]; and when the numbers are used up.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// #[derive(Record)]
    /// #[record(named)]
    /// struct Errand { name: i64, value: String }
    ///
    /// # fn main() -> Result<(), velvet_drawer::Error> {
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Errand>())?;
    /// let errands = drawer.named::<Errand>();
    /// assert_eq!((errands.add("cones".into())?, errands.add("wax".into())?), (1, 2));
    /// errands.clear()?;
    /// assert_eq!(errands.add("sponges".into())?, 3);
    /// # Ok(()) }
    /// ```
    pub fn add(&self, value: ValueOf<T>) -> Result<i64, Error>
    where
        A: MayWrite,
    {
        let doing = || format!("cannot add a value to {}", T::TABLE);
        self.at.writing(|scope| {
            scope.doing(doing, || {
                let value = stored_value_of::<T>(&value)?;
                let last = scope.connection.one(&T::named_statements().last_number, [], |row| row.integer(0))?;
                let Some(next) = last.unwrap_or_default().checked_add(1) else {
                    return Err(Error::bare(Cause::Misfit, "the greatest number there can be is given")
                        .in_table(T::TABLE, None));
                };
                let added = scope.connection.execute(&T::named_statements().add, [next.into(), value.as_ref()]);
                added.map_err(|fault| scope.explained::<T>(next.into(), value.as_ref(), fault))?;
                Ok(next)
            })
        })
    }
}

impl Scope<'_, Writes> {
    fn set_named<T: NamedValue>(self, name: ValueRef<'_>, value: ValueOf<T>) -> Result<(), Error> {
        self.doing(
            || format!("cannot set {}", called::<T>(name)),
            || self.put_named::<T>(name, stored_value_of::<T>(&value)?.as_ref()),
        )
    }

    /// Writes a value in its stored form, unless it is there.
    pub(crate) fn put_named<T: NamedValue>(self, name: ValueRef<'_>, stored: ValueRef<'_>) -> Result<(), Error> {
        let statements = T::named_statements();
        let write = |text: &str| {
            let written = self.connection.execute(text, [stored, name]);
            written.map_err(|fault| self.explained::<T>(name, stored, fault))
        };
        // A statement that inserts or else updates would use up a row number each time.
        if write(&statements.set)? == 0 && self.connection.one(&statements.get, [name], |_| ())?.is_none() {
            write(&statements.insert)?;
        }
        Ok(())
    }

    #[cold]
    fn explained<T: NamedValue>(self, name: ValueRef<'_>, stored: ValueRef<'_>, fault: Fault) -> Error {
        let value = T::Value::load(stored).map_err(misfit::<T>);
        match owned_name::<T>(name).and_then(|name| Ok(T::named(name, value?))) {
            Ok(entry) => clash::explain(self, &entry, fault),
            Err(_) => fault.into(),
        }
    }

    fn change_named<T: NamedValue>(
        self,
        name: ValueRef<'_>,
        default: Option<ValueOf<T>>,
        edit: impl FnOnce(&mut ValueOf<T>),
    ) -> Result<ValueOf<T>, Error> {
        self.doing(
            || format!("cannot change {}", called::<T>(name)),
            || {
                let none = || {
                    Error::bare(Cause::NotFound, "there is no value with this name")
                        .advise("Set it first, or give `change_or` what to begin with")
                        .in_table(T::TABLE, None)
                };
                match (self.named::<T>(name)?, default) {
                    (Some(mut value), _) => {
                        // Compared as they are stored, so that a fallback that was read does not replace what stands there.
                        let before = stored_value_of::<T>(&value)?;
                        edit(&mut value);
                        let after = stored_value_of::<T>(&value)?;
                        if before != after {
                            self.put_named::<T>(name, after.as_ref())?;
                        }
                        Ok(value)
                    }
                    (None, Some(mut value)) => {
                        edit(&mut value);
                        self.put_named::<T>(name, stored_value_of::<T>(&value)?.as_ref())?;
                        Ok(value)
                    }
                    (None, None) => Err(none()),
                }
            },
        )
    }
}

fn stored_value_of<T: NamedValue>(value: &ValueOf<T>) -> Result<Value, Error> {
    stored_value::<T::Value>(value).map_err(|wrong| misfit::<T>(wrong.at(T::VALUE_POSITION)))
}

fn owned_name<T: NamedValue>(name: ValueRef<'_>) -> Result<<T::OwnKey as ColumnType>::Value, Error> {
    T::OwnKey::load(name).map_err(|wrong| misfit::<T>(wrong.at(T::OWN_KEY_POSITION)))
}
