//! Rows as they come out: a table for people, JSON, comma-separated values.

mod csv;
mod json;
mod table;

use crate::args::Form;
use crate::failure::Failure;
use velvet_drawer::Error;
use velvet_drawer::inspect::{FoundColumn, ValueRef};

/// A failure of ours as an error that a closure of the library's may return.
pub(crate) fn own(failure: Failure) -> Error {
    match failure {
        Failure::Io(error) => Error::own(error),
        Failure::Drawer(error) => error,
        Failure::Words(words) => Error::own(words),
    }
}

/// Takes rows, one after the other.
pub(crate) trait Writer {
    /// Takes the next row.
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure>;

    /// Says that there are no more.
    fn end(self: Box<Self>, ending: &Ending) -> Result<(), Failure>;
}

/// What is said of rows once they are all out.
#[derive(Default)]
pub(crate) struct Ending {
    /// How many there are in all, those included that a limit left out; nothing where that was not counted.
    pub(crate) all: Option<u64>,
    /// What a reader should know of the file.
    pub(crate) notes: Vec<String>,
}

/// A writer of rows with these columns, to standard output.
pub(crate) fn writer(form: Form, columns: &[FoundColumn]) -> Result<Box<dyn Writer>, Failure> {
    Ok(match form {
        Form::Table => Box::new(table::TableWriter::new(columns)),
        Form::Json => Box::new(json::JsonWriter::new(columns)?),
        Form::Csv => Box::new(csv::CsvWriter::new(columns)?),
    })
}
