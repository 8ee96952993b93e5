//! A plain type as a table.

use crate::column_type::{ColumnType, Misfit, stored_value};
use crate::records::record_statements::{Layout, RecordStatements};
use crate::records::stamp::{StampedColumn, When};
use crate::schema::hints::Hints;
use crate::schema::structure::Table;
use crate::value::{Value, ValueRef};
use jiff::Timestamp;

/// A plain type that is stored as a table; made by `#[derive(Record)]`.
#[diagnostic::on_unimplemented(message = "`{Self}` is not a record", note = "put `#[derive(Record)]` on the struct")]
pub trait Record: Sized + 'static {
    /// The name of its table.
    const TABLE: &'static str;
    /// The names of its columns in declared order, without that of row numbers.
    const COLUMNS: &'static [&'static str];
    /// The columns whose words are searched, in the order of their names, and how much each of them counts.
    const SEARCHABLE: &'static [(&'static str, f64)] = &[];
    /// The columns that the library fills with the moment of a write.
    const STAMPED: &'static [StampedColumn] = &[];
    /// The positions of the columns whose texts are the same where only large and small letters A to Z differ.
    const IGNORES_CASE: &'static [usize] = &[];
    /// The columns whose values are sealed, by their positions, each with its label.
    const SEALED: &'static [(usize, &'static str)] = &[];
    /// The position of the column that a sealed value is bound to, where the record is a named value.
    const SEALED_NAME: Option<usize> = None;
    /// What statements have to know of its table.
    const LAYOUT: Layout =
        Layout { table: Self::TABLE, columns: Self::COLUMNS, sealed: Self::SEALED, sealed_name: Self::SEALED_NAME };
    /// Where its table and columns come from, for the next version of the schema.
    const HINTS: Hints;
    /// Its columns, for conditions and orders.
    type Columns: Copy;

    /// Its columns, for conditions and orders.
    fn columns() -> Self::Columns;

    /// Its table, as data.
    ///
    /// # Errors
    /// When a declared default has no stored form.
    fn table() -> Result<Table, Misfit>;

    /// The statements that read and write it.
    fn statements() -> &'static RecordStatements;

    /// Hands every column's value to `sink`.
    ///
    /// # Errors
    /// When a value has no stored form, with the position of its column.
    fn store<S: Sink>(&self, sink: &mut S) -> Result<(), Misfit>;

    /// Hands the value of the column at this position to `sink`; none where there is no such column.
    ///
    /// # Errors
    /// As [`Record::store`].
    fn store_column<S: Sink>(&self, column: usize, sink: &mut S) -> Result<(), Misfit>;

    /// Fills the columns of [`Record::STAMPED`] that are due now.
    fn stamp(&mut self, _now: Timestamp, _when: When) {}

    /// Takes over what was filled when another record, in whose place this one comes, was inserted.
    fn keep_created(&mut self, _other: &Self) {}

    /// Makes a record of what `source` holds. Fields that are not stored get their default.
    ///
    /// # Errors
    /// When a stored value is not one of its column's type, with the position of the column.
    fn load<S: Source>(source: &mut S) -> Result<Self, Misfit>;

    /// Sees that a stored value is one of the type of the column at this position.
    ///
    /// # Errors
    /// When it is not, with the position of the column.
    fn fits(column: usize, value: ValueRef<'_>) -> Result<(), Misfit>;
}

/// A record with an own key: a field with `#[record(own_key)]`, such as a supplier's article number or a UUID.
#[diagnostic::on_unimplemented(
    message = "`{Self}` has no own key",
    note = "mark the field that tells one `{Self}` from another with `#[record(own_key)]`"
)]
#[doc(alias = "primary key")]
#[doc(alias = "natural key")]
pub trait Keyed: Record {
    /// The type of that field.
    type OwnKey: ColumnType;
    /// The position of its column.
    const OWN_KEY_POSITION: usize;

    /// Its value in this record.
    fn own_key(&self) -> &<Self::OwnKey as ColumnType>::Value;
}

/// A record with text whose words are searched.
#[diagnostic::on_unimplemented(
    message = "no words of `{Self}` are searched",
    note = "mark the text fields that are searched with `#[record(searchable)]`"
)]
pub trait Searchable: Record {}

/// A record whose changes are kept, to be shared with other devices.
#[diagnostic::on_unimplemented(
    message = "what changes in `{Self}` is not kept",
    note = "write `#[record(shared)]` on the struct"
)]
pub trait Shared: Keyed {}

/// Takes a record's values, column by column.
pub trait Sink {
    /// Takes the value of the column at this position.
    ///
    /// # Errors
    /// When the value has no stored form.
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit>;
}

/// The stored forms of a record's values, in the order of its columns.
///
/// # Errors
/// When a value has no stored form, with the position of its column.
pub fn stored_values<T: Record>(record: &T) -> Result<Vec<Value>, Misfit> {
    struct Values(Vec<Value>);
    impl Sink for Values {
        fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
            self.0.push(stored_value::<C>(value).map_err(|misfit| misfit.at(column))?);
            Ok(())
        }
    }
    let mut values = Values(Vec::with_capacity(T::COLUMNS.len()));
    record.store(&mut values)?;
    Ok(values.0)
}

/// The stored form of the value in the column at this position; nothing where there is no such column.
///
/// # Errors
/// When the value has no stored form.
pub fn stored_value_at<T: Record>(record: &T, column: usize) -> Result<Value, Misfit> {
    let mut stored = Value::Missing;
    record.store_column(column, &mut stored)?;
    Ok(stored)
}

/// Keeps the value of one column.
impl Sink for Value {
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
        C::store(value, self).map_err(|misfit| misfit.at(column))
    }
}

/// Gives a record's values, column by column.
pub trait Source {
    /// Gives the value of the column at this position.
    ///
    /// # Errors
    /// When what is stored is not a value of this type.
    fn take<C: ColumnType>(&mut self, column: usize) -> Result<C::Value, Misfit>;
}
