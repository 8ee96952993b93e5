//! `velvet export`: rows in open formats, without loss.

use super::{named, opened};
use crate::args::{self, ExchangeForm, Reader};
use crate::failure::{self, Failure};
use crate::terminal;
use std::fs::{self, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::Path;
use velvet_core::exchange::show::count;
use velvet_core::file::wal::database_of;
use velvet_drawer::inspect::File;

pub(crate) fn run(arguments: &args::Export) -> Result<(), Failure> {
    let file = opened(&arguments.file, Reader::Program)?;
    let Some(to) = &arguments.to else {
        let mut out = BufWriter::new(terminal::data());
        exported(&file, arguments, &mut out)?;
        return Ok(out.flush()?);
    };
    let rows = terminal::told(|| written_new(to, |out| exported(&file, arguments, out)))?;
    let rows = count(usize::try_from(rows).unwrap_or(usize::MAX), "row");
    Ok(writeln!(terminal::out(), "Exported {rows} to {}.", named(to))?)
}

fn exported(file: &File, arguments: &args::Export, out: &mut dyn Write) -> Result<u64, Failure> {
    let of_name = || arguments.to.as_deref().and_then(ExchangeForm::of_name);
    let form = arguments.form.or_else(of_name).unwrap_or(ExchangeForm::Json).into();
    Ok(match &arguments.table {
        Some(word) => file.export(&file.table(word)?, form, out)?,
        None => file.export_all(form, out)?,
    })
}

/// Writes a file that must not be there yet, and leaves none where that fails.
pub(super) fn written_new(
    to: &Path,
    write: impl FnOnce(&mut dyn Write) -> Result<u64, Failure>,
) -> Result<u64, Failure> {
    if let Some(of) = database_of(to).filter(|of| of.is_file()) {
        let problem =
            format!("cannot write {}: a file of this name belongs to {}. Choose another name", named(to), named(&of));
        return Err(Failure::new(problem));
    }
    let created = OpenOptions::new().write(true).create_new(true).open(to);
    let created = created.map_err(|error| {
        let why = match (error.kind(), to.parent()) {
            _ if to.is_dir() => "a folder has that name. Name a new file in it".to_owned(),
            (io::ErrorKind::AlreadyExists, _) => {
                "there is a file of that name already. It was left untouched. Choose another name".to_owned()
            }
            (io::ErrorKind::NotFound, Some(folder)) => format!("there is no folder {}", named(folder)),
            _ => failure::why(&error),
        };
        Failure::new(format!("cannot write {}: {why}", named(to)))
    })?;
    let mut out = BufWriter::new(created);
    let result = write(&mut out).and_then(|rows| out.flush().map(|()| rows).map_err(Failure::from));
    result.map_err(|failure| {
        drop(out);
        let left = match fs::remove_file(to) {
            Ok(()) => "Nothing of it is left",
            Err(_) => "What was written of it is left there, and is not whole",
        };
        match failure.of_output() {
            Some(error) => Failure::new(format!("cannot write {}: {}. {left}", named(to), failure::why(error))),
            None => failure,
        }
    })
}
