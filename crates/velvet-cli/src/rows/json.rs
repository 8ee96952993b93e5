//! Rows as one JSON array of objects.
//!
//! Whole numbers and decimals are numbers, true and false are themselves where the file says that a column holds them,
//! JSON columns are nested, missing values are `null`, and bytes are `{"hex": "…"}`.

use super::Writer;
use crate::failure::Failure;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::value::RawValue;
use std::io::{self, BufWriter, Stdout, Write};
use velvet_drawer::inspect::{FoundColumn, Kind, ValueRef, show};

pub(super) struct JsonWriter {
    columns: Vec<FoundColumn>,
    out: BufWriter<Stdout>,
    rows: u64,
}

impl JsonWriter {
    pub(super) fn new(columns: &[FoundColumn]) -> JsonWriter {
        JsonWriter { columns: columns.to_vec(), out: BufWriter::new(io::stdout()), rows: 0 }
    }
}

impl Writer for JsonWriter {
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure> {
        self.out.write_all(if self.rows == 0 { b"[\n  " } else { b",\n  " })?;
        self.rows += 1;
        serde_json::to_writer(&mut self.out, &Row { columns: &self.columns, values }).map_err(io::Error::from)?;
        Ok(())
    }

    fn end(mut self: Box<Self>) -> Result<(), Failure> {
        self.out.write_all(if self.rows == 0 { b"[]\n" } else { b"\n]\n" })?;
        Ok(self.out.flush()?)
    }
}

/// An object whose members are in the order of the columns.
struct Row<'a> {
    columns: &'a [FoundColumn],
    values: &'a [ValueRef<'a>],
}

impl Serialize for Row<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.values.len()))?;
        for (column, value) in self.columns.iter().zip(self.values) {
            match nested(*value, column.kind.as_ref()) {
                Some(nested) => map.serialize_entry(&column.name, nested)?,
                None => map.serialize_entry(&column.name, &json(*value, column.kind.as_ref()))?,
            }
        }
        map.end()
    }
}

/// A value that is JSON already, as it stands in the file.
fn nested<'a>(value: ValueRef<'a>, kind: Option<&Kind>) -> Option<&'a RawValue> {
    match (value, kind) {
        (ValueRef::Text(text), Some(Kind::Json)) => serde_json::from_str(text).ok(),
        _ => None,
    }
}

/// A value, by what its column holds where that is known.
pub(crate) fn json(value: ValueRef<'_>, kind: Option<&Kind>) -> serde_json::Value {
    match (value, kind) {
        (ValueRef::Missing, _) => serde_json::Value::Null,
        (ValueRef::Integer(n @ (0 | 1)), Some(Kind::Bool)) => (n == 1).into(),
        (ValueRef::Integer(n), _) => n.into(),
        (ValueRef::Real(x), _) if x.is_infinite() => x.to_string().into(),
        (ValueRef::Real(x), _) => x.into(),
        (ValueRef::Text(text), _) => text.into(),
        (ValueRef::Bytes(bytes) | ValueRef::BrokenText(bytes), _) => serde_json::json!({ "hex": show::hex(bytes) }),
    }
}
