//! `velvet attachment`: a file that is kept inside a drawer, taken out.

use super::export::written_new;
use super::{named, opened, size};
use crate::args;
use crate::failure::Failure;
use crate::terminal;
use std::io::{BufWriter, Write};
use velvet_core::show::escaped;

pub(crate) fn run(arguments: &args::Attachment) -> Result<(), Failure> {
    let file = opened(&arguments.file, false)?;
    let found = file.attachment(&arguments.attachment)?;
    let Some(to) = &arguments.to else {
        let mut out = BufWriter::new(terminal::data());
        file.write_attachment(&found, &mut out)?;
        return Ok(out.flush()?);
    };
    terminal::told(|| {
        written_new(to, |out| {
            file.write_attachment(&found, out)?;
            Ok(found.bytes)
        })
    })?;
    let kind = if found.media_type.is_empty() { String::new() } else { format!(" ({})", escaped(&found.media_type)) };
    let name = if found.name.is_empty() { String::new() } else { format!(" {}", escaped(&found.name)) };
    let line = format!(
        "Wrote attachment {}{name}{kind} to {}, {}; its hash is right.",
        found.key,
        named(to),
        size(found.bytes)
    );
    Ok(writeln!(terminal::out(), "{line}")?)
}
