//! The statement of a selection.

use crate::name::{KEY_COLUMN, push_quoted};
use crate::order::Sorting;
use crate::record::Record;
use crate::value::Value;

/// The parts of a selection of records.
#[derive(Debug, Default)]
pub struct Select {
    conditions: Vec<String>,
    values: Vec<Value>,
    /// The order of the records.
    pub sorting: Sorting,
    /// How many records at most.
    pub limit: Option<u64>,
    /// How many records to leave out at the start.
    pub offset: u64,
}

impl Select {
    /// Adds a condition that the records must satisfy too, with its values.
    pub fn and(&mut self, text: String, values: Vec<Value>) {
        self.conditions.push(text);
        self.values.extend(values);
    }

    /// The statement that reads the selected records, and the values to bind.
    pub fn rows<T: Record>(mut self) -> (String, Vec<Value>) {
        let mut text = T::statements().select.clone();
        self.push_where(&mut text);
        text.push_str(" ORDER BY ");
        text.push_str(&self.sorting.text(&key_of::<T>()));
        self.push_range(&mut text);
        (text, self.values)
    }

    /// The statement that counts the selected records, and the values to bind.
    pub fn count<T: Record>(mut self) -> (String, Vec<Value>) {
        let mut text = String::from("SELECT count(*) FROM ");
        let ranged = self.limit.is_some() || self.offset > 0;
        text.push_str(if ranged { "(SELECT 1 FROM " } else { "" });
        push_quoted(&mut text, T::TABLE);
        self.push_where(&mut text);
        self.push_range(&mut text);
        text.push_str(if ranged { ")" } else { "" });
        (text, self.values)
    }

    fn push_where(&self, text: &mut String) {
        let mut word = " WHERE ";
        for condition in &self.conditions {
            text.push_str(word);
            text.push_str(condition);
            word = " AND ";
        }
    }

    /// The range is bound, so that all pages share one statement.
    fn push_range(&mut self, text: &mut String) {
        if self.limit.is_none() && self.offset == 0 {
            return;
        }
        let number = |n: u64| Value::Integer(i64::try_from(n).unwrap_or(i64::MAX));
        text.push_str(" LIMIT ? OFFSET ?");
        self.values.push(self.limit.map_or(Value::Integer(-1), number));
        self.values.push(number(self.offset));
    }
}

fn key_of<T: Record>() -> String {
    let mut text = String::with_capacity(T::TABLE.len() + 8);
    push_quoted(&mut text, T::TABLE);
    text.push('.');
    push_quoted(&mut text, KEY_COLUMN);
    text
}
