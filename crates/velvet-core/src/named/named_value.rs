//! Records that are a name and a value.

use crate::column_type::{ColumnType, Misfit};
use crate::records::record::{Keyed, Source};
use crate::value::name::{KEY_COLUMN, quoted};

/// A record that is a name and a value: a struct with `#[record(named)]` and the fields `name` and `value`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no set of named values",
    note = "write `#[record(named)]` on a struct with the fields `name` and `value`"
)]
pub trait NamedValue: Keyed {
    /// The column type of the values.
    type Value: ColumnType;
    /// The position of their column.
    const VALUE_POSITION: usize;

    /// The record of a name and a value.
    fn named(name: <Self::OwnKey as ColumnType>::Value, value: <Self::Value as ColumnType>::Value) -> Self;

    /// Its value.
    fn into_value(self) -> <Self::Value as ColumnType>::Value;

    /// Its value, to be changed.
    fn value_mut(&mut self) -> &mut <Self::Value as ColumnType>::Value;

    /// Takes a value alone from `source`, which has it first.
    ///
    /// # Errors
    /// When what is stored is not a value of this type.
    fn take_value<S: Source>(source: &mut S) -> Result<<Self::Value as ColumnType>::Value, Misfit>;

    /// The statements that read and write by name.
    fn named_statements() -> &'static NamedStatements;
}

/// The statements that read and write named values by their names, made once.
#[derive(Debug)]
pub struct NamedStatements {
    /// Reads the value with a name.
    pub get: String,
    /// Reads the values with the names in a list: the place of the name in it, then the value.
    pub get_all: String,
    /// Reads all names.
    pub names: String,
    /// Gives the value with a name a new one, unless it is the same; binds the value, then the name.
    pub set: String,
    /// Inserts a value under a name; binds the value, then the name.
    pub insert: String,
    /// Removes the value with a name.
    pub remove: String,
    /// The last number that is a name, or was that of a row, so that none is given twice.
    pub last_number: String,
    /// Inserts a value under a number that is the row's too; binds the number, then the value.
    pub add: String,
}

impl NamedStatements {
    /// The statements of a set of named values.
    pub fn of<T: NamedValue>() -> NamedStatements {
        let column = |at: usize| quoted(T::COLUMNS[at]);
        let (layout, at) = (T::LAYOUT, T::VALUE_POSITION);
        let (of, key, name, value) = (quoted(T::TABLE), quoted(KEY_COLUMN), column(T::OWN_KEY_POSITION), column(at));
        let literal = T::TABLE.replace('\'', "''");
        let read = layout.read(at);
        NamedStatements {
            get: format!("SELECT {} FROM {of} WHERE {name} = ?1", layout.read_alone(at)),
            get_all: format!(
                "SELECT velvet_list.key, {read} FROM json_each(?1) AS velvet_list CROSS JOIN {of} ON {of}.{name} = velvet_list.value"
            ),
            names: format!("SELECT {name} FROM {of}"),
            set: format!(
                "UPDATE {of} SET {value} = {} WHERE {name} = ?2 AND {read} IS NOT ?1 COLLATE BINARY",
                layout.written(at, "?1", &layout.key(), |_| name.clone())
            ),
            insert: layout.insert(&format!("{value}, {name}"), |row| {
                format!("{}, ?2", layout.written(at, "?1", row, |_| "?2".into()))
            }),
            remove: format!("DELETE FROM {of} WHERE {name} = ?1"),
            last_number: format!(
                "SELECT max(coalesce((SELECT seq FROM sqlite_sequence WHERE name = '{literal}'), 0), coalesce((SELECT max({name}) FROM {of}), 0))"
            ),
            add: format!(
                "INSERT INTO {of} ({key}, {name}, {value}) VALUES (?1, ?1, {})",
                layout.written(at, "?2", "?1", |_| "?1".into())
            ),
        }
    }
}
