//! A place in a list, as text that outlives the process.

use crate::exchange::{of_json, to_json};
use crate::order::OrderBy;
use crate::value::Value;
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
    /// The place as text.
    pub fn to_text(&self, order: &OrderBy) -> String {
        let raw = |value: &Value| RawValue::from_string(to_json(value.as_ref(), None)).unwrap_or_default();
        let written = Written { order: name_of(order), key: self.key, values: self.values.iter().map(raw).collect() };
        // Numbers and texts always have a form.
        serde_json::to_string(&written).unwrap_or_default()
    }

    /// The place that a text stands for.
    ///
    /// # Errors
    /// When it is none, or one in a list with other orders; as the rest of a sentence that begins with the text.
    pub fn of_text(text: &str, order: &OrderBy) -> Result<ListPlace, String> {
        let written: Written = serde_json::from_str(text).map_err(|_| "is no place in a list")?;
        if written.order != name_of(order) {
            return Err("is a place in a list that is sorted otherwise".into());
        }
        let values = written.values.iter().map(|value| of_json(value.get(), None)).collect::<Result<_, _>>();
        Ok(ListPlace { values: values.map_err(|error| error.to_string())?, key: written.key })
    }
}

/// A short name of the orders of a list, the same on every machine.
fn name_of(order: &OrderBy) -> String {
    let mut sum = fnv::FnvHasher::default();
    sum.write(order.clone().write("").text.as_bytes());
    format!("{:016x}", sum.finish())
}
