//! Changing settings.

use super::{SettingsOf, is_of, stored_as};
use crate::drawer::{Access, MayWrite, Scope, Writes};
use crate::error::{Cause, Error};
use velvet_core::named::settings::SettingPlace;
use velvet_core::sealing::Plain;
use velvet_core::{Misfit, NamedValue, Record, Settings, Value};

impl<S: Settings, A: Access> SettingsOf<S, A> {
    /// Reads the settings, lets `edit` change them, and writes the fields that changed, in one transaction. Returns them as they are then.
    ///
    /// # Errors
    /// When a value cannot be written as JSON ([`Error::is_misfit`]), or the file cannot be written. Nothing is written then.
    pub fn change(&self, edit: impl FnOnce(&mut S)) -> Result<S, Error>
    where
        A: MayWrite,
    {
        self.at.writing(|scope| scope.change_settings(&self.account, edit))
    }

    /// Makes these the settings: writes the fields that differ.
    ///
    /// # Errors
    /// As [`SettingsOf::change`].
    pub fn replace(&self, settings: S) -> Result<S, Error>
    where
        A: MayWrite,
    {
        self.change(|there| *there = settings)
    }

    /// Removes all that is stored of these settings, also what a newer app has stored, so that they are as by default.
    ///
    /// # Errors
    /// When the file cannot be written. Nothing is removed then.
    pub fn reset(&self) -> Result<(), Error>
    where
        A: MayWrite,
    {
        self.at.writing(|scope| {
            scope.doing(
                || format!("cannot reset the settings {}", S::Setting::TABLE),
                || {
                    scope.remove_settings::<S::Setting>(&self.account)?;
                    if S::HAS_SEALED_FIELDS { scope.remove_settings::<S::SealedSetting>(&self.account) } else { Ok(()) }
                },
            )
        })
    }
}

impl Scope<'_, Writes> {
    fn change_settings<S: Settings>(self, account: &str, edit: impl FnOnce(&mut S)) -> Result<S, Error> {
        self.doing(
            || format!("cannot change the settings {}", S::Setting::TABLE),
            || {
                let mut settings = self.told_settings::<S>(account)?;
                let before = settings.store().map_err(misfit::<S>)?;
                edit(&mut settings);
                let after = settings.store().map_err(misfit::<S>)?;
                let differing = before.iter().zip(&after).zip(S::FIELDS).filter(|((before, after), _)| before != after);
                for ((_, value), field) in differing {
                    let name = stored_as(account, field.name);
                    let mut left = Vec::from_iter(field.was.map(|was| stored_as(account, was)));
                    if field.place == SettingPlace::Sealed {
                        self.put_setting::<S::SealedSetting>(&name, value)?;
                        self.remove_named::<S::SealedSetting>(&left)?;
                        left.push(name);
                        self.remove_named::<S::Setting>(&left)?;
                    } else {
                        self.put_setting::<S::Setting>(&name, value)?;
                        self.remove_named::<S::Setting>(&left)?;
                        if S::HAS_SEALED_FIELDS {
                            left.push(name);
                            self.remove_named::<S::SealedSetting>(&left)?;
                        }
                    }
                }
                Ok(settings)
            },
        )
    }

    fn put_setting<T: NamedValue>(self, name: &Value, value: &Value) -> Result<(), Error> {
        let plain = Plain::of(value.as_ref()).filter(|_| !T::SEALED.is_empty()).map(Value::Bytes);
        self.put_named::<T>(name.as_ref(), plain.as_ref().unwrap_or(value).as_ref())
    }

    fn remove_named<T: NamedValue>(self, names: &[Value]) -> Result<(), Error> {
        let remove = &T::named_statements().remove;
        names.iter().try_for_each(|name| Ok(self.connection.execute(remove, [name.as_ref()]).map(drop)?))
    }

    /// Removes what a table has of an account's settings, also what cannot be read.
    fn remove_settings<T: NamedValue>(self, account: &str) -> Result<(), Error> {
        let all = self.connection.list(&T::named_statements().names, [], |row| row.value(0).to_value())?;
        let of_these = |name: &Value| matches!(name, Value::Text(name) if is_of(account, name));
        self.remove_named::<T>(&all.into_iter().filter(of_these).collect::<Vec<_>>())
    }
}

/// An error of a field whose value cannot be stored.
fn misfit<S: Settings>(misfit: Misfit) -> Error {
    let field = misfit.column.map_or("", |at| S::FIELDS[at].name);
    let misfit = Misfit { column: Some(<S::Setting as NamedValue>::VALUE_POSITION), ..misfit };
    Error::misfit(Cause::Misfit, S::Setting::TABLE, S::Setting::COLUMNS, misfit).doing(format!("the setting `{field}`"))
}
