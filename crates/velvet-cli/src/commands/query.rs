//! `velvet query`: any statement that only reads.

use super::opened;
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::rows::{Writer, own, writer};
use crate::terminal::{self, QUIET};
use std::cell::RefCell;
use std::io::Write;
use velvet_core::show::count;
use velvet_drawer::Error;

/// How many rows a table shows unless told otherwise.
const ROWS_SHOWN: usize = 200;

pub(crate) fn run(arguments: &args::Query) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Form::Table)?;
    let limit = match arguments.limit {
        Some(limit) => usize::try_from(limit).unwrap_or(usize::MAX),
        None if arguments.form == Form::Table => ROWS_SHOWN,
        None => usize::MAX,
    };
    let out: RefCell<Option<Box<dyn Writer>>> = RefCell::default();
    let (mut shown, mut more) = (0, false);
    let result = file.query(
        &arguments.statement,
        &mut |columns| {
            *out.borrow_mut() = Some(writer(arguments.form, columns).map_err(own)?);
            Ok(())
        },
        &mut |row| {
            more = shown == limit;
            if more {
                return Err(Error::own("enough"));
            }
            shown += 1;
            out.borrow_mut().as_mut().map_or(Ok(()), |out| out.row(row)).map_err(own)
        },
    );
    match result {
        Err(error) if !more => return Err(error.into()),
        _ => {}
    }
    if let Some(out) = out.into_inner() {
        out.end()?;
    }
    if arguments.form == Form::Table {
        let rows = count(shown, "row");
        let line = if more { format!("the first {rows}; --limit shows more") } else { rows };
        writeln!(terminal::out(), "\n{QUIET}{line}{QUIET:#}")?;
    }
    Ok(())
}
