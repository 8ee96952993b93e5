//! A typed document of settings, of which each field is a named value.

use crate::column_type::{ColumnType, Json, Misfit, stored_value};
use crate::named::named_value::NamedValue;
use crate::value::Value;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// The settings of an app: one typed document with a default for each field; made by `#[derive(Settings)]`.
#[diagnostic::on_unimplemented(message = "`{Self}` is no settings", note = "put `#[derive(Settings)]` on the struct")]
pub trait Settings: Clone + Send + Sync + 'static {
    /// A field as it is stored: its name, and its value as JSON text.
    type Setting: NamedValue<OwnKey = String, Value: ColumnType<Value = serde_json::Value>>;
    /// As [`Settings::Setting`], of the fields that are sealed one by one; the same where none is.
    type SealedSetting: NamedValue<OwnKey = String, Value: ColumnType<Value = serde_json::Value>>;
    /// Its fields, in declared order.
    const FIELDS: &'static [SettingField];
    /// Whether some have a table of their own, in which they are sealed.
    const HAS_SEALED_FIELDS: bool = !is_all_in_place(Self::FIELDS);

    /// What holds for whoever has set nothing.
    fn defaults() -> Self;

    /// Makes settings of what is stored for each field. What is not stored, or cannot be read, is as in [`Settings::defaults`]; of what cannot be read,
    /// `unreadable` is told, with the position of the field.
    fn load(stored: &[Option<Value>], unreadable: &mut dyn FnMut(usize, Misfit)) -> Self;

    /// The stored form of each field.
    ///
    /// # Errors
    /// When a value cannot be written as JSON, with the position of its field.
    fn store(&self) -> Result<Vec<Value>, Misfit>;
}

/// A field of settings.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SettingField {
    /// The name under which it is stored.
    pub name: &'static str,
    /// The name it had before, under which it may be stored still.
    pub was: Option<&'static str>,
    /// Where it is stored.
    pub place: SettingPlace,
    /// Whether it was stored in the clear before it came to be sealed.
    pub was_clear: bool,
}

/// Where a field of settings is stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SettingPlace {
    /// With the others, as it always was.
    WithTheOthers,
    /// Among those that are sealed one by one.
    Sealed,
    /// With the others again, after it was sealed.
    WithTheOthersAgain,
}

const fn is_all_in_place(fields: &[SettingField]) -> bool {
    match fields {
        [] => true,
        [field, rest @ ..] => matches!(field.place, SettingPlace::WithTheOthers) && is_all_in_place(rest),
    }
}

/// What a setting can be: whatever serde can write and read.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be a setting",
    label = "not a type that a setting can have",
    note = "its type needs serde's `Serialize` and `Deserialize`, and `Default` where no default is given"
)]
pub trait SettingValue: Serialize + DeserializeOwned + 'static {}

impl<V: Serialize + DeserializeOwned + 'static> SettingValue for V {}

/// The value of the field at a position, of what is stored.
pub fn load_setting<V: SettingValue>(
    at: usize,
    stored: &[Option<Value>],
    default: impl FnOnce() -> V,
    unreadable: &mut dyn FnMut(usize, Misfit),
) -> V {
    let Some(Some(value)) = stored.get(at) else { return default() };
    Json::<V>::load(value.as_ref()).unwrap_or_else(|misfit| {
        // What was private in a copy is as if it had not been set.
        if *value != Value::Text("null".into()) {
            unreadable(at, misfit);
        }
        default()
    })
}

/// The stored form of the field at a position.
///
/// # Errors
/// When it cannot be written as JSON.
pub fn store_setting<V: SettingValue>(at: usize, value: &V) -> Result<Value, Misfit> {
    stored_value::<Json<V>>(value).map_err(|misfit| misfit.at(at))
}
