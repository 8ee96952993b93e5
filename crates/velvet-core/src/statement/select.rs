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

    /// The statement that reads some columns of the selected records, and the values to bind. With `distinct`, each
    /// combination of values comes once; its order is then that of the sorting alone.
    pub fn columns<T: Record>(mut self, columns: &[String], distinct: bool) -> (String, Vec<Value>) {
        let mut text = String::from(if distinct { "SELECT DISTINCT " } else { "SELECT " });
        text.push_str(&columns.join(", "));
        text.push_str(" FROM ");
        push_quoted(&mut text, T::TABLE);
        self.push_where(&mut text);
        let order = if distinct { self.sorting.text_alone().to_owned() } else { self.sorting.text(&key_of::<T>()) };
        if !order.is_empty() {
            text.push_str(" ORDER BY ");
            text.push_str(&order);
        }
        self.push_range(&mut text);
        (text, self.values)
    }

    /// The statement that makes one value of a column of all selected records, such as `sum`, and the values to bind.
    pub fn folded<T: Record>(mut self, function: &str, column: &str) -> (String, Vec<Value>) {
        let (open, close) = match function {
            // The sum of nothing is nothing, which has the same form as a sum of whole numbers.
            "sum" => ("coalesce(sum(", "), 0)"),
            _ => ("(", ")"),
        };
        let function = if function == "sum" { "" } else { function };
        let mut text = format!("SELECT {function}{open}v{close} FROM (SELECT {column} AS v FROM ");
        push_quoted(&mut text, T::TABLE);
        self.push_where(&mut text);
        if self.limit.is_some() || self.offset > 0 {
            text.push_str(" ORDER BY ");
            text.push_str(&self.sorting.text(&key_of::<T>()));
        }
        self.push_range(&mut text);
        text.push(')');
        (text, self.values)
    }

    /// The statement that counts the selected records by the values of some columns, and the values to bind.
    pub fn counted_by<T: Record>(mut self, columns: &[String]) -> (String, Vec<Value>) {
        let list = columns.join(", ");
        let mut text = format!("SELECT {list}, count(*) FROM ");
        push_quoted(&mut text, T::TABLE);
        self.push_where(&mut text);
        text.push_str(&format!(" GROUP BY {list} ORDER BY {list}"));
        self.push_range(&mut text);
        (text, self.values)
    }

    /// The statement that removes the selected records, and the values to bind.
    pub fn remove<T: Record>(self) -> (String, Vec<Value>) {
        let mut text = String::from("DELETE FROM ");
        push_quoted(&mut text, T::TABLE);
        self.write_where::<T>(text)
    }

    /// The statement that sets `columns` in the selected records, and the values to bind: those of the columns first.
    pub fn update<T: Record>(mut self, columns: &[&str], mut values: Vec<Value>) -> (String, Vec<Value>) {
        let mut text = String::from("UPDATE ");
        push_quoted(&mut text, T::TABLE);
        let mut word = " SET ";
        for column in columns {
            text.push_str(word);
            push_quoted(&mut text, column);
            text.push_str(" = ?");
            word = ", ";
        }
        values.append(&mut self.values);
        self.values = values;
        self.write_where::<T>(text)
    }

    /// Ends a statement that writes: with the conditions, or with the keys of a range.
    fn write_where<T: Record>(mut self, mut text: String) -> (String, Vec<Value>) {
        if self.limit.is_none() && self.offset == 0 {
            self.push_where(&mut text);
            return (text, self.values);
        }
        let key = key_of::<T>();
        text.push_str(&format!(" WHERE {key} IN (SELECT {key} FROM "));
        push_quoted(&mut text, T::TABLE);
        self.push_where(&mut text);
        text.push_str(" ORDER BY ");
        text.push_str(&self.sorting.text(&key));
        self.push_range(&mut text);
        text.push(')');
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
