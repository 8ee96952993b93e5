//! Settings: one typed document with defaults, whose fields are stored one by one.

mod reading;
mod writing;

use crate::drawer::{Access, Alone, Drawer, Scope, Writes};
use crate::query::View;
use crate::records::Tx;
use std::marker::PhantomData;
use velvet_core::{Settings, Value};

/// The settings of one type: a struct with `#[derive(Settings)]`.
///
/// Each field is of any type that serde can write and read, and is stored under its name as JSON text, once it was changed. So there is nothing to do at
/// the first start, a field that is added later needs no upgrade, and what a newer app has stored is left alone by an older one. What cannot be read, also
/// because it is sealed and the key is missing, is as by default, is told ([`SettingsOf::unreadable`], and the app's log), and stays until the field is changed.
///
/// ```
/// use velvet_drawer::{Drawer, Schema, Settings};
///
/// #[derive(Settings, Clone, Debug, PartialEq)]
/// struct Bench {
///     #[settings(default = 1220)]
///     top_celsius: u32,
///     #[settings(was = "clays")]
///     favourites: Vec<String>,
/// }
///
/// # fn main() -> Result<(), velvet_drawer::Error> {
/// let drawer = Drawer::in_memory(Schema::new("kilnbook").settings::<Bench>())?;
/// assert_eq!(drawer.settings::<Bench>().get()?.top_celsius, 1220);
/// drawer.settings::<Bench>().change(|bench| bench.favourites.push("stoneware".into()))?;
/// assert_eq!(drawer.settings::<Bench>().get()?.favourites, ["stoneware"]);
///
/// let at_the_school = drawer.settings::<Bench>().of("the school");
/// assert!(at_the_school.get()?.favourites.is_empty());
/// # Ok(()) }
/// ```
pub struct SettingsOf<S, A = Alone> {
    at: A,
    account: Box<str>,
    of: PhantomData<fn() -> S>,
}

impl Drawer {
    /// The settings of a type; see [`SettingsOf`].
    pub fn settings<S: Settings>(&self) -> SettingsOf<S> {
        SettingsOf::at(self.alone())
    }
}

impl View<'_> {
    /// The settings of a type; see [`SettingsOf`].
    pub fn settings<S: Settings>(&self) -> SettingsOf<S, Scope<'_>> {
        SettingsOf::at(self.scope())
    }
}

impl<'t> Tx<'t> {
    /// The settings of a type; see [`SettingsOf`].
    pub fn settings<S: Settings>(&self) -> SettingsOf<S, Scope<'t, Writes>> {
        SettingsOf::at(self.scope())
    }
}

impl<S: Settings, A: Access> SettingsOf<S, A> {
    fn at(at: A) -> Self {
        SettingsOf { at, account: Box::default(), of: PhantomData }
    }

    /// Those of an account, a device or whatever else has settings of its own; apart from those of others and from those of none.
    #[must_use]
    pub fn of(mut self, account: &str) -> Self {
        self.account = account.into();
        self
    }
}

impl<S, A: Clone> Clone for SettingsOf<S, A> {
    fn clone(&self) -> Self {
        SettingsOf { at: self.at.clone(), account: self.account.clone(), of: PhantomData }
    }
}

/// The name under which a field of an account's settings is stored.
fn stored_as(account: &str, field: &str) -> Value {
    Value::Text(if account.is_empty() { field.to_owned() } else { format!("{account}/{field}") })
}

/// Whether what is stored under a name is of an account's settings.
fn is_of(account: &str, name: &str) -> bool {
    name.rsplit_once('/').map_or("", |(of, _)| of) == account
}
