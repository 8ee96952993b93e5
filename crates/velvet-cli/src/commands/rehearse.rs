//! `velvet rehearse`: a migration on a complete copy.

use super::{history, opened, size};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, ALARM, STRONG, WARNING};
use serde::Serialize;
use std::io::Write;
use velvet_core::exchange::show::{count, escaped};
use velvet_drawer::UpgradedVersion;
use velvet_drawer::inspect::Rehearsal;

pub(crate) fn run(arguments: &args::Rehearse) -> Result<Verdict, Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let history = history(&arguments.history)?;
    // A history that cannot be used could not be tried; an upgrade that fails was.
    file.against(&history)?;
    let result = terminal::told(|| file.rehearse_history(&history));
    let verdict = if result.is_ok() { Verdict::Fine } else { Verdict::Wrong };
    match (&result, arguments.form) {
        (Ok(rehearsal), Telling::Text) => tell(rehearsal)?,
        (Err(error), Telling::Text) => {
            writeln!(terminal::out(), "{ALARM}The migration would fail:{ALARM:#} {error}")?;
        }
        (_, Telling::Json) => file.report(Report {
            would_succeed: result.is_ok(),
            error: result.as_ref().err().map(ToString::to_string),
            rehearsal: result.as_ref().ok(),
        })?,
    }
    Ok(verdict)
}

#[derive(Serialize)]
struct Report<'a> {
    would_succeed: bool,
    /// Why it would not, for people.
    error: Option<String>,
    rehearsal: Option<&'a Rehearsal>,
}

fn tell(rehearsal: &Rehearsal) -> Result<(), Failure> {
    let mut out = terminal::out();
    let Some(upgraded) = &rehearsal.upgraded else {
        writeln!(out, "The file is at the newest version: there is nothing to migrate.")?;
        return Ok(());
    };
    let to = upgraded.versions.last().map_or(upgraded.from, |step| step.version);
    writeln!(out, "Dry run on a complete copy, from version {} to {to}:", upgraded.from)?;
    for step in &upgraded.versions {
        writeln!(out, "\n{STRONG}Version {}{STRONG:#}, {}", step.version, said_of(step))?;
        for line in &step.did {
            writeln!(out, "  - {}", escaped(line))?;
        }
        for line in &step.lost {
            writeln!(out, "  {WARNING}lost:{WARNING:#} {}", escaped(line))?;
        }
    }
    for name in &rehearsal.left_out {
        writeln!(
            out,
            "\n{WARNING}Not run:{WARNING:#} the app's code `{}`, which only the app has, so this copy lacks what it would write. To \
             rehearse with it, call `inspect::File::rehearse` with the app's schema.",
            escaped(name)
        )?;
    }
    writeln!(
        out,
        "\nThe migration succeeds: the result has the structure of version {to} in the history. It took {} ms; the file would go from {} \
         to {}. The file itself was only read.",
        rehearsal.took.as_millis(),
        size(rehearsal.bytes_before),
        size(rehearsal.bytes_after)
    )?;
    Ok(())
}

fn said_of(step: &UpgradedVersion) -> String {
    let rows = usize::try_from(step.rows).unwrap_or(usize::MAX);
    format!("{} ms, {} rewritten", step.took.as_millis(), count(rows, "row"))
}
