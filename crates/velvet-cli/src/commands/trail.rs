//! `velvet trail`: what was written to records, when, by which session, and what stood there before.

use super::sessions::{say_none, second};
use super::{former, opened, say_how_many};
use crate::args::{self, Form, Reader};
use crate::failure::Failure;
use crate::rows::{Ending, writer};
use crate::terminal;
use serde::Serialize;
use serde_json::json;
use std::io::Write;
use velvet_core::exchange::show::{self, Shown, Tone, shown};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{
    Did, File, FoundColumn, FoundTable, Gap, Kind, Told, TrailEntry, TrailOf, Value, ValueRef, WrittenColumn,
};

/// How much of a value is shown.
const SHOWN: usize = 40;

pub(crate) fn run(arguments: &args::Trail) -> Result<(), Failure> {
    let reader = arguments.form.reader();
    let file = opened(&arguments.file, reader)?;
    let table = arguments.table.as_ref().map(|word| file.table(word)).transpose()?;
    let row = match (&table, &arguments.key) {
        (Some(table), Some(word)) => Some(number(&file, table, word, reader)?),
        _ => None,
    };
    let of = TrailOf {
        table: table.map(|t| t.name),
        row,
        session: arguments.session,
        did: arguments.only.map(Did::from),
        since: arguments.since.clone(),
        until: arguments.until.clone(),
        limit: None,
    };
    let any = TrailOf { limit: Some(1), ..TrailOf::default() };
    let mut entries = file.trail(&of)?;
    let all = entries.len();
    entries.truncate(arguments.limit.in_memory(reader));
    // As a story: the oldest first.
    entries.reverse();
    match arguments.form {
        Form::Table if all == 0 && of.is_part() && !file.trail(&any)?.is_empty() => {
            say_none("No entry of the trail matches; `velvet trail FILE` shows all of them.")?
        }
        Form::Table if all == 0 => {
            say_none("This file has no trail. The app keeps one from the moment it asks for it (Options::trail).")?
        }
        Form::Table => {
            write!(terminal::out(), "{}", terminal::fitted(grid(&file, &entries)))?;
            say_how_many(entries.len(), "last", Some(all), "write")?;
        }
        Form::Json => file.report(Entries { entries, all })?,
        Form::Csv => csv(&entries)?,
    }
    Ok(())
}

#[derive(Serialize)]
struct Entries {
    entries: Vec<TrailEntry>,
    all: usize,
}

/// The row number of a record; also of one that was removed, or has another own key now.
fn number(file: &File, table: &FoundTable, word: &str, reader: Reader) -> Result<i64, Failure> {
    let typed = word.strip_prefix('#').unwrap_or(word).parse::<i64>();
    match (file.one(table, word), typed) {
        (Ok(row), _) => {
            row.number.ok_or_else(|| Failure::new(format!("`{}` has no trail: its rows have no numbers", table.name)))
        }
        (Err(_), Ok(number)) => Ok(number),
        (Err(error), Err(_)) => match &file.formerly(table, word)?[..] {
            [] => Err(error.into()),
            [former, ..] => {
                if reader == Reader::Person {
                    writeln!(terminal::out(), "{}\n", terminal::note(&former::in_words(word, former)))?;
                }
                Ok(former.row)
            }
        },
    }
}

/// Entries as a table for people.
pub(super) fn grid(file: &File, entries: &[TrailEntry]) -> Grid {
    let heads = ["when (UTC)", "session", "write", "record", "what", "values"];
    let mut grid = Grid::new(heads).long("values").dispensable(&["write"]);
    for entry in entries {
        let plain = |text: String| Shown { text, tone: Tone::Plain };
        let optional = |number: Option<i64>| shown(number.map_or(ValueRef::Missing, ValueRef::Integer), None);
        let by = match (entry.session, entry.write) {
            (None, None) => plain("another program".into()),
            (session, _) => optional(session),
        };
        grid.row(vec![
            plain(second(&entry.at)),
            by,
            optional(entry.write),
            plain(record(file, entry)),
            plain(did(entry.did).into()),
            plain(columns(entry)),
        ]);
    }
    grid
}

/// A record as a person knows it.
pub(super) fn record(file: &File, entry: &TrailEntry) -> String {
    let number = format!("{} {}", entry.table, entry.row);
    let known = file.table(&entry.table).and_then(|table| file.one(&table, &format!("#{}", entry.row)));
    let own_key = known.ok().and_then(|row| {
        let own = row.columns.iter().find(|(c, _)| file.own_key(&entry.table).as_deref() == Some(c.name.as_str()))?;
        Some(show::plain(own.1.as_ref()))
    });
    own_key.map_or(number.clone(), |own_key| format!("{number} {own_key}"))
}

pub(super) fn did(did: Did) -> &'static str {
    match did {
        Did::Inserted => "inserted",
        Did::Changed => "changed",
        Did::Removed => "removed",
    }
}

/// What was written, in words.
pub(super) fn columns(entry: &TrailEntry) -> String {
    let words = |c: &WrittenColumn| {
        let told = |told: &Told| self::told(told, c.kind.as_ref());
        match entry.did {
            Did::Inserted => format!("{} {}", c.name, told(&c.after)),
            Did::Changed => format!("{} {} → {}", c.name, told(&c.before), told(&c.after)),
            Did::Removed => format!("{} {}", c.name, told(&c.before)),
        }
    };
    // Where nothing is known of a whole record, once is enough.
    if let (Did::Inserted, Some(WrittenColumn { after: unknown @ Told::NotKnown(_), .. })) =
        (entry.did, entry.columns.first())
    {
        return told(unknown, None);
    }
    // Of a whole record, what is not there says nothing.
    let says = |c: &&WrittenColumn| {
        let value = if entry.did == Did::Inserted { &c.after } else { &c.before };
        entry.did == Did::Changed || *value != Told::Value(Value::Missing)
    };
    entry.columns.iter().filter(says).map(words).collect::<Vec<_>>().join(", ")
}

fn told(told: &Told, kind: Option<&Kind>) -> String {
    match told {
        Told::Value(value) => {
            let text = shown(value.as_ref(), kind).text;
            if text.chars().count() > SHOWN { text.chars().take(SHOWN - 1).chain(['…']).collect() } else { text }
        }
        Told::NotThere => "(none)".into(),
        Told::Private => "(private)".into(),
        Told::Sealed => "(sealed)".into(),
        Told::TooLong(length) => format!("(too long to be kept: {length})"),
        Told::Unknown => "(not kept)".into(),
        Told::NotKnown(Gap::Off) => "(not known: the trail was off)".into(),
        Told::NotKnown(Gap::Upgrade) => "(not known: an upgrade followed)".into(),
        Told::NotKnown(Gap::Replaced) => "(not known: another program replaced the row)".into(),
    }
}

/// A row for each entry; the columns that were written are JSON, as in that form.
fn csv(entries: &[TrailEntry]) -> Result<(), Failure> {
    let names = ["entry", "at", "session", "write", "table", "row", "did", "columns"];
    let columns: Vec<FoundColumn> = names.map(FoundColumn::named).into();
    let mut out = writer(Form::Csv, &columns)?;
    let number = |n: Option<i64>| n.map_or(ValueRef::Missing, ValueRef::Integer);
    for entry in entries {
        out.row(&[
            ValueRef::Integer(entry.number),
            ValueRef::Text(&entry.at),
            number(entry.session),
            number(entry.write),
            ValueRef::Text(&entry.table),
            ValueRef::Integer(entry.row),
            ValueRef::Text(did(entry.did)),
            ValueRef::Text(&json!(entry)["columns"].to_string()),
        ])?;
    }
    out.end(&Ending::default())
}
