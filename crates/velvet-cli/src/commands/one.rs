//! `velvet one`: one record in full, its links both ways, and its trail.

use super::{opened, say_left_out, trail};
use crate::args::{self, Telling};
use crate::failure::Failure;
use crate::terminal::{self, QUIET, STRONG, WARNING};
use serde::Serialize;
use std::io::{self, Write};
use velvet_core::hex::hex;
use velvet_core::show::{self, escaped};
use velvet_drawer::inspect::{File, FoundColumn, Kind, OneRow, TrailEntry, TrailOf, Value, ValueRef};

/// How many characters of a text are shown.
const CHARACTERS_SHOWN: usize = 100_000;

/// How many bytes of a value are shown.
const BYTES_SHOWN: usize = 512;

/// How many of its last entries the trail shows.
const ENTRIES_SHOWN: u64 = 20;

pub(crate) fn run(arguments: &args::One) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Telling::Text)?;
    let table = file.table(&arguments.table)?;
    let row = file.one(&table, &arguments.key)?;
    match arguments.form {
        Telling::Text => text(&file, &row)?,
        Telling::Json => as_json(&file, &row)?,
    }
    Ok(say_left_out(&file, arguments.form == Telling::Text)?)
}

fn text(file: &File, row: &OneRow) -> Result<(), Failure> {
    let mut out = terminal::out();
    let number = row.number.map(|n| format!(", row {n}")).unwrap_or_default();
    writeln!(out, "{STRONG}{}{STRONG:#}{number}\n", escaped(&row.table.name))?;
    let width = row.columns.iter().map(|(c, _)| show::line(&c.name).chars().count()).max().unwrap_or(0);
    for (column, value) in &row.columns {
        let mut lines = in_full(column, value).into_iter();
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
                writeln!(out, "{STRONG}{columns}{STRONG:#} {WARNING}links to a {table} that is not there{WARNING:#}")?
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
    trail_of(file, row)?;
    Ok(())
}

fn trail_of(file: &File, row: &OneRow) -> io::Result<()> {
    let of =
        TrailOf { table: Some(row.table.name.clone()), key: row.number, limit: Some(ENTRIES_SHOWN), session: None };
    let entries = match (row.number, file.trail(&of)) {
        (Some(_), Ok(mut entries)) if !entries.is_empty() => {
            entries.reverse();
            entries
        }
        _ => return Ok(()),
    };
    write!(terminal::out(), "\nIts trail:\n\n{}", terminal::fitted(trail::grid(file, &entries)))
}

/// A value in full, in lines; nothing in it acts on the terminal.
fn in_full(column: &FoundColumn, value: &Value) -> Vec<String> {
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
            let lines = digits.as_bytes().chunks(64).map(|l| String::from_utf8_lossy(l).into_owned());
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

fn as_json(file: &File, row: &OneRow) -> Result<(), Failure> {
    #[derive(Serialize)]
    struct OneAndTrail<'a> {
        #[serde(flatten)]
        row: &'a OneRow,
        trail: Vec<TrailEntry>,
    }
    let of = TrailOf { table: Some(row.table.name.clone()), key: row.number, ..TrailOf::default() };
    let mut trail = if row.number.is_some() { file.trail(&of)? } else { Vec::new() };
    trail.reverse();
    Ok(terminal::json(&OneAndTrail { row, trail })?)
}
