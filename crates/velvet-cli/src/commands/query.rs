//! `velvet query`: any statement that only reads.

use super::{opened, say_how_many};
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::rows::{Ending, Writer, own, writer};
use std::cell::RefCell;
use velvet_drawer::Error;

pub(crate) fn run(arguments: &args::Query) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let limit = arguments.limit.in_memory(arguments.form.reader());
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
    // Behind the limit nobody looks: there may be no end.
    let all = (!more).then_some(shown);
    if let Some(out) = out.into_inner() {
        out.end(&Ending { all: all.map(|all| all as u64), notes: file.notes() })?;
    }
    if arguments.form == Form::Table {
        say_how_many(shown, "first", all, "row")?;
    }
    Ok(())
}
