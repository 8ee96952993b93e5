//! Rows as one JSON object with a list of them, whose values have the forms in which they are exported, so that they can be imported too.

use super::{Ending, Writer};
use crate::failure::Failure;
use crate::terminal;
use serde_json::{Value as Json, json};
use std::io::{BufWriter, Write};
use velvet_core::exchange::{self, ROWS_BEGIN};
use velvet_drawer::inspect::{FoundColumn, Kind, ValueRef};

pub(super) struct JsonWriter {
    /// The name of each column, as JSON, and what it holds.
    columns: Vec<(String, Option<Kind>)>,
    out: BufWriter<Box<dyn Write>>,
    rows: u64,
}

impl JsonWriter {
    pub(super) fn new(columns: &[FoundColumn]) -> Result<JsonWriter, Failure> {
        let named = |c: &FoundColumn| (Json::from(c.name.as_str()).to_string(), c.kind.clone());
        let mut out = BufWriter::new(terminal::data());
        out.write_all(ROWS_BEGIN.as_bytes())?;
        Ok(JsonWriter { columns: columns.iter().map(named).collect(), out, rows: 0 })
    }
}

impl Writer for JsonWriter {
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure> {
        self.out.write_all(if self.rows == 0 { b"\n  {" } else { b",\n  {" })?;
        self.rows += 1;
        for (at, ((name, kind), value)) in self.columns.iter().zip(values).enumerate() {
            write!(self.out, "{}{name}:", if at == 0 { "" } else { "," })?;
            exchange::write_json(*value, kind.as_ref(), &mut self.out)?;
        }
        Ok(self.out.write_all(b"}")?)
    }

    fn end(mut self: Box<Self>, ending: &Ending) -> Result<(), Failure> {
        writeln!(self.out, "\n],\n\"all\":{},\n\"notes\":{}}}", json!(ending.all), json!(ending.notes))?;
        Ok(self.out.flush()?)
    }
}
