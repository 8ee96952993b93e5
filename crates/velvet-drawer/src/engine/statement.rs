//! Statements, their arguments and their rows.

use super::report::Telling;
use super::{Connection, Fault};
use rusqlite::types::{ToSqlOutput, ValueRef as EngineValue};
use velvet_core::{ColumnType, Misfit, Output, Sink, Source, ValueRef};

/// A prepared statement, kept by its connection for the next time.
pub(crate) struct Statement<'c> {
    pub(super) engine: rusqlite::CachedStatement<'c>,
    pub(super) text: &'c str,
    pub(super) connection: &'c Connection,
    /// Whether it runs what the file defines.
    pub(super) computes: bool,
    pub(super) _telling: Option<TellingOfReplaced<'c>>,
}

/// Lets triggers hear of rows that a statement replaces, until it is dropped: those of the search index, trails and shared changes. Otherwise the engine removes such rows
/// without a word. Statements that replace nothing go without it, because it would also let a trigger of the app's own run itself.
pub(super) struct TellingOfReplaced<'c>(&'c rusqlite::Connection);

impl<'c> TellingOfReplaced<'c> {
    pub(super) fn begin(engine: &'c rusqlite::Connection) -> TellingOfReplaced<'c> {
        // Where the engine does not take it, the statement fails or runs as any other program's.
        let _ = engine.execute_batch("PRAGMA recursive_triggers = ON");
        TellingOfReplaced(engine)
    }
}

impl Drop for TellingOfReplaced<'_> {
    fn drop(&mut self) {
        let _ = self.0.execute_batch("PRAGMA recursive_triggers = OFF");
    }
}

impl<'c> Statement<'c> {
    /// Binds the argument at `position`, counted from 1.
    pub(crate) fn bind(&mut self, position: usize, value: ValueRef<'_>) -> Result<(), Fault> {
        let value = match value {
            ValueRef::Missing => EngineValue::Null,
            ValueRef::Integer(n) => EngineValue::Integer(n),
            ValueRef::Real(x) => EngineValue::Real(x),
            ValueRef::Text(text) => EngineValue::Text(text.as_bytes()),
            ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => EngineValue::Blob(bytes),
        };
        Ok(self.engine.raw_bind_parameter(position, ToSqlOutput::Borrowed(value))?)
    }

    /// Binds arguments in order, from the first.
    #[inline]
    pub(crate) fn bind_all<'v>(&mut self, values: impl IntoIterator<Item = ValueRef<'v>>) -> Result<(), Fault> {
        values.into_iter().enumerate().try_for_each(|(at, value)| self.bind(at + 1, value))
    }

    /// A sink that binds all columns of a record, in order.
    pub(crate) fn columns(&mut self) -> Columns<'_, 'c> {
        Columns { statement: &mut self.engine, fault: None }
    }

    /// Whether it only reads.
    pub(crate) fn only_reads(&self) -> bool {
        self.engine.readonly()
    }

    /// The names of the columns it returns.
    pub(crate) fn returns(&self) -> Vec<&str> {
        self.engine.column_names().collect()
    }

    /// The table and column of the file that each column it returns comes from as it is, where it does.
    pub(crate) fn origins(&self) -> Vec<Option<(String, String)>> {
        let origin = |c: &rusqlite::ColumnMetadata<'_>| Some((c.table_name()?.to_owned(), c.origin_name()?.to_owned()));
        self.engine.columns_with_metadata().map(|c| origin(&c)).collect()
    }

    /// The names of its arguments in order; nothing for one that has none.
    pub(crate) fn arguments(&self) -> Vec<Option<&str>> {
        (1..=self.engine.parameter_count()).map(|at| self.engine.parameter_name(at)).collect()
    }

    /// Runs it to its end and says how many rows it changed.
    pub(crate) fn execute(&mut self) -> Result<u64, Fault> {
        let mut telling = self.connection.report.begun(self.text, &self.engine);
        self.connection.refuse_if_rolled_back()?;
        self.connection.refuse_if_cancelled()?;
        self.begin_watching();
        let changed = self.engine.raw_execute().map_err(|error| undone(self.connection, error))? as u64;
        if changed == 0 {
            // With something to write, the commit is refused by the engine.
            self.connection.refuse_unproven()?;
        }
        if let Some(telling) = &mut telling {
            telling.rows = changed;
        }
        Ok(changed)
    }

    /// Its rows, with the arguments bound before.
    pub(crate) fn rows(&mut self) -> Rows<'_> {
        self.begin_watching();
        let telling = self.connection.report.begun(self.text, &self.engine);
        Rows { telling, connection: self.connection, computes: self.computes, rows: self.engine.raw_query() }
    }

    #[inline]
    fn begin_watching(&self) {
        if let Some(commits) = &self.connection.commits {
            commits.begin_statement();
        }
    }
}

/// What a statement wrote before it failed is undone.
#[cold]
fn undone(connection: &Connection, error: rusqlite::Error) -> Fault {
    if let Some(commits) = &connection.commits {
        commits.undo_statement();
    }
    connection.failed(error)
}

/// Binds a record's columns.
pub(crate) struct Columns<'s, 'c> {
    statement: &'s mut rusqlite::Statement<'c>,
    fault: Option<Fault>,
}

impl Columns<'_, '_> {
    /// What the engine said to a value, if it refused one.
    pub(crate) fn fault(self) -> Result<(), Fault> {
        self.fault.map_or(Ok(()), Err)
    }
}

impl Sink for Columns<'_, '_> {
    #[inline]
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
        let cell = Binding { statement: self.statement, position: column + 1, fault: &mut self.fault };
        C::store(value, cell).map_err(|misfit| misfit.at(column))
    }
}

/// Hands one value to the engine.
struct Binding<'s, 'c> {
    statement: &'s mut rusqlite::Statement<'c>,
    position: usize,
    fault: &'s mut Option<Fault>,
}

impl Binding<'_, '_> {
    #[inline]
    fn hand(self, value: EngineValue<'_>) {
        if let Err(error) = self.statement.raw_bind_parameter(self.position, ToSqlOutput::Borrowed(value)) {
            *self.fault = Some(error.into());
        }
    }
}

impl Output for Binding<'_, '_> {
    #[inline]
    fn missing(self) {
        self.hand(EngineValue::Null);
    }
    #[inline]
    fn integer(self, value: i64) {
        self.hand(EngineValue::Integer(value));
    }
    #[inline]
    fn real(self, value: f64) {
        self.hand(EngineValue::Real(value));
    }
    #[inline]
    fn text(self, value: &str) {
        self.hand(EngineValue::Text(value.as_bytes()));
    }
    #[inline]
    fn bytes(self, value: &[u8]) {
        self.hand(EngineValue::Blob(value));
    }
}

/// The rows of a statement, one after the other.
pub(crate) struct Rows<'s> {
    rows: rusqlite::Rows<'s>,
    telling: Option<Telling<'s>>,
    connection: &'s Connection,
    computes: bool,
}

impl<'s> Rows<'s> {
    /// Calls `each` with every row that is left.
    #[inline]
    pub(crate) fn each<E: From<Fault>>(&mut self, mut each: impl FnMut(Row<'_, 's>) -> Result<(), E>) -> Result<(), E> {
        while let Some(row) = self.next()? {
            each(row)?;
        }
        Ok(())
    }

    /// The next row, or nothing after the last.
    #[inline]
    pub(crate) fn next(&mut self) -> Result<Option<Row<'_, 's>>, Fault> {
        let connection = self.connection;
        let rows = &mut self.rows;
        let row = if self.computes { connection.row_within(|| rows.next())? } else { rows.next() };
        let row = row.map_err(|error| undone(connection, error))?;
        connection.refuse_unproven()?;
        if let (Some(telling), Some(_)) = (&mut self.telling, row) {
            telling.rows += 1;
        }
        Ok(row.map(Row))
    }
}

/// One row.
#[derive(Clone, Copy)]
pub(crate) struct Row<'r, 's>(&'r rusqlite::Row<'s>);

impl<'r> Row<'r, '_> {
    /// The value at `position`, counted from 0.
    #[inline]
    pub(crate) fn value(&self, position: usize) -> ValueRef<'r> {
        match self.0.get_ref(position) {
            Ok(EngineValue::Integer(n)) => ValueRef::Integer(n),
            Ok(EngineValue::Real(x)) => ValueRef::Real(x),
            Ok(EngineValue::Text(bytes)) => {
                std::str::from_utf8(bytes).map_or(ValueRef::BrokenText(bytes), ValueRef::Text)
            }
            Ok(EngineValue::Blob(bytes)) => ValueRef::Bytes(bytes),
            Ok(EngineValue::Null) | Err(_) => ValueRef::Missing,
        }
    }

    /// The key of the record in a row that begins with it, as all statements do that read records.
    #[inline]
    pub(crate) fn key(&self) -> i64 {
        self.integer(0)
    }

    /// The value of the record's column at `position`, in such a row.
    #[inline]
    pub(crate) fn column(&self, position: usize) -> ValueRef<'r> {
        self.value(position + 1)
    }

    /// The name of the column at `position`.
    pub(crate) fn name(&self, position: usize) -> &'r str {
        self.0.as_ref().column_name(position).unwrap_or_default()
    }

    /// How many values it has.
    pub(crate) fn count(&self) -> usize {
        self.0.as_ref().column_count()
    }

    /// The whole number at `position`; 0 where there is none.
    #[inline]
    pub(crate) fn integer(&self, position: usize) -> i64 {
        match self.value(position) {
            ValueRef::Integer(n) => n,
            _ => 0,
        }
    }

    /// The text at `position`; empty where there is none.
    pub(crate) fn text(&self, position: usize) -> &'r str {
        match self.value(position) {
            ValueRef::Text(text) => text,
            _ => "",
        }
    }
}

/// A row whose first column is the first that is asked for.
pub(crate) struct WithoutKey<'r, 's>(pub(crate) Row<'r, 's>);

impl Source for WithoutKey<'_, '_> {
    #[inline]
    fn take<C: ColumnType>(&mut self, column: usize) -> Result<C::Value, Misfit> {
        C::load(self.0.value(column)).map_err(|misfit| misfit.at(column))
    }
}

/// A row whose columns are found at these places.
pub(crate) struct Placed<'r, 's>(pub(crate) Row<'r, 's>, pub(crate) &'r [usize]);

impl Source for Placed<'_, '_> {
    #[inline]
    fn take<C: ColumnType>(&mut self, column: usize) -> Result<C::Value, Misfit> {
        let place = self.1.get(column).copied().unwrap_or(usize::MAX);
        C::load(self.0.value(place)).map_err(|misfit| misfit.at(place))
    }
}

/// A row that begins with the key.
impl Source for Row<'_, '_> {
    #[inline(always)]
    fn take<C: ColumnType>(&mut self, column: usize) -> Result<C::Value, Misfit> {
        C::load(self.column(column)).map_err(|misfit| misfit.at(column))
    }
}
