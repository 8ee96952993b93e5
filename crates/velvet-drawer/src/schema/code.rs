//! An app's own code in an upgrade.

use crate::engine::{Connection, Row};
use crate::error::{Cause, Doing, Error};
use std::fmt;
use std::sync::Arc;
use velvet_core::{ColumnType, Misfit, Value};

/// The transaction of an upgrade, as the app's code gets it. The old tables are still there, by name and without types,
/// because the types of old versions are gone; what the version adds is there already.
///
/// ```
/// use velvet_drawer::{Error, Upgrade};
///
/// /// Turns the free text of glazes into records of their own.
/// fn split_glazes(upgrade: &Upgrade) -> Result<(), Error> {
///     let mut names = Vec::new();
///     upgrade.rows("SELECT DISTINCT glaze FROM piece WHERE glaze <> ''", &[], |row| {
///         names.push(row.get::<String>(0)?);
///         Ok(())
///     })?;
///     for name in names {
///         upgrade.run("INSERT INTO glaze (name) VALUES (?)", &[name.into()])?;
///     }
///     Ok(())
/// }
/// ```
#[doc(alias = "migration")]
pub struct Upgrade<'a> {
    connection: &'a Connection,
    doing: &'a str,
}

/// A row that the app's code reads in an upgrade.
pub struct CodeRow<'a, 'r, 's> {
    row: &'a Row<'r, 's>,
    doing: &'a str,
}

impl<'a> Upgrade<'a> {
    pub(crate) fn new(connection: &'a Connection, doing: &'a str) -> Upgrade<'a> {
        Upgrade { connection, doing }
    }

    /// Runs a statement with bound values, and says how many rows it changed.
    ///
    /// # Errors
    /// When the engine refuses it.
    pub fn run(&self, statement: &str, values: &[Value]) -> Result<u64, Error> {
        self.connection.execute(statement, values.iter().map(Value::as_ref)).doing(|| self.doing)
    }

    /// Calls `each` with every row of a query with bound values.
    ///
    /// # Errors
    /// When the engine refuses it, and what `each` returns.
    pub fn rows(
        &self,
        query: &str,
        values: &[Value],
        mut each: impl FnMut(CodeRow<'_, '_, '_>) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let read = self
            .connection
            .rows(query, values.iter().map(Value::as_ref), |row| each(CodeRow { row: &row, doing: self.doing }));
        read.doing(|| self.doing)
    }
}

impl CodeRow<'_, '_, '_> {
    /// The value at a position, counted from 0, as a type of the app's.
    ///
    /// # Errors
    /// When what is stored is not a value of that type.
    pub fn get<C: ColumnType>(&self, position: usize) -> Result<C::Value, Error> {
        C::load(self.row.value(position)).map_err(|misfit: Misfit| {
            Error::new(Cause::Unreadable, format!("{}: in column {}, {misfit}", self.doing, position + 1))
        })
    }
}

/// An app's code under its name.
#[derive(Clone)]
pub(crate) struct Code(Arc<CodeFn>);

type CodeFn = dyn Fn(&Upgrade<'_>) -> Result<(), Error> + Send + Sync;

impl Code {
    pub(crate) fn new(code: impl Fn(&Upgrade<'_>) -> Result<(), Error> + Send + Sync + 'static) -> Code {
        Code(Arc::new(code))
    }

    pub(crate) fn run(&self, upgrade: &Upgrade<'_>) -> Result<(), Error> {
        (self.0)(upgrade)
    }
}

impl fmt::Debug for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Code")
    }
}
