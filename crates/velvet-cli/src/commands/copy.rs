//! `velvet copy`: a complete copy of a file, also while an app writes.

use super::{named, opened, size};
use crate::args;
use crate::args::Reader;
use crate::failure::Failure;
use crate::terminal;
use std::fs;
use std::io::Write;
use velvet_core::exchange::show::escaped;

pub(crate) fn run(arguments: &args::Copy) -> Result<(), Failure> {
    let file = opened(&arguments.file, Reader::Person)?;
    terminal::told(|| file.copy_to(&arguments.to, arguments.without_private))?;
    let mut out = terminal::out();
    let bytes = fs::metadata(&arguments.to).map_or(0, |m| m.len());
    let all = if file.reasons.is_empty() { "everything" } else { "everything that is here" };
    writeln!(out, "Copied to {}, {}: {all}, at one moment.", named(&arguments.to), size(bytes))?;
    if arguments.without_private {
        let private: Vec<String> =
            file.private_columns().into_iter().map(|(table, column)| format!("{table}.{column}")).collect();
        if private.is_empty() {
            writeln!(out, "No column of this file is private, so nothing was left out.")?;
        } else {
            writeln!(out, "Left out because private: {}.", escaped(&private.join(", ")))?;
        }
    }
    Ok(())
}
