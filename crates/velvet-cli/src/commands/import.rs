//! `velvet import`: rows from open formats, all or none.

use super::{named, one_file};
use crate::args::{self, ExchangeForm};
use crate::failure::Failure;
use crate::limits::limits;
use crate::terminal;
use std::fs;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;
use velvet_core::exchange::show::count;
use velvet_drawer::inspect::{import, import_sql};

pub(crate) fn run(arguments: &args::Import) -> Result<(), Failure> {
    let said = arguments.form.or_else(|| ExchangeForm::of_name(&arguments.from));
    let Some(kind) = said else {
        return Err(Failure::new(format!(
            "the format of {} is not known from its name. Nothing was written; name the format with --as",
            named(&arguments.from)
        )));
    };
    let mut from: Box<dyn BufRead> = if arguments.from == Path::new("-") {
        Box::new(BufReader::new(io::stdin()))
    } else {
        let opened = fs::File::open(&arguments.from);
        Box::new(BufReader::new(opened.map_err(|e| {
            Failure::new(format!("{} cannot be read: {e}. Nothing was written", named(&arguments.from)))
        })?))
    };
    let mut out = terminal::out();
    let of = |n: u64, thing: &str| count(usize::try_from(n).unwrap_or(usize::MAX), thing);
    if kind == ExchangeForm::Sql {
        let mut text = String::new();
        from.read_to_string(&mut text)?;
        let statements = terminal::told(|| import_sql(&arguments.file, &text, limits()))?;
        writeln!(out, "Created {} from {}.", named(&arguments.file), of(statements, "statement"))?;
    } else {
        let file = one_file(&arguments.file)?;
        let rows = terminal::told(|| import(&file, arguments.table.as_deref(), kind.into(), &mut from, limits()))?;
        writeln!(out, "Imported {} into {}.", of(rows, "row"), named(&file))?;
    }
    Ok(())
}
