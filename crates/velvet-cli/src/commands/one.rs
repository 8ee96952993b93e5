//! `velvet one`: one record in full, its links both ways, and its trail.

use super::{Opened, former, opened, say_left_out, trail};
use crate::args::{self, Telling};
use crate::failure::Failure;
use crate::lines;
use crate::terminal::{self, QUIET, STRONG, WARNING};
use serde::Serialize;
use std::io::{self, Write};
use velvet_core::exchange::show::{self, escaped};
use velvet_core::value::hex::hex;
use velvet_drawer::inspect::{File, Former, FoundColumn, Kind, OneRow, TrailEntry, TrailOf, Value, ValueRef};

/// How many characters of a text are shown.
const CHARACTERS_SHOWN: usize = 100_000;

/// How many bytes of a value are shown.
const BYTES_SHOWN: usize = 512;

/// How many hexadecimal digits of bytes stand in a line.
const DIGITS_IN_A_LINE: usize = 32;

/// To how few characters a value is broken.
const NARROWEST: usize = 20;

/// How many of its last entries the trail shows.
const ENTRIES_SHOWN: usize = 20;

pub(crate) fn run(arguments: &args::One) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    let table = file.table(&arguments.table)?;
    let (row, formerly) = match file.one(&table, &arguments.key) {
        Err(error) => {
            let formerly = file.formerly(&table, &arguments.key)?;
            match &formerly[..] {
                [] => return Err(error.into()),
                [one] if one.now.is_some() => (Some(file.one(&table, &format!("#{}", one.row))?), formerly),
                _ => (None, formerly),
            }
        }
        row => (Some(row?), Vec::new()),
    };
    match arguments.form {
        Telling::Text => {
            for former in &formerly {
                writeln!(terminal::out(), "{}", terminal::note(&former::in_words(&arguments.key, former)))?;
            }
            match (&row, &formerly[..]) {
                (Some(_), []) => {}
                (Some(_), _) => writeln!(terminal::out())?,
                (None, [one]) => trail_of(&file, &table.name, one.row)?,
                (None, _) => writeln!(terminal::out(), "To see one of them, give its row number with # before it.")?,
            }
            row.map_or(Ok(()), |row| text(&file, &row))?;
        }
        Telling::Json => as_json(&file, &table.name, row.as_ref(), &formerly)?,
    }
    Ok(say_left_out(&file, arguments.form.reader())?)
}

fn text(file: &File, row: &OneRow) -> Result<(), Failure> {
    let mut out = terminal::out();
    let number = row.number.map(|n| format!(", row {n}")).unwrap_or_default();
    writeln!(out, "{STRONG}{}{STRONG:#}{number}\n", escaped(&row.table.name))?;
    let width = row.columns.iter().map(|(c, _)| show::line(&c.name).chars().count()).max().unwrap_or(0);
    for (column, value) in &row.columns {
        let mut lines = in_full(column, value, terminal::width().map(|all| all.saturating_sub(width + 2))).into_iter();
        let name = show::line(&column.name);
        let pad = " ".repeat(width - name.chars().count().min(width));
        writeln!(out, "{QUIET}{name}{QUIET:#}{pad}  {}", lines.next().unwrap_or_default())?;
        for line in lines {
            writeln!(out, "{}  {line}", " ".repeat(width))?;
        }
    }
    if !row.links.is_empty() || row.linked_from.iter().any(|l| l.count > 0) {
        writeln!(out)?;
    }
    for link in &row.links {
        let (columns, table) = (escaped(&link.columns.join(", ")), escaped(&link.table));
        match &link.known_by {
            Some(key) => {
                writeln!(out, "{STRONG}{columns}{STRONG:#} links to {table} {}", in_words(file, &link.table, key))?
            }
            None => {
                writeln!(out, "{STRONG}{columns}{STRONG:#} {WARNING}links to a {table} that does not exist{WARNING:#}")?
            }
        }
    }
    for linking in row.linked_from.iter().filter(|l| l.count > 0) {
        let first: Vec<String> = linking.first.iter().map(|key| in_words(file, &linking.table, key)).collect();
        let more = linking.count.saturating_sub(first.len() as u64);
        let more = if more > 0 { format!("; and {more} more") } else { String::new() };
        let columns = escaped(&linking.columns.join(", "));
        writeln!(
            out,
            "Linked from {} of {STRONG}{}{STRONG:#} by {columns}: {}{more}",
            linking.count,
            escaped(&linking.table),
            first.join("; ")
        )?;
    }
    Ok(row.number.map_or(Ok(()), |number| trail_of(file, &row.table.name, number))?)
}

fn trail_of(file: &File, table: &str, row: i64) -> io::Result<()> {
    let of = TrailOf { table: Some(table.to_owned()), row: Some(row), ..TrailOf::default() };
    let mut entries = file.trail(&of).unwrap_or_default();
    let all = entries.len();
    if all == 0 {
        return Ok(());
    }
    entries.truncate(ENTRIES_SHOWN);
    entries.reverse();
    let which = match all {
        all if all > ENTRIES_SHOWN => format!(", the last {ENTRIES_SHOWN} of {all} writes; `velvet trail` shows more"),
        _ => String::new(),
    };
    write!(terminal::out(), "\nIts trail{which}:\n\n{}", terminal::fitted(trail::grid(file, &entries)))
}

/// A value in full, in lines that break between words where they are longer than `room`; nothing in it acts on the terminal.
fn in_full(column: &FoundColumn, value: &Value, room: Option<usize>) -> Vec<String> {
    let broken = |line: String| match room {
        Some(room) => lines::broken(&line, room.max(NARROWEST)).lines().map(str::to_owned).collect(),
        None => vec![line],
    };
    in_lines(column, value).into_iter().flat_map(broken).collect()
}

fn in_lines(column: &FoundColumn, value: &Value) -> Vec<String> {
    match value.as_ref() {
        ValueRef::Text(text) => {
            let end = text.char_indices().nth(CHARACTERS_SHOWN).map_or(text.len(), |(end, _)| end);
            let more = text.len() - end;
            let more = (more > 0).then(|| format!("… and {more} bytes more; --as json shows all"));
            match text[..end].contains('\n') || more.is_some() {
                true => text[..end].split('\n').map(show::line).chain(more).collect(),
                false => vec![show::shown(value.as_ref(), column.kind.as_ref()).text],
            }
        }
        ValueRef::Bytes(bytes) if bytes.len() > 12 && !matches!(column.kind, Some(Kind::Sealed { .. })) => {
            let digits = hex(&bytes[..bytes.len().min(BYTES_SHOWN)]);
            let lines = digits.as_bytes().chunks(DIGITS_IN_A_LINE).map(|l| String::from_utf8_lossy(l).into_owned());
            let more = bytes.len().saturating_sub(BYTES_SHOWN);
            let more = (more > 0).then(|| format!("… and {more} bytes more"));
            std::iter::once(format!("{} bytes:", bytes.len())).chain(lines).chain(more).collect()
        }
        value => vec![show::shown(value, column.kind.as_ref()).text],
    }
}

/// The columns and values by which a row is known, in words.
pub(super) fn in_words(file: &File, table: &str, key: &[(String, Value)]) -> String {
    let columns = file.table(table).map(|t| t.columns).unwrap_or_default();
    let kind = |name: &str| columns.iter().find(|c| c.name == name).and_then(|c| c.kind.as_ref());
    let words = key.iter().map(|(name, value)| format!("{name} {}", show::shown(value.as_ref(), kind(name)).text));
    escaped(&words.collect::<Vec<_>>().join(", "))
}

fn as_json(file: &Opened, table: &str, row: Option<&OneRow>, formerly: &[Former]) -> Result<(), Failure> {
    #[derive(Serialize)]
    struct OneAndTrail<'a> {
        record: Option<&'a OneRow>,
        formerly: &'a [Former],
        trail: Vec<TrailEntry>,
    }
    let number = match (row, formerly) {
        (Some(row), _) => row.number,
        (None, [one]) => Some(one.row),
        _ => None,
    };
    let of = TrailOf { table: Some(table.to_owned()), row: number, ..TrailOf::default() };
    let mut trail = if number.is_some() { file.trail(&of)? } else { Vec::new() };
    trail.reverse();
    Ok(file.report(OneAndTrail { record: row, formerly, trail })?)
}
