//! Values in files that people and other programs exchange: JSON Lines and comma-separated values, without loss; and statements in a
//! text of many.

pub mod compare;
pub mod expansion;
pub mod show;
pub mod sql_text;

use crate::schema::structure::Kind;
use crate::value::hex::{from_hex, hex, write_hex};
use crate::value::{Value, ValueRef};
use serde::{Serialize, Serializer};
use serde_json::value::RawValue;
use serde_json::{Value as Json, json};
use std::io::{self, Write};

/// The first line of an object with a list of rows, one a line. No row in a line of its own can begin so.
pub const ROWS_BEGIN: &str = "{\"rows\":[";

/// A value as JSON. What JSON has no form for is an object that says what it is: `{"bytes": "00ff"}`, `{"real": "inf"}`.
///
/// In a column that holds true and false they are themselves. In one that holds nested values, lists and objects stand as they are stored, and
/// all else as text that is JSON: so nothing is taken for a missing value that is none, and no digit is lost.
///
/// ```
/// use velvet_core::exchange::{of_json, to_json};
/// use velvet_core::schema::structure::Kind;
/// use velvet_core::{Value, ValueRef};
/// assert_eq!(to_json(ValueRef::Text("[1.50]"), Some(&Kind::Json)), "[1.50]");
/// assert_eq!(of_json("[1.50]", Some(&Kind::Json)), Ok(Value::Text("[1.50]".into())));
/// assert_eq!(to_json(ValueRef::Text("null"), Some(&Kind::Json)), r#""null""#);
/// assert_eq!(to_json(ValueRef::Text("[1.50]"), None), r#""[1.50]""#);
/// ```
pub fn to_json(value: ValueRef<'_>, kind: Option<&Kind>) -> String {
    let mut out = Vec::new();
    // Memory takes everything.
    let _ = write_json(value, kind, &mut out);
    String::from_utf8(out).unwrap_or_default()
}

/// Writes a value in the form that [`to_json`] gives it, without holding it once more.
///
/// # Errors
/// When `out` cannot be written.
pub fn write_json(value: ValueRef<'_>, kind: Option<&Kind>, out: &mut dyn Write) -> io::Result<()> {
    match (value, kind) {
        (ValueRef::Missing, _) => out.write_all(b"null"),
        (ValueRef::Integer(n @ (0 | 1)), Some(Kind::Bool)) => write!(out, "{}", n == 1),
        (ValueRef::Integer(n), _) => write!(out, "{n}"),
        (ValueRef::Real(x), _) if x.is_finite() => write!(out, "{}", Json::from(x)),
        (ValueRef::Real(x), _) => write!(out, "{}", json!({ "real": if x > 0.0 { "inf" } else { "-inf" } })),
        (ValueRef::Text(text), Some(Kind::Json)) if is_nested(text) => out.write_all(text.as_bytes()),
        (ValueRef::Text(text), _) => Ok(serde_json::to_writer(out, text)?),
        (ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes), kind) => {
            let word = if matches!(kind, Some(Kind::Sealed { .. })) { "sealed" } else { "bytes" };
            write!(out, "{{\"{word}\":\"")?;
            write_hex(bytes, out)?;
            out.write_all(b"\"}")
        }
    }
}

/// A value in the form that [`to_json`] gives it, to be serialized.
pub struct Exported<'a>(pub ValueRef<'a>, pub Option<&'a Kind>);

impl Serialize for Exported<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        // What is exported is always JSON.
        RawValue::from_string(to_json(self.0, self.1)).unwrap_or_default().serialize(serializer)
    }
}

impl Serialize for ValueRef<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        Exported(*self, None).serialize(serializer)
    }
}

impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.as_ref().serialize(serializer)
    }
}

/// Whether a text is a list or object in JSON, on one line.
fn is_nested(text: &str) -> bool {
    text.starts_with(['{', '[']) && !text.contains(['\n', '\r']) && serde_json::from_str::<&RawValue>(text).is_ok()
}

/// Why a text stands for no value of a column.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum NotAValue {
    /// It cannot be read as JSON, for the reason given.
    #[error("it is no JSON: {0}")]
    NoJson(String),
    /// It is JSON of which no column holds the like.
    #[error("{0} is no value of a column")]
    Unknown(String),
    /// It is a whole number above the largest of the file.
    #[error("{0} is above the largest whole number of the file")]
    TooLarge(String),
    /// What stands here for bytes is not written in hexadecimal digits.
    #[error("{0} are not hexadecimal digits")]
    NotHexadecimal(&'static str),
}

/// The value that JSON stands for, in a column that holds this, where that is known.
///
/// # Errors
/// When it stands for none.
pub fn of_json(json: &str, kind: Option<&Kind>) -> Result<Value, NotAValue> {
    if is_nested(json) && kind == Some(&Kind::Json) {
        return Ok(Value::Text(json.to_owned()));
    }
    let json: Json = serde_json::from_str(json).map_err(|e| NotAValue::NoJson(e.to_string()))?;
    Ok(match &json {
        Json::Null => Value::Missing,
        Json::Bool(yes) => Value::Integer((*yes).into()),
        Json::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => Value::Integer(whole),
            (None, Some(decimal)) if !number.is_u64() => Value::Real(decimal),
            _ => return Err(NotAValue::TooLarge(number.to_string())),
        },
        Json::String(text) => Value::Text(text.clone()),
        Json::Object(object) if object.len() == 1 => match object.iter().next() {
            Some((word, Json::String(hex))) if word == "bytes" || word == "sealed" => {
                Value::Bytes(from_hex(hex).ok_or(NotAValue::NotHexadecimal(if word == "bytes" {
                    "`bytes`"
                } else {
                    "`sealed`"
                }))?)
            }
            Some((word, Json::String(sign))) if word == "real" && (sign == "inf" || sign == "-inf") => {
                Value::Real(if sign == "inf" { f64::INFINITY } else { f64::NEG_INFINITY })
            }
            _ => return Err(NotAValue::Unknown(json.to_string())),
        },
        _ => return Err(NotAValue::Unknown(json.to_string())),
    })
}

/// Values as a list in JSON, which a statement binds as one value; bytes as their digits.
pub fn value_list(values: &[Value]) -> String {
    let list: Vec<serde_json::Value> = values
        .iter()
        .map(|value| match value {
            Value::Missing => serde_json::Value::Null,
            Value::Integer(n) => (*n).into(),
            Value::Real(x) => (*x).into(),
            Value::Text(text) => text.as_str().into(),
            Value::Bytes(bytes) => crate::value::hex::hex(bytes).into(),
        })
        .collect();
    serde_json::Value::Array(list).to_string()
}

/// Keys as a list in JSON, which a statement binds as one value; nothing where there is no key.
pub fn key_list(keys: impl IntoIterator<Item = Option<i64>>) -> String {
    use std::fmt::Write;
    let mut list = String::from("[");
    for key in keys {
        let comma = if list.len() > 1 { "," } else { "" };
        // Writing to a string does not fail.
        let _ = match key {
            Some(key) => write!(list, "{comma}{key}"),
            None => write!(list, "{comma}null"),
        };
    }
    list.push(']');
    list
}

/// A value as a field. In a column that holds text, text stands as it is; in others, text that looks like a number has a backslash before
/// it. A missing value is `\N`, bytes are `\x00ff`, and text that begins with a backslash has another before it.
///
/// ```
/// use velvet_core::exchange::{of_field, to_field};
/// use velvet_core::{Value, ValueRef};
/// assert_eq!(to_field(ValueRef::Text("47"), false), r"\47");
/// assert_eq!(of_field(r"\47", false).unwrap(), Value::Text("47".into()));
/// assert_eq!(of_field("47", false).unwrap(), Value::Integer(47));
/// assert_eq!(of_field("47", true).unwrap(), Value::Text("47".into()));
/// ```
pub fn to_field(value: ValueRef<'_>, holds_text: bool) -> String {
    match value {
        ValueRef::Missing => r"\N".to_owned(),
        ValueRef::Integer(n) => n.to_string(),
        ValueRef::Real(x) => format!("{x:?}"),
        ValueRef::Text(text) if text.starts_with('\\') || (!holds_text && number(text).is_some()) => {
            format!("\\{text}")
        }
        ValueRef::Text(text) => text.to_owned(),
        ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => format!("\\x{}", hex(bytes)),
    }
}

/// The value that a field stands for, in a column that holds text or in another.
///
/// # Errors
/// When it stands for none.
pub fn of_field(field: &str, holds_text: bool) -> Result<Value, NotAValue> {
    Ok(match field.strip_prefix('\\') {
        Some("N") => Value::Missing,
        Some(rest) => match rest.strip_prefix('x') {
            Some(hex) => Value::Bytes(from_hex(hex).ok_or(NotAValue::NotHexadecimal(r"the characters after `\x`"))?),
            None => Value::Text(rest.to_owned()),
        },
        None if holds_text => Value::Text(field.to_owned()),
        None => number(field).unwrap_or_else(|| Value::Text(field.to_owned())),
    })
}

/// The number that a text stands for, as numbers are written in fields.
fn number(text: &str) -> Option<Value> {
    if let Ok(whole) = text.parse::<i64>() {
        return Some(Value::Integer(whole));
    }
    let is_number = text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.' | 'i'));
    text.parse::<f64>().ok().filter(|x| is_number && !x.is_nan()).map(Value::Real)
}
