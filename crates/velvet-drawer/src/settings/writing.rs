//! Changing settings.

use super::{SettingsOf, is_of, stored_as};
use crate::drawer::{Access, MayWrite, Scope, Writes};
use crate::error::{Cause, Error};
use crate::reading::Records;
use velvet_core::sealing::Plain;
use velvet_core::{Keyed, Misfit, NamedValue, Record, Settings, Value};

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
            let all = Records::<S::Setting, _>::at(scope).collect()?;
            let mut of_these = all.iter().filter(|setting| is_of(&self.account, setting.own_key()));
            of_these.try_for_each(|setting| scope.remove(setting.key()).map(drop))
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
                    let plain = Plain::of(value.as_ref()).filter(|_| !S::Setting::SEALED.is_empty()).map(Value::Bytes);
                    self.put_named::<S::Setting>(&stored_as(account, field.name), plain.as_ref().unwrap_or(value))?;
                    if let Some(was) = field.was {
                        let remove = &S::Setting::named_statements().remove;
                        self.connection.execute(remove, [stored_as(account, was).as_ref()])?;
                    }
                }
                Ok(settings)
            },
        )
    }
}

/// An error of a field whose value cannot be stored.
fn misfit<S: Settings>(misfit: Misfit) -> Error {
    let field = misfit.column.map_or("", |at| S::FIELDS[at].name);
    let misfit = Misfit { column: Some(<S::Setting as NamedValue>::VALUE_POSITION), ..misfit };
    Error::misfit(Cause::Misfit, S::Setting::TABLE, S::Setting::COLUMNS, misfit).doing(format!("the setting `{field}`"))
}
