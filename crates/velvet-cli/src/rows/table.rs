//! Rows as a table for people, fitted to the terminal.

use super::{Ending, Writer};
use crate::failure::Failure;
use crate::terminal;
use std::io::Write;
use velvet_core::exchange::show;
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{FoundColumn, Kind, ValueRef};

pub(super) struct TableWriter {
    kinds: Vec<Option<Kind>>,
    grid: Grid,
}

impl TableWriter {
    pub(super) fn new(columns: &[FoundColumn]) -> TableWriter {
        TableWriter {
            kinds: columns.iter().map(|c| c.kind.clone()).collect(),
            grid: Grid::new(columns.iter().map(|c| c.name.as_str())),
        }
    }
}

impl Writer for TableWriter {
    fn row(&mut self, values: &[ValueRef<'_>]) -> Result<(), Failure> {
        self.grid.row(values.iter().zip(&self.kinds).map(|(value, kind)| show::shown(*value, kind.as_ref())).collect());
        Ok(())
    }

    fn end(self: Box<Self>, _: &Ending) -> Result<(), Failure> {
        Ok(write!(terminal::out(), "{}", terminal::fitted(self.grid))?)
    }
}
