//! The statements that read and write one type of record.

use crate::sealing::{PlaceText, sealing, unsealing};
use crate::value::name::{KEY_COLUMN, push_quoted, quoted};
use std::borrow::Cow;

/// What the statements of a type of record have to know of its table.
#[derive(Clone, Copy, Debug)]
pub struct Layout {
    /// Its name.
    pub table: &'static str,
    /// Its columns, without that of row numbers.
    pub columns: &'static [&'static str],
    /// The columns whose values are sealed, by their positions, each with its label.
    pub sealed: &'static [(usize, &'static str)],
    /// The position of the column that a sealed value is bound to, where the records are named values.
    pub sealed_name: Option<usize>,
}

impl Layout {
    /// The row number, as an expression.
    pub fn key(&self) -> String {
        format!("{}.{}", quoted(self.table), quoted(KEY_COLUMN))
    }

    /// How the column at a position is read: as it stands, or what is sealed in it.
    pub fn read(&self, at: usize) -> String {
        let own = self.column(at);
        match self.label(at) {
            Some(label) => unsealing(&own, label, &self.place()),
            None => own,
        }
    }

    fn column(&self, at: usize) -> String {
        format!("{}.{}", quoted(self.table), quoted(self.columns[at]))
    }

    /// The place of what is sealed in a row.
    pub(crate) fn place(&self) -> PlaceText {
        PlaceText { row: self.key(), name: self.sealed_name.map(|at| self.column(at)) }
    }

    /// The row number and all columns as they are read, with commas in between.
    pub fn read_all(&self) -> String {
        let mut all = self.key();
        (0..self.columns.len()).for_each(|at| all.extend([", ", &self.read(at)]));
        all
    }

    /// As [`Layout::read_all`], in a statement that reads no other table: shorter, because it is looked up by its text each time.
    fn read_all_alone(&self) -> String {
        let mut all = quoted(KEY_COLUMN);
        (0..self.columns.len()).for_each(|at| all.extend([", ", &self.read_alone(at)]));
        all
    }

    /// As [`Layout::read`], in such a statement.
    pub(crate) fn read_alone(&self, at: usize) -> String {
        let own = quoted(self.columns[at]);
        match self.label(at) {
            Some(label) => unsealing(&own, label, &self.place_alone()),
            None => own,
        }
    }

    /// As [`Layout::place`], in such a statement.
    fn place_alone(&self) -> PlaceText {
        PlaceText { row: quoted(KEY_COLUMN), name: self.sealed_name.map(|at| quoted(self.columns[at])) }
    }

    /// What is written to the column at a position: a value, or that sealed for a row, and for a name where it has one.
    pub(crate) fn written(&self, at: usize, value: &str, row: &str, name: impl FnOnce(usize) -> String) -> String {
        let place = || PlaceText { row: row.to_owned(), name: self.sealed_name.map(name) };
        self.label(at).map_or_else(|| value.to_owned(), |label| sealing(value, label, &place()))
    }

    /// The value of a record that gets another name, and that value sealed for the name; `value` is what it gets itself, if it does.
    pub(crate) fn sealed_again(&self, name: &str, value: Option<&str>) -> Option<(&'static str, String)> {
        let (at, label) = self.sealed.first().filter(|_| self.sealed_name.is_some())?;
        let column = quoted(self.columns[*at]);
        let opened = unsealing(value.unwrap_or(&column), label, &self.place_alone());
        let sealed = sealing(&opened, label, &PlaceText { row: quoted(KEY_COLUMN), name: Some(name.to_owned()) });
        Some((self.columns[*at], sealed))
    }

    /// The statement that inserts values into columns by their names. What is sealed is bound to its row, so the number of that is known before
    /// there is one.
    pub fn insert(&self, columns: &str, values: impl FnOnce(&str) -> String) -> String {
        let name = quoted(self.table);
        if self.sealed.is_empty() {
            return format!("INSERT INTO {name} ({columns}) VALUES ({})", values(""));
        }
        let (literal, key) = (self.table.replace('\'', "''"), quoted(KEY_COLUMN));
        let last = format!(
            "coalesce((SELECT seq FROM sqlite_sequence WHERE name = '{literal}'), 0), coalesce((SELECT max({key}) FROM {name}), 0)"
        );
        let row = "velvet_next.number";
        let values = values(row);
        format!(
            "INSERT INTO {name} ({key}, {columns}) SELECT {row}, {values} FROM (SELECT max({last}) + 1 AS number) AS velvet_next"
        )
    }

    fn label(&self, at: usize) -> Option<&'static str> {
        self.sealed.iter().find(|(sealed, _)| *sealed == at).map(|(_, label)| *label)
    }
}

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
    /// The statements of a table, the column at `own_key` being the records' own key.
    pub fn new(layout: Layout, own_key: Option<usize>) -> RecordStatements {
        let (name, key) = (quoted(layout.table), quoted(KEY_COLUMN));
        let list = layout.columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
        let mark = |at: usize| format!("?{}", at + 1);
        let value = |at: usize, row: &str| layout.written(at, &mark(at), row, mark);
        let values = |row: &str| (0..layout.columns.len()).map(|at| value(at, row)).collect::<Vec<_>>().join(", ");
        let select = format!("SELECT {} FROM {name}", layout.read_all_alone());
        RecordStatements {
            insert: layout.insert(&list, values),
            get: format!("{select} WHERE {key} = ?1"),
            get_by_own_key: own_key.map(|at| format!("{select} WHERE {} = ?1", quoted(layout.columns[at]))),
            select,
            remove: format!("DELETE FROM {name} WHERE {key} = ?1"),
            remove_all: format!("DELETE FROM {name}"),
        }
    }
}

/// The statement that writes only the columns at `positions` of the record with a key. Binds those columns in the order
/// of `positions`, then the key. What is sealed under a name is sealed again where the name changes.
pub fn update(layout: Layout, positions: impl Iterator<Item = usize> + Clone) -> String {
    let mut text = String::with_capacity(128);
    text.push_str("UPDATE ");
    push_quoted(&mut text, layout.table);
    // Numbers only where one is bound twice.
    let name = layout.sealed_name.and_then(|name| positions.clone().position(|position| position == name));
    let mark = |at: usize| if name.is_some() { Cow::Owned(format!("?{}", at + 1)) } else { Cow::Borrowed("?") };
    let mut count = 0;
    let mut separator = " SET ";
    for position in positions.clone() {
        text.push_str(separator);
        push_quoted(&mut text, layout.columns[position]);
        text.push_str(" = ");
        let name_text = |at: usize| name.map_or_else(|| quoted(layout.columns[at]), |name| mark(name).into_owned());
        text.push_str(&layout.written(position, &mark(count), "\"key\"", name_text));
        separator = ", ";
        count += 1;
    }
    let is_sealed = |position| layout.label(position).is_some();
    if let Some(name) = name.filter(|_| !positions.clone().any(is_sealed))
        && let Some((column, sealed)) = layout.sealed_again(&mark(name), None)
    {
        text.push_str(&format!(", {} = {sealed}", quoted(column)));
    }
    text.push_str(" WHERE ");
    push_quoted(&mut text, KEY_COLUMN);
    text.push_str(" = ");
    text.push_str(&mark(count));
    text
}
