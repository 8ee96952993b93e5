//! Rows as comma-separated values with a head line.
//!
//! A missing value is an empty field; empty text is `""`. Bytes are hexadecimal digits.

use super::Writer;
use crate::failure::Failure;
use std::io::{self, Stdout};
use velvet_drawer::inspect::{FoundColumn, ValueRef, show};

pub(super) struct CsvWriter(csv::Writer<Stdout>);

impl CsvWriter {
    pub(super) fn new(columns: &[FoundColumn]) -> Result<CsvWriter, Failure> {
        // Fields come quoted as they need it, because only so missing and empty stay apart.
        let mut out = csv::WriterBuilder::new().quote_style(csv::QuoteStyle::Never).from_writer(io::stdout());
        out.write_record(columns.iter().map(|c| field(&c.name))).map_err(device)?;
        Ok(CsvWriter(out))
    }
}

impl Writer for CsvWriter {
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure> {
        let fields = values.iter().map(|value| match value {
            ValueRef::Missing => String::new(),
            ValueRef::Integer(n) => n.to_string(),
            ValueRef::Real(x) => x.to_string(),
            ValueRef::Text(text) => field(text),
            ValueRef::Bytes(bytes) | ValueRef::BrokenText(bytes) => show::hex(bytes),
        });
        Ok(self.0.write_record(fields).map_err(device)?)
    }

    fn end(mut self: Box<Self>) -> Result<(), Failure> {
        Ok(self.0.flush()?)
    }
}

/// Text as a field, quoted where it must be.
fn field(text: &str) -> String {
    let plain = !text.is_empty() && !text.contains(['"', ',', '\n', '\r']) && text.trim() == text;
    if plain { text.to_owned() } else { format!("\"{}\"", text.replace('"', "\"\"")) }
}

/// What the output said, as it said it.
fn device(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}
