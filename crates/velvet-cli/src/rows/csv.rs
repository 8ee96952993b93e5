//! Rows as comma-separated values with a head line, in the forms in which they are exported, so that they can be imported too.

use super::{Ending, Writer};
use crate::failure::Failure;
use crate::terminal;
use std::io::{self, Write};
use velvet_core::exchange;
use velvet_drawer::inspect::{FoundColumn, ValueRef};

pub(super) struct CsvWriter {
    holds_text: Vec<bool>,
    out: csv::Writer<Box<dyn Write>>,
}

impl CsvWriter {
    pub(super) fn new(columns: &[FoundColumn]) -> Result<CsvWriter, Failure> {
        let mut out = csv::Writer::from_writer(terminal::data());
        out.write_record(columns.iter().map(|c| &c.name)).map_err(device)?;
        Ok(CsvWriter { holds_text: columns.iter().map(|c| c.holds_text).collect(), out })
    }
}

impl Writer for CsvWriter {
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure> {
        let fields = values.iter().zip(&self.holds_text).map(|(value, text)| exchange::to_field(*value, *text));
        Ok(self.out.write_record(fields).map_err(device)?)
    }

    fn end(mut self: Box<Self>, _: &Ending) -> Result<(), Failure> {
        Ok(self.out.flush()?)
    }
}

/// What the output said, as it said it.
fn device(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}
