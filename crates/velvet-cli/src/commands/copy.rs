//! `velvet copy`: a complete copy of a file, also while an app writes.

use super::{opened_and_told, size};
use crate::args;
use crate::failure::Failure;
use std::fs;
use std::io::Write;

pub(crate) fn run(arguments: &args::Copy) -> Result<(), Failure> {
    let (file, reasons) = opened_and_told(&arguments.file, true)?;
    file.copy_to(&arguments.to, arguments.without_private)?;
    let mut out = anstream::stdout();
    let bytes = fs::metadata(&arguments.to).map_or(0, |m| m.len());
    let all = if reasons.is_empty() { "all of it" } else { "all that is here" };
    writeln!(out, "Copied to {}, {}: {all}, of one moment.", arguments.to.display(), size(bytes))?;
    if arguments.without_private {
        let private: Vec<String> =
            file.private_columns().into_iter().map(|(table, column)| format!("{table}.{column}")).collect();
        if private.is_empty() {
            writeln!(out, "No column of this file is declared private, so nothing was left out.")?;
        } else {
            writeln!(out, "Left out, because private: {}.", private.join(", "))?;
        }
    }
    Ok(())
}
