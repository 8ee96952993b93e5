//! What a cell of the file can hold, without its Rust type.

use crate::column_type::Output;

/// One stored value, owned.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Nothing is stored: the `None` of an optional column.
    Missing,
    /// A whole number.
    Integer(i64),
    /// A decimal number.
    Real(f64),
    /// Text.
    Text(String),
    /// Bytes.
    Bytes(Vec<u8>),
}

/// One stored value, borrowed from the row or the argument it stands in.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ValueRef<'a> {
    /// Nothing is stored.
    Missing,
    /// A whole number.
    Integer(i64),
    /// A decimal number.
    Real(f64),
    /// Text.
    Text(&'a str),
    /// Bytes that the file calls text but that are not UTF-8.
    BrokenText(&'a [u8]),
    /// Bytes.
    Bytes(&'a [u8]),
}

impl Value {
    /// The same value, borrowed.
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Value::Missing => ValueRef::Missing,
            Value::Integer(n) => ValueRef::Integer(*n),
            Value::Real(x) => ValueRef::Real(*x),
            Value::Text(text) => ValueRef::Text(text),
            Value::Bytes(bytes) => ValueRef::Bytes(bytes),
        }
    }

    /// The value as a literal of a statement.
    pub fn literal(&self) -> String {
        match self {
            Value::Missing => "NULL".into(),
            // The digits of the least are above the greatest, and would be read as a decimal number.
            Value::Integer(i64::MIN) => "(-9223372036854775807 - 1)".into(),
            Value::Integer(n) => n.to_string(),
            Value::Real(x) if x.is_infinite() => if *x > 0.0 { "9e999" } else { "-9e999" }.into(),
            Value::Real(x) => format!("{x:?}"),
            // A literal in quotes ends where a character of no meaning stands.
            Value::Text(text) if text.contains('\0') => {
                format!("(CAST(x'{}' AS TEXT))", crate::show::hex(text.as_bytes()))
            }
            Value::Text(text) => format!("'{}'", text.replace('\'', "''")),
            Value::Bytes(bytes) => format!("x'{}'", crate::show::hex(bytes)),
        }
    }
}

impl ValueRef<'_> {
    /// What kind of value this is, in words: `text`, `a whole number` …
    pub fn kind_in_words(&self) -> &'static str {
        match self {
            ValueRef::Missing => "nothing",
            ValueRef::Integer(_) => "a whole number",
            ValueRef::Real(_) => "a decimal number",
            ValueRef::Text(_) => "text",
            ValueRef::BrokenText(_) => "text that is not UTF-8",
            ValueRef::Bytes(_) => "bytes",
        }
    }

    /// The same value, owned. Text that is not UTF-8 becomes bytes.
    pub fn to_value(self) -> Value {
        match self {
            ValueRef::Missing => Value::Missing,
            ValueRef::Integer(n) => Value::Integer(n),
            ValueRef::Real(x) => Value::Real(x),
            ValueRef::Text(text) => Value::Text(text.to_owned()),
            ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => Value::Bytes(bytes.to_vec()),
        }
    }
}

/// Keeps the value that a [`crate::ColumnType`] hands over.
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

macro_rules! value_from {
    ($($rust:ty => |$value:ident| $make:expr;)*) => {$(
        impl From<$rust> for Value {
            fn from($value: $rust) -> Value {
                $make
            }
        }
    )*};
}

value_from! {
    i64 => |number| Value::Integer(number);
    i32 => |number| Value::Integer(number.into());
    u32 => |number| Value::Integer(number.into());
    bool => |yes| Value::Integer(yes.into());
    f64 => |number| Value::Real(number);
    &str => |text| Value::Text(text.to_owned());
    String => |text| Value::Text(text);
    Vec<u8> => |bytes| Value::Bytes(bytes);
}

impl<T: Into<Value>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Value {
        value.map_or(Value::Missing, Into::into)
    }
}
