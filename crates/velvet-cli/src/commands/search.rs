//! `velvet search`: the rows in which words stand.

use super::one::in_words;
use super::{former, opened, say_left_out};
use crate::args::{self, Telling};
use crate::failure::Failure;
use crate::terminal::{self, MATCH, QUIET, STRONG};
use serde_json::json;
use std::io::Write;
use velvet_core::show;
use velvet_core::show::count;
use velvet_drawer::inspect::{File, FoundRow};

/// How many characters of a column are shown around a match.
const SHOWN: usize = 70;

pub(crate) fn run(arguments: &args::Search) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Telling::Text)?;
    let tables = arguments.table.iter().map(|word| file.table(word)).collect::<Result<Vec<_>, _>>()?;
    let words = arguments.words.join(" ");
    let limit = usize::try_from(arguments.limit).unwrap_or(usize::MAX);
    let (mut found, mut more) = (Vec::new(), false);
    let mut take = |row| {
        if found.len() == limit {
            more = true;
            return Ok(false);
        }
        found.push(row);
        Ok(true)
    };
    terminal::told(|| file.search(&words, &tables, &mut take))?;
    let formerly = former::in_tables(&file, &tables, &words)?;
    match arguments.form {
        Telling::Text => text(&file, &found, more)?,
        Telling::Json => {
            writeln!(terminal::data(), "{:#}", json!({ "rows": found, "more": more, "formerly": formerly }))?
        }
    }
    for former in formerly.iter().filter(|_| arguments.form == Telling::Text) {
        writeln!(terminal::out(), "{}", terminal::note(&former::in_words(&words, former)))?;
    }
    Ok(say_left_out(&file, arguments.form == Telling::Text)?)
}

fn text(file: &File, found: &[FoundRow], more: bool) -> Result<(), Failure> {
    let mut out = terminal::out();
    for row in found {
        writeln!(out, "{STRONG}{}{STRONG:#} {}", show::escaped(&row.table), in_words(file, &row.table, &row.known_by))?;
        for (column, marked) in &row.columns {
            write!(out, "  {QUIET}{}{QUIET:#}  ", show::escaped(column))?;
            for (part, matches) in marked.around(SHOWN).parts() {
                // What is stored in a file must not act on the terminal.
                let part = show::escaped(part);
                if matches {
                    write!(out, "{MATCH}{part}{MATCH:#}")?;
                } else {
                    write!(out, "{part}")?;
                }
            }
            writeln!(out)?;
        }
    }
    let rows = count(found.len(), "row");
    let line = if more { format!("the first {rows}; --limit shows more") } else { rows };
    let gap = if found.is_empty() { "" } else { "\n" };
    Ok(writeln!(out, "{gap}{QUIET}{line}{QUIET:#}")?)
}
