//! What a column can be: the Rust types, how each is stored, and the one trait by which an app adds its own.

mod choice;
#[cfg(feature = "chrono")]
mod chrono;
mod dates;
#[cfg(feature = "decimal")]
mod decimal;
mod finite;
mod json;
mod numbers;
mod optional;
mod or_default;
mod own;
mod sealed;
mod standard;
mod text;
#[cfg(feature = "time")]
mod time;
#[cfg(feature = "uuid")]
mod uuids;

pub use choice::{Choice, read_choice};
pub use json::Json;
pub use or_default::OrDefault;
pub use own::StoredAs;
pub use sealed::Sealed;

use crate::schema::structure::Kind;
use crate::value::{Value, ValueRef};
use std::fmt;

/// Takes the one value that a column type hands over.
pub trait Output {
    /// Nothing: the `None` of an optional column.
    fn missing(self);
    /// A whole number.
    fn integer(self, value: i64);
    /// A decimal number; never NaN, which the engine would silently drop.
    fn real(self, value: f64);
    /// Text.
    fn text(self, value: &str);
    /// Bytes.
    fn bytes(self, value: &[u8]);
}

/// Keeps the value that a [`ColumnType`] hands over.
impl Output for &mut Value {
    fn missing(self) {
        *self = Value::Missing;
    }
    fn integer(self, value: i64) {
        *self = Value::Integer(value);
    }
    fn real(self, value: f64) {
        *self = Value::Real(value);
    }
    fn text(self, value: &str) {
        *self = Value::Text(value.to_owned());
    }
    fn bytes(self, value: &[u8]) {
        *self = Value::Bytes(value.to_vec());
    }
}

/// What the compiler has to know of a column type before anything runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// An ordinary value.
    Plain,
    /// The key of another record.
    Link,
}

/// A type that a column can hold.
///
/// Implemented for whole numbers, also those that are never 0, decimals, `bool`, `char`, `String`, `Box<str>`, `Vec<u8>`, `[u8; N]`, IP addresses, `jiff`'s dates, times, time stamps and signed
/// durations, [`std::time::Duration`], `Uuid`, `serde_json::Value`, [`crate::OutsideFile`], [`crate::Key`], types with
/// `#[derive(Choice)]`, and an `Option` of each. For a type of your own implement [`StoredAs`].
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be a column",
    label = "not a type that a column can hold",
    note = "nested values and lists: put `#[record(json)]` on the field (the type needs serde's `Serialize` and `Deserialize`)",
    note = "an enumeration: `#[derive(Choice)]` on it; a type of your own: implement `StoredAs` for it",
    note = "dates, times and UUIDs: the types of `jiff` 1 and `uuid` 1; those of another version are other types",
    note = "something only the running app needs: `#[record(skip)]` on the field (the type needs `Default`)"
)]
pub trait ColumnType: 'static {
    /// The Rust value that the field holds. The type itself, but for [`Json`], which stores a value of another type.
    type Value;
    /// The column type of a value that is there: the inner type for an `Option`, else the type itself.
    type Inner: ColumnType;
    /// What a condition or a default on such a column takes: `&str` for text, the inner type for an `Option`.
    type Arg<'a>;
    /// Whether the column may hold nothing.
    const OPTIONAL: bool = false;
    /// What the compiler has to know of it.
    const SHAPE: Shape = Shape::Plain;

    /// How the structure describes it.
    fn kind() -> Kind;

    /// Hands the stored form of `value` to `out`.
    ///
    /// # Errors
    /// When the value has no stored form, such as NaN.
    fn store<O: Output>(value: &Self::Value, out: O) -> Result<(), Misfit>;

    /// Hands the stored form of a condition's argument to `out`.
    ///
    /// # Errors
    /// As [`ColumnType::store`].
    fn store_arg<O: Output>(arg: Self::Arg<'_>, out: O) -> Result<(), Misfit>;

    /// Makes the Rust value of what is stored.
    ///
    /// # Errors
    /// When what is stored is not a value of this type.
    fn load(stored: ValueRef<'_>) -> Result<Self::Value, Misfit>;
}

/// What is the same for all column types that are stored as they are and compared by value.
macro_rules! by_value {
    ($rust:ty, $kind:ident) => {
        type Value = $rust;
        type Inner = $rust;
        type Arg<'a> = $rust;

        fn kind() -> Kind {
            Kind::$kind
        }

        #[inline]
        fn store_arg<O: Output>(arg: $rust, out: O) -> Result<(), Misfit> {
            Self::store(&arg, out)
        }
    };
}
use by_value;

/// A column type whose stored order is the order of its values, so that `at_least` and its like mean something.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` has no smaller and larger",
    note = "`at_least`, `at_most`, `more_than`, `less_than` and `between` are for numbers, text, dates, times and durations"
)]
pub trait Comparable: ColumnType {}

/// A column type whose value may be missing: an `Option`.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` is never missing",
    note = "`is_none` and `is_some` are for fields that are an `Option`"
)]
pub trait Optional: ColumnType {}

/// A column type that is text to its users.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` is not text",
    note = "`ignore_case`, `contains`, `starts_with`, `ends_with` and their like are for `String` and `Option<String>`"
)]
pub trait Textual: ColumnType {}

/// A column type whose values can be added up.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` cannot be added up",
    note = "`sum` and `average` are for numbers and durations"
)]
pub trait Summed: ColumnType {
    /// The column type of the sum.
    type Sum: ColumnType;
}

/// A value that does not fit its column, or a stored one that does not fit its type.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("{value} {reason}")]
pub struct Misfit {
    /// The value, as a reader would write it.
    pub value: String,
    /// Why it does not fit, as the rest of a sentence that begins with the value.
    pub reason: String,
    /// What to do about it, when there is something particular.
    pub advice: Option<String>,
    /// The position of the column among the record's, once known.
    pub column: Option<usize>,
}

impl Misfit {
    /// A misfit of `value`, for a `reason` that completes the sentence “*value* …”.
    pub fn new(value: impl fmt::Display, reason: impl Into<String>) -> Misfit {
        Misfit { value: shortened(&value.to_string()), reason: reason.into(), advice: None, column: None }
    }

    /// Says what to do about it.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<String>) -> Misfit {
        self.advice = Some(advice.into());
        self
    }

    /// Says which of the record's columns it is about.
    #[must_use]
    pub fn at(mut self, column: usize) -> Misfit {
        self.column.get_or_insert(column);
        self
    }

    /// What is stored is another kind of value than `expected`, such as `a date`.
    pub(crate) fn kind(stored: ValueRef<'_>, expected: &str) -> Misfit {
        if stored == ValueRef::Missing {
            return Misfit::new("nothing", format!("is there, where {expected} must be"));
        }
        let is = stored.kind_in_words();
        Misfit::new(crate::exchange::show::plain(stored), format!("is {is}, not {expected}"))
    }
}

/// The stored form of a condition's argument.
///
/// # Errors
/// As [`ColumnType::store_arg`].
pub fn stored_arg<C: ColumnType>(arg: C::Arg<'_>) -> Result<Value, Misfit> {
    let mut value = Value::Missing;
    C::store_arg(arg, &mut value)?;
    Ok(value)
}

/// Hands the stored form of a condition's argument to `work`, without making it a value of its own.
///
/// # Errors
/// As [`ColumnType::store_arg`]; `work` is not called then.
#[inline]
pub fn with_stored_arg<C: ColumnType, R>(arg: C::Arg<'_>, work: impl FnOnce(ValueRef<'_>) -> R) -> Result<R, Misfit> {
    let mut done = None;
    C::store_arg(arg, Lent { work, done: &mut done })?;
    done.ok_or_else(|| Misfit::new("the value", "has no stored form"))
}

/// Lends a value to what works with it.
struct Lent<'d, W, R> {
    work: W,
    done: &'d mut Option<R>,
}

impl<W: FnOnce(ValueRef<'_>) -> R, R> Output for Lent<'_, W, R> {
    #[inline]
    fn missing(self) {
        *self.done = Some((self.work)(ValueRef::Missing));
    }
    #[inline]
    fn integer(self, value: i64) {
        *self.done = Some((self.work)(ValueRef::Integer(value)));
    }
    #[inline]
    fn real(self, value: f64) {
        *self.done = Some((self.work)(ValueRef::Real(value)));
    }
    #[inline]
    fn text(self, value: &str) {
        *self.done = Some((self.work)(ValueRef::Text(value)));
    }
    #[inline]
    fn bytes(self, value: &[u8]) {
        *self.done = Some((self.work)(ValueRef::Bytes(value)));
    }
}

/// The stored form of a value.
///
/// # Errors
/// As [`ColumnType::store`].
pub fn stored_value<C: ColumnType>(value: &C::Value) -> Result<Value, Misfit> {
    let mut stored = Value::Missing;
    C::store(value, &mut stored)?;
    Ok(stored)
}

/// Keeps error messages to a line: the first 80 characters, and a sign that there is more.
fn shortened(text: &str) -> String {
    match text.char_indices().nth(80) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}
