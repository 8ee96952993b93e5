//! `velvet compare`: two files, record by record.

use super::sessions::second;
use super::{Opened, opened, say_left_out};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, QUIET, STRONG, WARNING};
use serde::Serialize;
use serde_json::json;
use std::io::{self, BufWriter, Write};
use velvet_core::exchange::show::count;
use velvet_core::exchange::show::{Shown, Tone, escaped};
use velvet_drawer::Error;
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{
    Cell, ChangedCell, Comparison, Difference, File, TableComparison, TrailByRecord, TrailEntry, ValueRef,
};

/// How much of a long value is shown.
const SHOWN: usize = 60;

pub(crate) fn run(arguments: &args::Compare) -> Result<Verdict, Failure> {
    let before = opened(&arguments.before, arguments.form.reader())?;
    let after = opened(&arguments.after, arguments.form.reader())?;
    let limit = args::Limit { limit: arguments.limit }.of(arguments.form.reader());
    let comparison = match arguments.form {
        Telling::Text => text(&before, &after, limit)?,
        Telling::Json => as_json(&before, &after, limit)?,
    };
    say_left_out(&before, arguments.form.reader())?;
    say_left_out(&after, arguments.form.reader())?;
    Ok(if comparison.is_same() { Verdict::Fine } else { Verdict::Wrong })
}

fn text(before: &File, after: &File, limit: u64) -> Result<Comparison, Failure> {
    // What is shown has a limit, so it is kept until the bar is gone from the terminal.
    let mut out: Vec<u8> = Vec::new();
    // A trail that cannot be read does not keep anybody from comparing.
    let trail = after.trail_since(before).unwrap_or_default();
    let (mut at, mut told) = (String::new(), 0_u64);
    let mut each = |difference: Difference<'_>| {
        let table = difference.table();
        if at != table {
            left_out(&mut out, told, limit).map_err(Error::own)?;
            (at, told) = (table.to_owned(), 0);
            writeln!(out, "{STRONG}{}{STRONG:#}", escaped(table)).map_err(Error::own)?;
        }
        told += 1;
        if told > limit {
            return Ok(());
        }
        writeln!(out, "  {}", in_words(&difference, "", SHOWN)).map_err(Error::own)?;
        match made_by(&trail, &difference) {
            Some(by) => writeln!(out, "    {QUIET}{by}{QUIET:#}").map_err(Error::own),
            None => Ok(()),
        }
    };
    let comparison = terminal::told(|| before.compare(after, &mut each))?;
    left_out(&mut out, told, limit)?;
    if !at.is_empty() {
        writeln!(out)?;
    }
    for line in &comparison.structure {
        writeln!(out, "{WARNING}Structure:{WARNING:#} {}", escaped(line))?;
    }
    if !comparison.structure.is_empty() {
        writeln!(out)?;
    }
    let mut grid = Grid::new(["table", "added", "removed", "changed", "same", "matched by"]).long("matched by");
    for table in &comparison.tables {
        let number = |n: u64| Shown { text: n.to_string(), tone: Tone::Number };
        let matched = Shown { text: matched_by(table), tone: Tone::Plain };
        grid.row(vec![
            Shown { text: table.name.clone(), tone: Tone::Plain },
            number(table.added),
            number(table.removed),
            number(table.changed),
            number(table.same),
            matched,
        ]);
    }
    write!(out, "{}", terminal::fitted(grid))?;
    if comparison.is_same() {
        writeln!(out, "The files hold the same records.")?;
    }
    for table in comparison.tables.iter().filter(|t| t.only_order) {
        writeln!(
            out,
            "In {STRONG}{}{STRONG:#} only the order differs: the same rows were inserted in a different order, and an unsorted list shows \
             them in that order.",
            escaped(&table.name)
        )?;
    }
    terminal::out().write_all(&out)?;
    Ok(comparison)
}

fn left_out(out: &mut impl Write, told: u64, limit: u64) -> io::Result<()> {
    let more = usize::try_from(told.saturating_sub(limit)).unwrap_or(usize::MAX);
    if more > 0 {
        writeln!(out, "  {QUIET}and {}; --limit shows more{QUIET:#}", count(more, "more difference"))?;
    }
    Ok(())
}

fn matched_by(table: &TableComparison) -> String {
    match table.matched_by.as_slice() {
        [key] if key == "key" => "row number".into(),
        columns => columns.join(", "),
    }
}

/// Which session made a difference, where the trail of the file after knows.
fn made_by(trail: &TrailByRecord, difference: &Difference<'_>) -> Option<String> {
    let entry = trail.made(difference)?;
    let by = entry.session.map_or_else(|| "another program".to_owned(), |session| format!("session {session}"));
    Some(format!("by {by}, {} UTC", second(&entry.at)))
}

/// A difference in words, with the name of its table before it, and so much of each value.
pub(super) fn in_words(difference: &Difference<'_>, table: &str, most: usize) -> String {
    let cut = |shown: Shown| match shown.text.char_indices().nth(most) {
        Some((end, _)) => format!("{}…", &shown.text[..end]),
        None => shown.text,
    };
    let named = |cells: &[Cell<'_>]| {
        cells.iter().map(|cell| format!("{} {}", cell.name, cut(cell.shown()))).collect::<Vec<_>>().join(", ")
    };
    let table = if table.is_empty() { String::new() } else { format!("{table} ") };
    // Of a whole row, what is not there says nothing.
    let there = |row: &[Cell<'_>]| {
        let there: Vec<Cell<'_>> = row.iter().filter(|cell| cell.value != ValueRef::Missing).copied().collect();
        named(&there)
    };
    let words = match difference {
        Difference::Added { row, .. } => format!("+ {table}{}", there(row)),
        Difference::Removed { row, .. } => format!("- {table}{}", there(row)),
        Difference::Changed { known_by, columns, .. } => {
            let changed = |cell: &ChangedCell<'_>| {
                let (before, after) = cell.shown();
                format!("{} {} → {}", cell.name, cut(before), cut(after))
            };
            let changes: Vec<String> = columns.iter().map(changed).collect();
            format!("~ {table}{}: {}", named(known_by), changes.join("; "))
        }
    };
    escaped(&words)
}

/// One object: the differences as they are found, each with the entry of the trail that made it; then the structure and the tables.
fn as_json(before: &Opened, after: &Opened, limit: u64) -> Result<Comparison, Failure> {
    #[derive(Serialize)]
    struct Told<'a> {
        #[serde(flatten)]
        difference: Difference<'a>,
        made_by: Option<Made<'a>>,
    }
    // A trail that cannot be read does not keep anybody from comparing.
    let trail = after.trail_since(before).unwrap_or_default();
    let mut out = BufWriter::new(terminal::data());
    let (mut comma, mut at, mut told) = ("", String::new(), 0_u64);
    write!(out, "{{\"differences\":[")?;
    let comparison = before.compare(after, &mut |difference| {
        if at != difference.table() {
            (at, told) = (difference.table().to_owned(), 0);
        }
        told += 1;
        if told > limit {
            return Ok(());
        }
        let made_by = trail.made(&difference).map(Made::by);
        let line = serde_json::to_string(&Told { difference, made_by }).map_err(Error::own)?;
        write!(out, "{comma}\n  {line}").map_err(Error::own)?;
        comma = ",";
        Ok(())
    })?;
    let (structure, tables) = (json!(comparison.structure), json!(comparison.tables));
    let notes: Vec<String> = before.notes().into_iter().chain(after.notes()).collect();
    writeln!(
        out,
        "\n],\n\"structure\":{structure},\n\"tables\":{tables},\n\"same\":{},\n\"notes\":{}}}",
        comparison.is_same(),
        json!(notes)
    )?;
    out.flush()?;
    Ok(comparison)
}

/// The write that made a difference.
#[derive(Serialize)]
struct Made<'a> {
    entry: i64,
    at: &'a str,
    session: Option<i64>,
    write: Option<i64>,
}

impl Made<'_> {
    fn by(entry: &TrailEntry) -> Made<'_> {
        Made { entry: entry.number, at: &entry.at, session: entry.session, write: entry.write }
    }
}
