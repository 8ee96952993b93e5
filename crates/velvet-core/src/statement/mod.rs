//! The text of statements. Names are quoted, values are always bound.

mod create;
pub mod linked;
mod search;
mod select;
mod shared;
mod trail;

pub use create::{column_definition, create, create_index, create_table};
pub use search::{
    SEARCH_INDEX, UNINDEXED, create_search, drop_search, forget_notes, index_row, indexed_rows, noted_rows,
    remake_search, search_index,
};
pub use select::Select;
pub use shared::{
    CHANGES, create_shared, drop_shared, fill_shared, forget_shared, moment_upon, rename_shared, told_by_key_of,
};
pub use trail::{TRAIL, Trail, WRITES, WRITING, create_trail, create_trail_tables};

use crate::name::{KEY_COLUMN, push_quoted, quoted};

/// The moment, with the digits that all moments in a file have.
const NOW: &str = "strftime('%Y-%m-%dT%H:%M:%f', 'now') || '000000Z'";

/// A text as a literal.
fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// The statements that read and write one type of record, made once.
#[derive(Debug)]
pub struct Statements {
    /// Inserts one record; binds all columns in order.
    pub insert: String,
    /// Reads the record with a key: the key, then all columns in order.
    pub get: String,
    /// Reads all records, to be followed by a condition.
    pub select: String,
    /// Reads the record with its own key, where the type has one.
    pub get_by: Option<String>,
    /// Removes the record with a key.
    pub remove: String,
    /// Removes all records.
    pub remove_all: String,
}

impl Statements {
    /// The statements of a table with these columns, the one at `natural_key` being a key of the records' own.
    pub fn new(table: &str, columns: &[&str], natural_key: Option<usize>) -> Statements {
        let (name, key) = (quoted(table), quoted(KEY_COLUMN));
        let list = columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
        let marks = (1..=columns.len()).map(|n| format!("?{n}")).collect::<Vec<_>>().join(", ");
        let select = format!("SELECT {key}, {list} FROM {name}");
        Statements {
            insert: format!("INSERT INTO {name} ({list}) VALUES ({marks})"),
            get: format!("{select} WHERE {key} = ?1"),
            get_by: natural_key.map(|at| format!("{select} WHERE {} = ?1", quoted(columns[at]))),
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
