//! Reading settings.

use super::{SettingsOf, stored_as};
use crate::drawer::{Access, Mode, Scope};
use crate::error::{Cause, Error};
use crate::events;
use crate::live::{Live, LiveValue};
use std::sync::Arc;
use velvet_core::column_type::{Json, Sealed};
use velvet_core::exchange::value_list;
use velvet_core::named::settings::SettingPlace;
use velvet_core::sealing::{Plain, Shut};
use velvet_core::{ColumnType, Misfit, NamedValue, Record, Settings, Value, ValueRef};

impl<S: Settings, A: Access> SettingsOf<S, A> {
    /// The settings. Of a drawer they are read from memory after the first time, until somebody writes to them; what other processes write is noticed as
    /// [`Options::others_noticed_within`](crate::Options::others_noticed_within) says.
    ///
    /// # Errors
    /// When the file cannot be read, or a newer version of the app upgraded it ([`Error::is_newer_version`]). What is stored for a field and cannot be read is no error; see
    /// [`SettingsOf::unreadable`].
    pub fn get(&self) -> Result<Arc<S>, Error> {
        match self.at.drawer()? {
            None => self.at.reading(|scope| scope.told_settings::<S>(&self.account)).map(Arc::new),
            Some(inner) => {
                inner.refuse_if_busy_here("read")?;
                // Whether the file is still at the app's version is looked at whenever it is read.
                let read = || inner.viewing(|scope| scope.told_settings::<S>(&self.account));
                inner.cache(&[S::Setting::TABLE, S::SealedSetting::TABLE], &self.account, read)
            }
        }
    }

    /// Returns the settings, if everything that is stored for them can be read. For a document in which a default would be wrong in the place of a stored value, such as an
    /// empty PIN.
    ///
    /// # Errors
    /// When a stored value is not one of its field's type, or was changed ([`Error::is_unreadable`]), its key is missing ([`Error::is_key_missing`]), or the file cannot be
    /// read.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, KeysInMemory, Schema, Settings};
    /// #[derive(Settings, Clone, Default)]
    /// struct Till {
    ///     #[settings(sealed)]
    ///     pin: String,
    /// }
    ///
    /// # let drawer = Drawer::options().keys(KeysInMemory::default()).in_memory(Schema::new("kilnbook").settings::<Till>())?;
    /// let till = drawer.settings::<Till>();
    /// till.change(|t| t.pin = "4711".into())?;
    /// assert_eq!(till.get_whole()?.pin, "4711");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn get_whole(&self) -> Result<S, Error> {
        self.at.reading(|scope| {
            let mut unreadable = Vec::new();
            let settings = scope.settings::<S>(&self.account, &mut |error| unreadable.push(error))?;
            unreadable.into_iter().next().map_or(Ok(settings), Err)
        })
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
                self.found_settings::<S::Setting>(&list, &mut stored)?;
                let mut clear = Vec::new();
                if S::HAS_SEALED_FIELDS {
                    for (at, field) in S::FIELDS.iter().chain(S::FIELDS).enumerate() {
                        if stored[at].is_some()
                            && self.inner.declared.must_be_sealed(field, S::Setting::TABLE, S::SealedSetting::TABLE)
                        {
                            stored[at] = None;
                            clear.push(at % S::FIELDS.len());
                        }
                    }
                    // What stands elsewhere than the field has its place now is still to be moved.
                    self.found_settings::<S::SealedSetting>(&list, &mut stored)?;
                }
                let before = stored.split_off(S::FIELDS.len());
                let file = &self.inner.place;
                let mut tell = |at, table, cause, misfit| {
                    unreadable(file.name(unreadable_setting::<S>(account, at, table, cause, misfit)));
                };
                for (at, (now, before)) in stored.iter_mut().zip(before).enumerate() {
                    *now = now.take().or(before);
                    if let Some(Value::Bytes(shut)) = now {
                        let cause = if Shut::of_sign(shut) == Some(Shut::NoKey) {
                            Cause::KeyMissing
                        } else {
                            Cause::Unreadable
                        };
                        let why = Sealed::<Json<serde_json::Value>>::load(ValueRef::Bytes(shut));
                        why.err().into_iter().for_each(|misfit| tell(at, table_of::<S>(at), cause, misfit));
                        *now = None;
                    } else if now.is_none() && clear.contains(&at) {
                        tell(at, S::Setting::TABLE, Cause::Unreadable, not_sealed());
                    }
                }
                Ok(S::load(&stored, &mut |at, misfit| tell(at, table_of::<S>(at), Cause::Unreadable, misfit)))
            },
        )
    }

    /// What a table has under the names in a list, in the places of those that have nothing yet. What does not open stays as it is.
    fn found_settings<T: NamedValue>(self, list: &Value, stored: &mut [Option<Value>]) -> Result<(), Error> {
        self.connection.rows(&T::named_statements().get_all, [list.as_ref()], |row| {
            let at = usize::try_from(row.key()).unwrap_or(usize::MAX);
            if let Some(place @ None) = stored.get_mut(at) {
                let value = row.value(1);
                let plain = if let ValueRef::Bytes(plain) = value { Plain::read(plain) } else { None };
                *place = Some(plain.unwrap_or(value).to_value());
            }
            Ok(())
        })
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

fn not_sealed() -> Misfit {
    let why = "is in the clear: something wrote it that does not seal";
    let advice = "Where an earlier release of the app did not seal the field, add `was_clear` to it; otherwise write the value again";
    Misfit::new("the value", why).advise(advice)
}

/// The table in which a field has its place.
fn table_of<S: Settings>(at: usize) -> &'static str {
    if S::FIELDS[at].place == SettingPlace::Sealed { S::SealedSetting::TABLE } else { S::Setting::TABLE }
}

fn unreadable_setting<S: Settings>(account: &str, at: usize, table: &str, cause: Cause, misfit: Misfit) -> Error {
    let name = S::FIELDS[at].name;
    let misfit = Misfit { column: Some(<S::Setting as NamedValue>::VALUE_POSITION), ..misfit };
    let doing = format!("cannot read the setting {} {}", S::Setting::TABLE, stored_as(account, name).literal());
    let error = Error::misfit(cause, table, S::Setting::COLUMNS, misfit).doing(doing);
    error.untouched("It is as by default, and what is stored stays until it is changed")
}
