//! `velvet attachment`: a file that is kept inside a drawer, taken out.

use super::export::written_new;
use super::{named, opened, size};
use crate::args;
use crate::args::Reader;
use crate::failure::Failure;
use crate::terminal;
use std::io::{self, BufWriter, Write};
use velvet_core::exchange::show::escaped;
use velvet_drawer::inspect::FoundAttachment;

pub(crate) fn run(arguments: &args::Attachment) -> Result<(), Failure> {
    let file = opened(&arguments.file, Reader::Program)?;
    let found = file.attachment(&arguments.attachment)?;
    let Some(to) = &arguments.to else {
        // The bytes of a picture say nothing on a screen.
        if terminal::is_looked_at() {
            terminal::told(|| file.write_attachment(&found, &mut io::sink()))?;
            let line = format!(
                "This is {}, {}, with the right hash: {}. To write it to a file, use --to NEW_FILE or a pipe.",
                described(&found),
                size(found.bytes),
                escaped(&found.hash)
            );
            return Ok(writeln!(terminal::out(), "{line}")?);
        }
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
    let line = format!("Wrote {} to {}, {}, with the right hash.", described(&found), named(to), size(found.bytes));
    Ok(writeln!(terminal::out(), "{line}")?)
}

fn described(found: &FoundAttachment) -> String {
    let kind = if found.media_type.is_empty() { String::new() } else { format!(" ({})", escaped(&found.media_type)) };
    let name = if found.name.is_empty() { String::new() } else { format!(" {}", escaped(&found.name)) };
    format!("attachment {}{name}{kind}", found.key)
}
