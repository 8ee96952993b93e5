//! `velvet trail`: what was written to records, when, by which session, and what stood there before.

use super::sessions::{say_none, second};
use super::{former, opened};
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::rows::writer;
use crate::terminal;
use std::io::Write;
use velvet_core::show::{self, Shown, Tone, shown};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{
    Did, File, FoundColumn, FoundTable, Told, TrailEntry, TrailOf, Value, ValueRef, WrittenColumn,
};

/// How much of a value is shown.
const SHOWN: usize = 40;

pub(crate) fn run(arguments: &args::Trail) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Form::Table)?;
    let table = arguments.table.as_ref().map(|word| file.table(word)).transpose()?;
    let key = match (&table, &arguments.key) {
        (Some(table), Some(word)) => Some(number(&file, table, word, arguments.form == Form::Table)?),
        _ => None,
    };
    let of = TrailOf { table: table.map(|t| t.name), key, session: arguments.session, limit: Some(arguments.limit) };
    let any = TrailOf { limit: Some(1), ..TrailOf::default() };
    let mut entries = file.trail(&of)?;
    // As a story: the oldest first.
    entries.reverse();
    match arguments.form {
        Form::Table if entries.is_empty() && of.is_part() && !file.trail(&any)?.is_empty() => {
            say_none("The trail has no entry of what was asked for; `velvet trail FILE` shows all.")?
        }
        Form::Table if entries.is_empty() => say_none(
            "No entry is kept. A trail is kept from the moment on when the app asks for one (Options::trail), for as long as it does.",
        )?,
        Form::Table => write!(terminal::out(), "{}", terminal::fitted(grid(&file, &entries)))?,
        Form::Json => {
            terminal::json(&entries)?;
        }
        Form::Csv => csv(&entries)?,
    }
    Ok(())
}

/// The row number of a record; also of one that was removed, or has another own key now.
fn number(file: &File, table: &FoundTable, word: &str, for_people: bool) -> Result<i64, Failure> {
    let typed = word.strip_prefix('#').unwrap_or(word).parse::<i64>();
    match (file.one(table, word), typed) {
        (Ok(row), _) => {
            row.number.ok_or_else(|| Failure::new(format!("`{}` keeps no trail: its rows have no numbers", table.name)))
        }
        (Err(_), Ok(number)) => Ok(number),
        (Err(error), Err(_)) => match &file.formerly(table, word)?[..] {
            [] => Err(error.into()),
            [former, ..] => {
                if for_people {
                    writeln!(terminal::out(), "{}\n", terminal::note(&former::in_words(word, former)))?;
                }
                Ok(former.row)
            }
        },
    }
}

/// Entries as a table for people.
pub(super) fn grid(file: &File, entries: &[TrailEntry]) -> Grid {
    let mut grid = Grid::new(["when (UTC)", "session", "write", "record", "was", "columns"]);
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
    let number = format!("{} {}", entry.table, entry.key);
    let known = file.table(&entry.table).and_then(|table| file.one(&table, &format!("#{}", entry.key)));
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
    let words = |c: &WrittenColumn| match entry.did {
        Did::Inserted => format!("{} {}", c.name, told(&c.after)),
        Did::Changed => format!("{} {} → {}", c.name, told(&c.before), told(&c.after)),
        Did::Removed => format!("{} {}", c.name, told(&c.before)),
    };
    // Of a whole record, what is not there says nothing.
    let says = |c: &&WrittenColumn| {
        let value = if entry.did == Did::Inserted { &c.after } else { &c.before };
        entry.did == Did::Changed || *value != Told::Value(Value::Missing)
    };
    entry.columns.iter().filter(says).map(words).collect::<Vec<_>>().join(", ")
}

fn told(told: &Told) -> String {
    match told {
        Told::Value(value) => {
            let text = shown(value.as_ref(), None).text;
            if text.chars().count() > SHOWN { text.chars().take(SHOWN - 1).chain(['…']).collect() } else { text }
        }
        Told::NotThere => "(not there)".into(),
        Told::Private => "(private)".into(),
        Told::Sealed => "(sealed)".into(),
        Told::TooLong(length) => format!("({length} long)"),
        Told::Unknown => "(unknown)".into(),
    }
}

fn csv(entries: &[TrailEntry]) -> Result<(), Failure> {
    let names = ["entry", "at", "session", "write", "table", "key", "did", "columns"];
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
            ValueRef::Integer(entry.key),
            ValueRef::Text(did(entry.did)),
            ValueRef::Text(&self::columns(entry)),
        ])?;
    }
    out.end()
}
