//! A place in a list, as text that outlives the process.

use crate::exchange::{of_json, to_json};
use crate::query::fragment::Fragment;
use crate::query::order::OrderBy;
use crate::schema::structure::{ColumnDefinition, Structure};
use crate::value::Value;
use crate::value::name::quoted;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use std::hash::Hasher;

/// After which record a list is to go on: what the orders of the list are for it, and its row number.
#[derive(Clone, Debug, PartialEq)]
pub struct ListPlace {
    /// The value of each order.
    pub values: Vec<Value>,
    /// The row number.
    pub key: i64,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    /// Which orders these are the values of.
    order: String,
    key: i64,
    values: Vec<Box<RawValue>>,
}

impl ListPlace {
    /// The place as text, in a list of records of this structure.
    pub fn to_text(&self, order: &OrderBy, structure: &Structure) -> String {
        let raw = |value: &Value| RawValue::from_string(to_json(value.as_ref(), None)).unwrap_or_default();
        let written =
            Written { order: name_of(order, structure), key: self.key, values: self.values.iter().map(raw).collect() };
        // Numbers and texts always have a form.
        serde_json::to_string(&written).unwrap_or_default()
    }

    /// The place that a text stands for.
    ///
    /// # Errors
    /// When it is none, or one in a list with other orders, or whose columns have other types; as the rest of a sentence that begins with the text.
    pub fn of_text(text: &str, order: &OrderBy, structure: &Structure) -> Result<ListPlace, String> {
        let written: Written = serde_json::from_str(text).map_err(|_| "is no place in a list")?;
        if written.order != name_of(order, structure) {
            return Err(
                "is a place in a list that is sorted otherwise, or from before its columns had other types".into()
            );
        }
        let values = written.values.iter().map(|value| of_json(value.get(), None)).collect::<Result<Vec<_>, _>>();
        let values = values.map_err(|error| error.to_string())?;
        let columns: Vec<(String, &ColumnDefinition)> = columns(structure).collect();
        let is_of = |(term, value): (&Fragment, &Value)| {
            let column = columns.iter().find(|(name, _)| *name == term.text).map(|(_, column)| *column);
            column.is_none_or(|column| is_of_type(column, value))
        };
        if order.terms().count() != values.len() || !order.terms().zip(&values).all(is_of) {
            return Err("is no place in this list: it has other values than the list is sorted by".into());
        }
        Ok(ListPlace { values, key: written.key })
    }
}

/// The columns of a structure, as orders name them.
fn columns(structure: &Structure) -> impl Iterator<Item = (String, &ColumnDefinition)> {
    let named = |table: &str, column: &str| format!("{}.{}", quoted(table), quoted(column));
    structure.tables.iter().flat_map(move |t| t.columns.iter().map(move |c| (named(&t.name, &c.name), c)))
}

/// Whether a value can be one of a column.
fn is_of_type(column: &ColumnDefinition, value: &Value) -> bool {
    match (column.kind.storage(), value) {
        (_, Value::Missing) => column.optional,
        ("INTEGER", Value::Integer(_)) | ("REAL", Value::Real(_) | Value::Integer(_)) => true,
        ("TEXT", Value::Text(_)) | ("BLOB", Value::Bytes(_)) => true,
        _ => false,
    }
}

/// A short name of the orders of a list and of the types of the columns that they name, the same on every machine.
fn name_of(order: &OrderBy, structure: &Structure) -> String {
    let mut sum = fnv::FnvHasher::default();
    let text = order.clone().write("").text;
    sum.write(text.as_bytes());
    for (name, column) in columns(structure).filter(|(name, _)| text.contains(name.as_str())) {
        sum.write(name.as_bytes());
        sum.write(serde_json::to_string(&column.kind).unwrap_or_default().as_bytes());
    }
    format!("{:016x}", sum.finish())
}
