//! What a cell of the file can hold, without its Rust type.

use crate::hex::hex;

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
                format!("(CAST(x'{}' AS TEXT))", hex(text.as_bytes()))
            }
            Value::Text(text) => format!("'{}'", text.replace('\'', "''")),
            Value::Bytes(bytes) => format!("x'{}'", hex(bytes)),
        }
    }
}

macro_rules! value_ref_from {
    ($($rust:ty => |$value:ident| $make:expr;)*) => {$(
        impl<'a> From<$rust> for ValueRef<'a> {
            fn from($value: $rust) -> ValueRef<'a> {
                $make
            }
        }
    )*};
}

value_ref_from! {
    i64 => |number| ValueRef::Integer(number);
    u32 => |number| ValueRef::Integer(number.into());
    &'a str => |text| ValueRef::Text(text);
    &'a String => |text| ValueRef::Text(text);
    &'a Value => |value| value.as_ref();
}

impl<'a, T: Into<ValueRef<'a>>> From<Option<T>> for ValueRef<'a> {
    fn from(value: Option<T>) -> ValueRef<'a> {
        value.map_or(ValueRef::Missing, Into::into)
    }
}

impl ValueRef<'_> {
    /// What kind of value this is, in words: `text`, `a whole number` …
    pub(crate) fn kind_in_words(&self) -> &'static str {
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
