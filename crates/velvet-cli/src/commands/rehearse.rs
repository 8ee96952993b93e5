//! `velvet rehearse`: an upgrade on a complete copy.

use super::{history, opened};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, ALARM, STRONG, WARNING};
use indicatif::{ProgressBar, ProgressStyle};
use serde_json::json;
use std::io::Write;
use std::time::Duration;
use velvet_core::show::count;
use velvet_drawer::inspect::Rehearsal;
use velvet_drawer::{Progress, UpgradedVersion};

pub(crate) fn run(arguments: &args::Rehearse) -> Result<Verdict, Failure> {
    let file = opened(&arguments.file, arguments.form == Telling::Text)?;
    let history = history(&arguments.history)?;
    // A history that cannot be used could not be tried; an upgrade that fails was.
    file.against(&history)?;
    let bar = progress_bar();
    let shown = bar.clone();
    let result = file.rehearse_history(&history, move |progress| show(&shown, progress));
    bar.finish_and_clear();
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

/// A bar that shows itself only on a terminal, and only when the work is long.
fn progress_bar() -> ProgressBar {
    let bar = ProgressBar::new(0);
    let style = ProgressStyle::with_template("{msg} {wide_bar} {human_pos} of {human_len} rows");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.enable_steady_tick(Duration::from_millis(200));
    bar
}

fn show(bar: &ProgressBar, progress: &Progress) {
    let doing = progress.doing.split(": ").next().unwrap_or_default();
    bar.set_message(doing.trim_start_matches("upgrading to ").to_owned());
    bar.set_length(progress.of.unwrap_or_default());
    bar.set_position(progress.done);
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
