//! What an app keeps: its records, declared in one place.

use crate::error::{Cause, Error};
use velvet_core::structure::{Structure, Table};
use velvet_core::{Misfit, Record, fingerprint};

/// The records of an app, and the app they belong to.
///
/// ```
/// use velvet_drawer::{Key, Record, Schema};
///
/// #[derive(Record)]
/// struct Glaze { name: String }
///
/// #[derive(Record)]
/// struct Piece { mark: String, glaze: Option<Key<Glaze>> }
///
/// pub fn schema() -> Schema {
///     Schema::new("kilnbook").record::<Glaze>().record::<Piece>()
/// }
///
/// schema().check().unwrap();
/// ```
#[derive(Clone, Debug)]
pub struct Schema {
    app: String,
    tables: Vec<Table>,
    misfits: Vec<(&'static str, &'static [&'static str], Misfit)>,
}

/// A schema that was found sound.
#[derive(Clone, Debug)]
pub(crate) struct Declared {
    pub(crate) app: String,
    pub(crate) version: u32,
    pub(crate) structure: Structure,
    pub(crate) fingerprint: String,
}

/// The version of a schema that has never changed.
const FIRST_VERSION: u32 = 1;

impl Schema {
    /// A schema without records, of the app with this name. The name is kept in the file, so that one app's file is
    /// not taken for another's.
    pub fn new(app: impl Into<String>) -> Schema {
        Schema { app: app.into(), tables: Vec::new(), misfits: Vec::new() }
    }

    /// Adds the table of a record. The order in which records are added does not matter.
    #[must_use]
    pub fn record<T: Record>(mut self) -> Schema {
        match T::table() {
            Ok(table) => self.tables.push(table),
            Err(misfit) => self.misfits.push((T::TABLE, T::COLUMNS, misfit)),
        }
        self
    }

    /// Checks what can only be seen of the whole: names used twice, links to records that were not added, defaults
    /// that no column can hold. Opening a drawer does the same; call this in a test.
    ///
    /// # Errors
    /// With every problem in one message ([`Error::is_schema`]).
    pub fn check(&self) -> Result<(), Error> {
        self.declared().map(drop)
    }

    pub(crate) fn declared(&self) -> Result<Declared, Error> {
        let structure = Structure { tables: self.tables.clone() };
        let mut problems = structure.problems();
        for (table, columns, misfit) in &self.misfits {
            let column = misfit.column.map_or("", |at| columns[at]);
            problems.push(format!("the default of `{table}.{column}`: {misfit}"));
        }
        if self.app.is_empty() {
            problems.push("the app has no name; give one to Schema::new".into());
        }
        if structure.tables.is_empty() && problems.is_empty() {
            problems.push("there is no record; add each with `.record::<…>()`".into());
        }
        if !problems.is_empty() {
            return Err(Error::new(
                Cause::Schema,
                format!("the schema of {:?} is not sound: {}", self.app, problems.join("; ")),
            )
            .untouched("No file was touched"));
        }
        let fingerprint = fingerprint::of(&structure);
        Ok(Declared { app: self.app.clone(), version: FIRST_VERSION, structure, fingerprint })
    }
}
