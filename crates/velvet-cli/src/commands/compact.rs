//! `velvet compact`: shrinks a file to the space it needs.

use super::{named, one_file, size};
use crate::args;
use crate::failure::Failure;
use crate::limits::limits;
use crate::terminal;
use std::io::Write;
use velvet_drawer::inspect::compact;

pub(crate) fn run(arguments: &args::Compact) -> Result<(), Failure> {
    let file = one_file(&arguments.file)?;
    let (before, after) = terminal::told(|| compact(&file, &limits().cancel))?;
    let saved = before.bytes.saturating_sub(after.bytes);
    writeln!(
        terminal::out(),
        "{}: {} before, {} now; {} freed.",
        named(&file),
        size(before.bytes),
        size(after.bytes),
        if saved == 0 { "nothing".to_owned() } else { size(saved) }
    )?;
    Ok(())
}
