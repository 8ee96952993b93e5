//! Reading settings.

use super::{SettingsOf, stored_as};
use crate::drawer::{Access, Mode, Scope};
use crate::error::{Cause, Error};
use crate::events;
use crate::live::{Live, LiveValue};
use std::sync::Arc;
use velvet_core::exchange::value_list;
use velvet_core::sealing::{Plain, Shut};
use velvet_core::{Misfit, NamedValue, Record, Settings, Value, ValueRef};

impl<S: Settings, A: Access> SettingsOf<S, A> {
    /// The settings. Of a drawer they are read from memory after the first time, until somebody writes to them; what other processes write is noticed as
    /// [`Options::others_noticed_within`](crate::Options::others_noticed_within) says.
    ///
    /// # Errors
    /// When the file cannot be read. What is stored for a field and cannot be read is no error; see [`SettingsOf::unreadable`].
    pub fn get(&self) -> Result<Arc<S>, Error> {
        let read = || self.at.reading(|scope| scope.told_settings::<S>(&self.account));
        match self.at.drawer()? {
            None => read().map(Arc::new),
            Some(inner) => {
                inner.refuse_if_busy_here("read")?;
                inner.at_hand(S::Setting::TABLE, &self.account, read)
            }
        }
    }

    /// What is stored for fields and cannot be read as their types: each as an error that names the field. They are as by default until they are changed.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn unreadable(&self) -> Result<Vec<Error>, Error> {
        self.at.reading(|scope| {
            let mut unreadable = Vec::new();
            scope.settings::<S>(&self.account, &mut |error| unreadable.push(error))?;
            Ok(unreadable)
        })
    }
}

impl<S: Settings + PartialEq> SettingsOf<S> {
    /// Follows the settings; see [`Live`].
    ///
    /// # Errors
    /// When the drawer is closed, or no thread can be started. That the file cannot be read is told as a failure.
    pub fn watch(&self) -> Result<Live<S>, Error> {
        self.watch_field(S::clone)
    }
}

impl<S: Settings> SettingsOf<S> {
    /// Follows one field, or what is made of some; see [`Live`].
    ///
    /// # Errors
    /// As [`SettingsOf::watch`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Schema, Settings};
    /// # #[derive(Settings, Clone)] struct Bench { top_celsius: u32, favourites: Vec<String> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").settings::<Bench>())?;
    /// let mut top = drawer.settings::<Bench>().watch_field(|bench| bench.top_celsius)?;
    /// # assert_eq!(top.next().unwrap().unwrap().result, 0);
    /// drawer.settings::<Bench>().change(|bench| bench.top_celsius = 1_280)?;
    /// assert_eq!(top.next().expect("the drawer is open").expect("the file can be read").result, 1_280);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn watch_field<F: Clone + PartialEq + Send + Sync + 'static>(
        &self,
        field: impl Fn(&S) -> F + Send + 'static,
    ) -> Result<Live<F>, Error> {
        let account = self.account.clone();
        LiveValue::follow(&self.at.open()?, move |scope| Ok(field(&scope.settings::<S>(&account, &mut |_| ())?)))
    }
}

impl<M: Mode> Scope<'_, M> {
    /// The settings of an account. What cannot be read is told.
    pub(super) fn settings<S: Settings>(self, account: &str, unreadable: &mut dyn FnMut(Error)) -> Result<S, Error> {
        self.doing(
            || format!("cannot read the settings {}", S::Setting::TABLE),
            || {
                let names =
                    S::FIELDS.iter().map(|field| Some(field.name)).chain(S::FIELDS.iter().map(|field| field.was));
                let wanted: Vec<Value> =
                    names.map(|name| name.map_or(Value::Missing, |name| stored_as(account, name))).collect();
                let mut stored: Vec<Option<Value>> = vec![None; wanted.len()];
                let list = Value::Text(value_list(&wanted));
                let text = &S::Setting::named_statements().get_all;
                self.connection.rows(text, [list.as_ref()], |row| {
                    let at = usize::try_from(row.key()).unwrap_or(usize::MAX);
                    if let Some(place) = stored.get_mut(at) {
                        *place = Some(opened::<S>(row.value(1))?);
                    }
                    Ok::<_, Error>(())
                })?;
                let before = stored.split_off(S::FIELDS.len());
                for (now, before) in stored.iter_mut().zip(before) {
                    *now = now.take().or(before);
                }
                let file = &self.inner.place;
                Ok(S::load(&stored, &mut |at, misfit| {
                    unreadable(file.name(unreadable_setting::<S>(account, at, misfit)))
                }))
            },
        )
    }

    /// As [`Scope::settings`], with what cannot be read told to the app's log.
    pub(super) fn told_settings<S: Settings>(self, account: &str) -> Result<S, Error> {
        self.settings(account, &mut |error| {
            if let Some(path) = self.inner.path() {
                events::unreadable_setting(path, &error);
            }
        })
    }
}

/// What is stored for a field. Without the key a sealed one is not as by default: it is not known.
fn opened<S: Settings>(stored: ValueRef<'_>) -> Result<Value, Error> {
    let ValueRef::Bytes(plain) = stored else { return Ok(stored.to_value()) };
    if Shut::of_sign(plain) == Some(Shut::NoKey) {
        let error = Error::bare(Cause::KeyMissing, "they are sealed, and their key is missing");
        return Err(error
            .advise("Open the drawer with the keeper of its keys (Options::keys)")
            .in_table(S::Setting::TABLE, None));
    }
    Ok(Plain::read(plain).unwrap_or(stored).to_value())
}

fn unreadable_setting<S: Settings>(account: &str, at: usize, misfit: Misfit) -> Error {
    let name = stored_as(account, S::FIELDS[at].name);
    let misfit = Misfit { column: Some(<S::Setting as NamedValue>::VALUE_POSITION), ..misfit };
    let doing = format!("cannot read the setting {} {}", S::Setting::TABLE, name.literal());
    let error = Error::misfit(Cause::Unreadable, S::Setting::TABLE, S::Setting::COLUMNS, misfit).doing(doing);
    error.untouched("It is as by default, and what is stored stays until it is changed")
}
