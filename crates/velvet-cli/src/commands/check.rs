//! `velvet check`: whether a file is sound.

use super::opened;
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, ALARM, QUIET};
use serde::Serialize;
use std::io::Write;
use velvet_core::exchange::show;
use velvet_core::exchange::show::count;
use velvet_drawer::inspect::{Checked, Incomplete, ProblemKind};

pub(crate) fn run(arguments: &args::Check) -> Result<Verdict, Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let reasons = &file.reasons;
    let checked = terminal::told(|| file.check())?;
    match arguments.form {
        Telling::Text => text(&checked, reasons)?,
        Telling::Json => file.report(Report { sound: checked.is_sound(), checked: &checked })?,
    }
    // What is only possible, of any file that is not in use, is said and does not count.
    let is_whole = !reasons.iter().any(|reason| reason.is_told_by_file);
    Ok(if checked.is_sound() && is_whole { Verdict::Fine } else { Verdict::Wrong })
}

fn text(checked: &Checked, reasons: &[Incomplete]) -> Result<(), Failure> {
    let mut out = terminal::out();
    let rows = count(usize::try_from(checked.rows).unwrap_or(usize::MAX), "row");
    if checked.is_sound() {
        // What a value should be is known of our own files only.
        let line = match checked.rows {
            0 => "Sound: pages, indexes and foreign keys.".to_owned(),
            _ => format!("Sound: pages, indexes, links and bookkeeping; {rows} checked, value by value."),
        };
        writeln!(
            out,
            "{}{line}",
            if reasons.is_empty() { "" } else { "What is here is sound, but something may be missing. " }
        )?;
        return Ok(());
    }
    for problem in &checked.problems {
        // What is stored in a file must not act on the terminal.
        writeln!(out, "{ALARM}{}:{ALARM:#} {}", word(problem.kind), show::line(&problem.what))?;
    }
    let problems = count(checked.problems.len(), "problem");
    let more = if checked.more > 0 { format!(", and {} more of the same kinds", checked.more) } else { String::new() };
    writeln!(out, "{QUIET}{problems}{more}; {rows} checked, value by value. The file was only read.{QUIET:#}")?;
    Ok(())
}

fn word(kind: ProblemKind) -> &'static str {
    match kind {
        ProblemKind::Pages => "damage",
        ProblemKind::Structure => "structure",
        ProblemKind::Bookkeeping => "bookkeeping",
        ProblemKind::Link => "link",
        ProblemKind::Value => "value",
        ProblemKind::SearchIndex => "search index",
        ProblemKind::Attachment => "attachment",
        ProblemKind::SetAside => "set aside",
        _ => "other",
    }
}

/// What a check found.
#[derive(Serialize)]
struct Report<'a> {
    sound: bool,
    #[serde(flatten)]
    checked: &'a Checked,
}
