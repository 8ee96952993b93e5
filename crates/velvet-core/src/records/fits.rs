//! Whether a stored value is one of its column's, told from the structure alone.

use crate::column_type::{ColumnType, Misfit};
use crate::records::outside_file::OutsideFile;
use crate::schema::structure::{ColumnDefinition, Kind};
use crate::sealing::key_number;
use crate::value::ValueRef;

/// Sees that a value is one that a column can hold.
///
/// # Errors
/// Says why it is not.
pub fn fits(column: &ColumnDefinition, value: ValueRef<'_>) -> Result<(), Misfit> {
    if value == ValueRef::Missing {
        return if column.optional { Ok(()) } else { Err(Misfit::kind(value, &column.in_words())) };
    }
    match &column.kind {
        Kind::I8 => i8::load(value).map(drop),
        Kind::I16 => i16::load(value).map(drop),
        Kind::I32 => i32::load(value).map(drop),
        Kind::I64 => i64::load(value).map(drop),
        Kind::U8 => u8::load(value).map(drop),
        Kind::U16 => u16::load(value).map(drop),
        Kind::U32 => u32::load(value).map(drop),
        Kind::U64 => u64::load(value).map(drop),
        Kind::F32 => f32::load(value).map(drop),
        Kind::F64 => f64::load(value).map(drop),
        Kind::Bool => bool::load(value).map(drop),
        Kind::Text => String::load(value).map(drop),
        Kind::Bytes => Vec::<u8>::load(value).map(drop),
        Kind::Date => jiff::civil::Date::load(value).map(drop),
        Kind::Time => jiff::civil::Time::load(value).map(drop),
        Kind::DateTime => jiff::civil::DateTime::load(value).map(drop),
        Kind::Timestamp => jiff::Timestamp::load(value).map(drop),
        Kind::Duration => jiff::SignedDuration::load(value).map(drop),
        Kind::Json => serde_json::Value::load(value).map(drop),
        Kind::File => OutsideFile::load(value).map(drop),
        Kind::Uuid => uuid(value),
        Kind::Sealed { .. } => match value {
            ValueRef::Bytes(bytes) if key_number(bytes).is_some() => Ok(()),
            other => Err(Misfit::kind(other, "a sealed value")),
        },
        Kind::Link { .. } => i64::load(value).map(drop),
        Kind::Choice { values, fallback } => match value {
            ValueRef::Text(name) if *fallback || values.iter().any(|v| v == name) => Ok(()),
            ValueRef::Text(name) => Err(Misfit::new(
                format!("{name:?}"),
                format!("is none of the declared choices ({})", values.join(", ")),
            )),
            other => Err(Misfit::kind(other, "the name of a choice")),
        },
    }
}

#[cfg(feature = "uuid")]
fn uuid(value: ValueRef<'_>) -> Result<(), Misfit> {
    uuid::Uuid::load(value).map(drop)
}

#[cfg(not(feature = "uuid"))]
fn uuid(value: ValueRef<'_>) -> Result<(), Misfit> {
    String::load(value).map(drop)
}
