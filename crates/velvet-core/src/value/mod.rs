//! What a cell of the file can hold, without its Rust type.

pub mod hex;
pub mod name;

use crate::value::hex::write_hex;
use std::hash::Hasher;
use std::io::{self, Write};

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
    /// How many bytes it takes, about.
    pub fn bytes(&self) -> u64 {
        match self {
            Value::Text(text) => text.len() as u64,
            Value::Bytes(bytes) => bytes.len() as u64,
            Value::Missing | Value::Integer(_) | Value::Real(_) => 8,
        }
    }

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

    /// The value of a literal, as a default is written: text, a number, or else nothing.
    pub fn of_literal(text: &str) -> Value {
        let text = text.trim();
        if let Some(inner) = text.strip_prefix('\'').and_then(|t| t.strip_suffix('\'')) {
            return Value::Text(inner.replace("''", "'"));
        }
        if let Ok(number) = text.parse::<i64>() {
            return Value::Integer(number);
        }
        text.parse::<f64>().map_or(Value::Missing, Value::Real)
    }

    /// The value as a literal of a statement.
    pub fn literal(&self) -> String {
        let mut out = Vec::new();
        // Memory takes everything.
        let _ = self.as_ref().write_literal(&mut out);
        String::from_utf8(out).unwrap_or_default()
    }
}

impl ValueRef<'_> {
    /// Adds its kind and what it is to a hash.
    pub fn add_to(self, hash: &mut impl Hasher) {
        let mut of = |kind: u8, bytes: &[u8]| {
            hash.write_u8(kind);
            hash.write_usize(bytes.len());
            hash.write(bytes);
        };
        match self {
            ValueRef::Missing => of(0, &[]),
            ValueRef::Integer(number) => of(1, &number.to_ne_bytes()),
            ValueRef::Real(number) => of(2, &number.to_bits().to_ne_bytes()),
            ValueRef::Text(text) => of(3, text.as_bytes()),
            ValueRef::BrokenText(bytes) => of(4, bytes),
            ValueRef::Bytes(bytes) => of(5, bytes),
        }
    }

    /// Writes the value as a literal of a statement, without holding it once more. Text that is not UTF-8 is written as bytes.
    ///
    /// # Errors
    /// When `out` cannot be written.
    pub fn write_literal(self, out: &mut dyn Write) -> io::Result<()> {
        let digits = |out: &mut dyn Write, bytes: &[u8], begin: &str, end: &str| {
            out.write_all(begin.as_bytes())?;
            write_hex(bytes, out)?;
            out.write_all(end.as_bytes())
        };
        match self {
            ValueRef::Missing => out.write_all(b"NULL"),
            // The digits of the least are above the greatest, and would be read as a decimal number.
            ValueRef::Integer(i64::MIN) => out.write_all(b"(-9223372036854775807 - 1)"),
            ValueRef::Integer(n) => write!(out, "{n}"),
            ValueRef::Real(x) if x.is_infinite() => out.write_all(if x > 0.0 { b"9e999" } else { b"-9e999" }),
            ValueRef::Real(x) => write!(out, "{x:?}"),
            // A literal in quotes ends where a character of no meaning stands.
            ValueRef::Text(text) if text.contains('\0') => digits(out, text.as_bytes(), "(CAST(x'", "' AS TEXT))"),
            ValueRef::Text(text) => {
                out.write_all(b"'")?;
                for (at, part) in text.split('\'').enumerate() {
                    out.write_all(if at > 0 { b"''" } else { b"" })?;
                    out.write_all(part.as_bytes())?;
                }
                out.write_all(b"'")
            }
            ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => digits(out, bytes, "x'", "'"),
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
