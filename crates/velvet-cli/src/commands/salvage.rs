//! `velvet salvage`: what can be saved of a damaged file.

use super::{named, one_file};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::limits::limits;
use crate::terminal::{self, QUIET, WARNING};
use serde::Serialize;
use std::io::Write;
use velvet_core::exchange::show::{Shown, Tone, line};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{Salvaged, SalvagedTable, salvage};

/// How many gaps of a table are shown.
const GAPS_SHOWN: usize = 4;

pub(crate) fn run(arguments: &args::Salvage) -> Result<Verdict, Failure> {
    let from = one_file(&arguments.file)?;
    let salvaged = terminal::told(|| salvage(from, &arguments.to, limits()))?;
    match arguments.form {
        Telling::Text => text(arguments, &salvaged)?,
        Telling::Json => terminal::json(&Report { whole: salvaged.is_whole(), salvaged: &salvaged, notes: [] })?,
    }
    Ok(if salvaged.is_whole() { Verdict::Fine } else { Verdict::Wrong })
}

fn text(arguments: &args::Salvage, salvaged: &Salvaged) -> Result<(), Failure> {
    let mut out = terminal::out();
    let heads = ["table", "recovered", "orphaned", "damaged", "refused", "unreadable rows"];
    let mut grid = Grid::new(heads).long("unreadable rows");
    for table in &salvaged.tables {
        let number = |n: u64| Shown { text: n.to_string(), tone: Tone::Number };
        let plain = |text: String| Shown { text, tone: Tone::Plain };
        grid.row(vec![
            plain(table.name.clone()),
            number(table.rows),
            number(table.orphaned),
            number(table.damaged),
            number(table.refused),
            plain(gaps(table)),
        ]);
    }
    write!(out, "{}", terminal::fitted(grid))?;
    writeln!(out)?;
    for lost in &salvaged.lost {
        // What is stored in a file must not act on the terminal.
        writeln!(out, "{WARNING}Lost:{WARNING:#} {}.", line(lost))?;
    }
    if salvaged.is_whole() {
        writeln!(out, "Everything was recovered to {}.", named(&arguments.to))?;
    } else {
        writeln!(out, "What could be read was recovered to {}.", named(&arguments.to))?;
    }
    if salvaged.tables.iter().any(|t| t.orphaned > 0) {
        let what = "Orphaned rows were found in pages that their table no longer leads to. Row numbers missing between them may be \
                    those of rows that the app had removed.";
        writeln!(out, "{QUIET}{what}{QUIET:#}")?;
    }
    writeln!(
        out,
        "{QUIET}{} was only read. Keep it until you have checked the new file.{QUIET:#}",
        named(&arguments.file)
    )?;
    Ok(())
}

fn gaps(table: &SalvagedTable) -> String {
    let gap = |(first, last): &(i64, i64)| match (*first, *last) {
        (i64::MIN, i64::MAX) => "all not found".to_owned(),
        (i64::MIN, last) => format!("up to {last}"),
        (first, i64::MAX) => format!("from {first} on"),
        (first, last) if first == last => first.to_string(),
        (first, last) => format!("{first} to {last}"),
    };
    let first: Vec<String> = table.gaps.iter().take(GAPS_SHOWN).map(gap).collect();
    match table.gaps.len().saturating_sub(GAPS_SHOWN) {
        0 if first.is_empty() => "–".into(),
        0 => first.join(", "),
        more => format!("{}, and {more} more ranges", first.join(", ")),
    }
}

/// What was saved, and whether that is all.
#[derive(Serialize)]
struct Report<'a> {
    whole: bool,
    #[serde(flatten)]
    salvaged: &'a Salvaged,
    notes: [(); 0],
}
