//! `velvet rehearse`: an upgrade on a complete copy.

use super::{history, opened};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, ALARM, STRONG, WARNING};
use serde_json::json;
use std::io::Write;
use velvet_core::show::count;
use velvet_drawer::UpgradedVersion;
use velvet_drawer::inspect::Rehearsal;

pub(crate) fn run(arguments: &args::Rehearse) -> Result<Verdict, Failure> {
    let file = opened(&arguments.file, arguments.form == Telling::Text)?;
    let history = history(&arguments.history)?;
    // A history that cannot be used could not be tried; an upgrade that fails was.
    file.against(&history)?;
    let result = terminal::told(|| file.rehearse_history(&history));
    match (result, arguments.form) {
        (Ok(rehearsal), Telling::Text) => tell(&rehearsal).map(|()| Verdict::Fine),
        (Ok(rehearsal), Telling::Json) => {
            terminal::json(&rehearsal)?;
            Ok(Verdict::Fine)
        }
        (Err(error), Telling::Text) => {
            writeln!(terminal::out(), "{ALARM}The upgrade would fail:{ALARM:#} {error}")?;
            Ok(Verdict::Wrong)
        }
        (Err(error), Telling::Json) => {
            writeln!(terminal::data(), "{:#}", json!({ "fails": error.to_string() }))?;
            Ok(Verdict::Wrong)
        }
    }
}

fn tell(rehearsal: &Rehearsal) -> Result<(), Failure> {
    let mut out = terminal::out();
    let Some(upgraded) = &rehearsal.upgraded else {
        writeln!(out, "The file is at the newest version: there is nothing to upgrade.")?;
        return Ok(());
    };
    writeln!(out, "On a copy of the file, from version {}:", upgraded.from)?;
    for step in &upgraded.versions {
        writeln!(out, "\n{STRONG}Version {}{STRONG:#}, {}", step.version, said_of(step))?;
        for line in &step.did {
            writeln!(out, "  - {line}")?;
        }
        for line in &step.lost {
            writeln!(out, "  {WARNING}lost:{WARNING:#} {line}")?;
        }
    }
    for name in &rehearsal.left_out {
        writeln!(
            out,
            "\n{WARNING}Left out:{WARNING:#} the code `{name}`, which only the app has. What it would write is not in this copy; \
             to rehearse with it, call `inspect::File::rehearse` with the app's schema."
        )?;
    }
    let (before, after) = (rehearsal.bytes_before, rehearsal.bytes_after);
    writeln!(
        out,
        "\nThe result is the structure that the history says. It took {} ms; {before} bytes became {after}. The file itself was only read.",
        rehearsal.took.as_millis()
    )?;
    Ok(())
}

fn said_of(step: &UpgradedVersion) -> String {
    let rows = usize::try_from(step.rows).unwrap_or(usize::MAX);
    format!("{} written anew in {} ms", count(rows, "row"), step.took.as_millis())
}
