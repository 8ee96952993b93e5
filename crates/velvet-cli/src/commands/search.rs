//! `velvet search`: the rows that contain some words.

use super::one::in_words;
use super::{former, opened, say_how_many, say_left_out};
use crate::args::{self, Telling};
use crate::failure::Failure;
use crate::terminal::{self, MATCH, QUIET, STRONG};
use serde::Serialize;
use std::io::Write;
use velvet_core::exchange::show;
use velvet_drawer::inspect::{File, Former, FoundRow};

/// How many characters of a column are shown around a match.
const SHOWN: usize = 70;

pub(crate) fn run(arguments: &args::Search) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let tables = arguments.table.iter().map(|word| file.table(word)).collect::<Result<Vec<_>, _>>()?;
    let words = arguments.words.join(" ");
    let limit = arguments.limit.in_memory(arguments.form.reader());
    let (mut found, mut all) = (Vec::new(), 0);
    let mut take = |row| {
        all += 1;
        if found.len() < limit {
            found.push(row);
        }
        Ok(true)
    };
    terminal::told(|| file.search(&words, &tables, &mut take))?;
    let formerly = former::in_tables(&file, &tables, &words)?;
    match arguments.form {
        Telling::Text => text(&file, &found, all)?,
        Telling::Json => file.report(Found { rows: &found, all, formerly: &formerly })?,
    }
    for former in formerly.iter().filter(|_| arguments.form == Telling::Text) {
        writeln!(terminal::out(), "{}", terminal::note(&former::in_words(&words, former)))?;
    }
    Ok(say_left_out(&file, arguments.form.reader())?)
}

#[derive(Serialize)]
struct Found<'a> {
    rows: &'a [FoundRow],
    all: usize,
    formerly: &'a [Former],
}

fn text(file: &File, found: &[FoundRow], all: usize) -> Result<(), Failure> {
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
    drop(out);
    Ok(say_how_many(found.len(), "first", Some(all), "row")?)
}
