//! `velvet compare`: two files, record by record.

use super::sessions::second;
use super::{opened, say_left_out};
use crate::args::{self, Telling};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, QUIET, STRONG, WARNING};
use serde_json::json;
use std::collections::HashMap;
use std::io::{self, BufWriter, Write};
use velvet_core::show::count;
use velvet_core::show::{Shown, Tone, escaped, shown};
use velvet_drawer::Error;
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{Comparison, Difference, File, Kind, TableComparison, ValueRef};

/// How much of a long value is shown.
const SHOWN: usize = 60;

/// A column and its value.
type Cell<'a> = (&'a str, ValueRef<'a>);

pub(crate) fn run(arguments: &args::Compare) -> Result<Verdict, Failure> {
    let before = opened(&arguments.before, arguments.form == Telling::Text)?;
    let after = opened(&arguments.after, arguments.form == Telling::Text)?;
    let comparison = match arguments.form {
        Telling::Text => text(&before, &after, arguments.limit)?,
        Telling::Json => as_json(&before, &after)?,
    };
    say_left_out(&before, arguments.form == Telling::Text)?;
    say_left_out(&after, arguments.form == Telling::Text)?;
    Ok(if comparison.is_same() { Verdict::Fine } else { Verdict::Wrong })
}

fn text(before: &File, after: &File, limit: u64) -> Result<Comparison, Failure> {
    // What is shown has a limit, so it is kept until the bar is gone from the terminal.
    let mut out: Vec<u8> = Vec::new();
    let mut kinds = Kinds { before, of: HashMap::new() };
    let (mut at, mut told) = (String::new(), 0_u64);
    let mut each = |difference: Difference<'_>| {
        let table = match &difference {
            Difference::Added { table, .. } | Difference::Removed { table, .. } | Difference::Changed { table, .. } => {
                *table
            }
        };
        if at != table {
            left_out(&mut out, told, limit).map_err(Error::own)?;
            (at, told) = (table.to_owned(), 0);
            writeln!(out, "{STRONG}{}{STRONG:#}", escaped(table)).map_err(Error::own)?;
        }
        told += 1;
        if told > limit {
            return Ok(());
        }
        write_difference(&mut out, &difference, &mut kinds).map_err(Error::own)?;
        match made_by(after, &difference) {
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
    let mut grid = Grid::new(["table", "added", "removed", "changed", "same", "rows are matched by"]);
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
            "In {STRONG}{}{STRONG:#} only the order differs: the same rows were inserted in another one, so a list that is not sorted \
             shows them otherwise.",
            escaped(&table.name)
        )?;
    }
    terminal::out().write_all(&out)?;
    Ok(comparison)
}

fn left_out(out: &mut impl Write, told: u64, limit: u64) -> io::Result<()> {
    let more = usize::try_from(told.saturating_sub(limit)).unwrap_or(usize::MAX);
    if more > 0 {
        writeln!(out, "  {QUIET}and {}; --limit shows more{QUIET:#}", count(more, "further difference"))?;
    }
    Ok(())
}

fn matched_by(table: &TableComparison) -> String {
    match table.matched_by.as_slice() {
        [key] if key == "key" => "row number".into(),
        columns => columns.join(", "),
    }
}

/// What the columns of a table hold, where the file says.
struct Kinds<'f> {
    before: &'f File,
    of: HashMap<String, HashMap<String, Kind>>,
}

impl Kinds<'_> {
    fn shown(&mut self, table: &str, (column, value): Cell<'_>) -> String {
        if !self.of.contains_key(table) {
            let columns = self.before.table(table).map(|t| t.columns).unwrap_or_default();
            let kinds = columns.into_iter().filter_map(|c| Some((c.name, c.kind?))).collect();
            self.of.insert(table.to_owned(), kinds);
        }
        let text = shown(value, self.of.get(table).and_then(|kinds| kinds.get(column))).text;
        match text.char_indices().nth(SHOWN) {
            Some((end, _)) => format!("{}…", &text[..end]),
            None => text,
        }
    }

    fn named(&mut self, table: &str, cells: &[Cell<'_>]) -> String {
        let cells: Vec<String> = cells.iter().map(|cell| format!("{} {}", cell.0, self.shown(table, *cell))).collect();
        escaped(&cells.join(", "))
    }
}

fn write_difference(out: &mut impl Write, difference: &Difference<'_>, kinds: &mut Kinds<'_>) -> io::Result<()> {
    match difference {
        Difference::Added { table, row, .. } => writeln!(out, "  + {}", kinds.named(table, row)),
        Difference::Removed { table, row, .. } => writeln!(out, "  - {}", kinds.named(table, row)),
        Difference::Changed { table, known_by, columns } => {
            let mut changes = Vec::new();
            for (column, old, new) in *columns {
                let (old, new) = (kinds.shown(table, (column, *old)), kinds.shown(table, (column, *new)));
                changes.push(format!("{column} {old} → {new}"));
            }
            writeln!(out, "  ~ {}: {}", kinds.named(table, known_by), escaped(&changes.join("; ")))
        }
    }
}

/// Which session made a difference, where the trail of the file after knows.
fn made_by(after: &File, difference: &Difference<'_>) -> Option<String> {
    let entry = after.made(difference).ok()??;
    let by = entry.session.map_or_else(|| "another program".to_owned(), |session| format!("session {session}"));
    Some(format!("by {by}, {} UTC", second(&entry.at)))
}

/// A difference in words.
pub(super) fn in_words(difference: &Difference<'_>) -> String {
    let named = |cells: &[Cell<'_>]| {
        let cells: Vec<String> =
            cells.iter().map(|(name, value)| format!("{name} {}", shown(*value, None).text)).collect();
        cells.join(", ")
    };
    let words = match difference {
        Difference::Added { table, row, .. } => format!("+ {table}: {}", named(row)),
        Difference::Removed { table, row, .. } => format!("- {table}: {}", named(row)),
        Difference::Changed { table, known_by, columns } => {
            let changes: Vec<String> = columns
                .iter()
                .map(|(name, old, new)| format!("{name} {} → {}", shown(*old, None).text, shown(*new, None).text))
                .collect();
            format!("~ {table} {}: {}", named(known_by), changes.join("; "))
        }
    };
    escaped(&words)
}

/// One object: the differences as they are found, then the structure and the tables.
fn as_json(before: &File, after: &File) -> Result<Comparison, Failure> {
    let mut out = BufWriter::new(terminal::data());
    let mut comma = "";
    write!(out, "{{\n\"differences\": [")?;
    let comparison = before.compare(after, &mut |difference| {
        let line = serde_json::to_string(&difference).map_err(Error::own)?;
        write!(out, "{comma}\n  {line}").map_err(Error::own)?;
        comma = ",";
        Ok(())
    })?;
    let (structure, tables) = (json!(comparison.structure), json!(comparison.tables));
    writeln!(out, "\n],\n\"structure\": {structure},\n\"tables\": {tables},\n\"same\": {}\n}}", comparison.is_same())?;
    out.flush()?;
    Ok(comparison)
}
