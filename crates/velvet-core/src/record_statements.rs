//! The statements that read and write one type of record.

use crate::name::{KEY_COLUMN, push_quoted, quoted};

/// The statements that read and write one type of record, made once.
#[derive(Debug)]
pub struct RecordStatements {
    /// Inserts one record; binds all columns in order.
    pub insert: String,
    /// Reads the record with a key: the key, then all columns in order.
    pub get: String,
    /// Reads all records, to be followed by a condition.
    pub select: String,
    /// Reads the record with its own key, where the type has one.
    pub get_by_own_key: Option<String>,
    /// Removes the record with a key.
    pub remove: String,
    /// Removes all records.
    pub remove_all: String,
}

impl RecordStatements {
    /// The statements of a table with these columns, the one at `own_key` being the records' own key.
    pub fn new(table: &str, columns: &[&str], own_key: Option<usize>) -> RecordStatements {
        let (name, key) = (quoted(table), quoted(KEY_COLUMN));
        let list = columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
        let marks = (1..=columns.len()).map(|n| format!("?{n}")).collect::<Vec<_>>().join(", ");
        let select = format!("SELECT {key}, {list} FROM {name}");
        RecordStatements {
            insert: format!("INSERT INTO {name} ({list}) VALUES ({marks})"),
            get: format!("{select} WHERE {key} = ?1"),
            get_by_own_key: own_key.map(|at| format!("{select} WHERE {} = ?1", quoted(columns[at]))),
            select,
            remove: format!("DELETE FROM {name} WHERE {key} = ?1"),
            remove_all: format!("DELETE FROM {name}"),
        }
    }
}

/// The statement that writes only the columns at `positions` of the record with a key. Binds those columns in the order
/// of `positions`, then the key.
pub fn update(table: &str, columns: &[&str], positions: impl Iterator<Item = usize>) -> String {
    let mut text = String::with_capacity(128);
    text.push_str("UPDATE ");
    push_quoted(&mut text, table);
    let mut separator = " SET ";
    for position in positions {
        text.push_str(separator);
        push_quoted(&mut text, columns[position]);
        text.push_str(" = ?");
        separator = ", ";
    }
    text.push_str(" WHERE ");
    push_quoted(&mut text, KEY_COLUMN);
    text.push_str(" = ?");
    text
}
