//! `velvet sessions`: what each start of the app did.

use super::{opened, say_how_many};
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::rows::{Ending, writer};
use crate::terminal::{self, QUIET};
use serde::Serialize;
use serde_json::{Value as Json, json};
use std::io::{self, Write};
use velvet_core::exchange::show::{Shown, Tone, escaped, shown};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{FoundColumn, Kind, Session, SessionEnd, Value, ValueRef};

pub(crate) fn run(arguments: &args::Sessions) -> Result<(), Failure> {
    let reader = arguments.form.reader();
    let file = opened(&arguments.file, reader)?;
    let mut sessions = file.sessions(u64::MAX)?;
    let all = sessions.len();
    sessions.drain(..all.saturating_sub(arguments.limit.in_memory(reader)));
    match arguments.form {
        Form::Table if all == 0 => {
            say_none(
                "This file has no sessions: it was not written by Velvet Drawer, or the app has turned them off.",
            )?;
        }
        Form::Table => {
            write!(terminal::out(), "{}", terminal::fitted(grid(&sessions)))?;
            say_how_many(sessions.len(), "last", Some(all), "session")?;
        }
        Form::Json => file.report(Sessions { sessions, all })?,
        Form::Csv => csv(&sessions)?,
    }
    Ok(())
}

#[derive(Serialize)]
struct Sessions {
    sessions: Vec<Session>,
    all: usize,
}

/// A row for each session; what is nested in one is JSON, as in that form.
fn csv(sessions: &[Session]) -> Result<(), Failure> {
    let names = [
        "session",
        "began_at",
        "noted_at",
        "app_version",
        "schema_version",
        "opened",
        "process",
        "end",
        "found_by",
        "in_background",
        "wrote",
        "background",
    ];
    let columns: Vec<FoundColumn> = names.map(FoundColumn::named).into();
    let mut out = writer(Form::Csv, &columns)?;
    for session in sessions {
        let json = json!(session);
        let fields = names.map(|name| match &json[name] {
            Json::Null => Value::Missing,
            Json::Bool(yes) => Value::Integer((*yes).into()),
            Json::Number(number) => number.as_i64().map_or(Value::Missing, Value::Integer),
            Json::String(text) => Value::Text(text.clone()),
            nested => Value::Text(nested.to_string()),
        });
        out.row(&fields.each_ref().map(Value::as_ref))?;
    }
    out.end(&Ending::default())
}

/// Sessions as a table for people.
pub(super) fn grid(sessions: &[Session]) -> Grid {
    let heads = ["session", "began (UTC)", "seen", "app", "schema", "ended", "background", "opening", "wrote"];
    let mut grid = Grid::new(heads).long("wrote").dispensable(&["schema", "seen", "background", "opening"]);
    for session in sessions {
        let plain = |text: String| Shown { text, tone: Tone::Plain };
        let optional = |text: &Option<String>| shown(text.as_deref().map_or(ValueRef::Missing, ValueRef::Text), None);
        grid.row(vec![
            Shown { text: session.number.to_string(), tone: Tone::Number },
            plain(second(&session.began_at)),
            plain(clock(&session.noted_at)),
            optional(&session.app_version),
            Shown { text: session.schema_version.to_string(), tone: Tone::Number },
            plain(end(session)),
            optional(&background(session)),
            optional(&session.opened),
            plain(wrote(session)),
        ]);
    }
    grid
}

/// How a session ended, in words.
pub(super) fn end(session: &Session) -> String {
    let away = |in_background: bool| if in_background { ", in background" } else { "" };
    match session.end {
        SessionEnd::Closed => "closed".into(),
        SessionEnd::Killed { found_by, in_background } => format!("killed{}, found by {found_by}", away(in_background)),
        SessionEnd::Open { in_background } => format!("open: running or killed{}", away(in_background)),
        SessionEnd::Running { in_background } => format!("running now{}", away(in_background)),
        _ => "unknown".into(),
    }
}

/// What a session wrote, in words.
pub(super) fn wrote(session: &Session) -> String {
    let tables = session.wrote.iter().map(|w| {
        let counts = [(w.inserted, "+"), (w.changed, "~"), (w.removed, "-")];
        let counts: Vec<String> = counts.iter().filter(|(n, _)| *n > 0).map(|(n, sign)| format!("{sign}{n}")).collect();
        let at_least = if w.is_at_least { "at least " } else { "" };
        format!("{} {at_least}{}", w.table, counts.join(" "))
    });
    let words = tables.collect::<Vec<_>>().join(", ");
    match (words.is_empty(), session.end) {
        (false, _) => words,
        (true, SessionEnd::Closed) => "nothing".into(),
        (true, _) => "nothing noted".into(),
    }
}

fn background(session: &Session) -> Option<String> {
    let time = |(from, to): &(String, Option<String>)| match to {
        Some(to) => format!("{}–{}", clock(from), clock(to)),
        None => format!("since {}", clock(from)),
    };
    let times: Vec<String> = session.background.iter().map(time).collect();
    (!times.is_empty()).then(|| times.join(", "))
}

/// A time stamp to the second, without its zone.
pub(super) fn second(stamp: &str) -> String {
    let text = shown(ValueRef::Text(stamp), Some(&Kind::Timestamp)).text;
    text.split('.').next().unwrap_or(&text).trim_end_matches('Z').to_owned()
}

/// The time of day in a time stamp, to the second.
pub(super) fn clock(stamp: &str) -> String {
    let text = second(stamp);
    text.split_once(' ').map_or(text.clone(), |(_, clock)| clock.to_owned())
}

/// A session in a line, for the overview.
pub(super) fn line(session: &Session) -> String {
    let app = session.app_version.as_ref().map(|a| format!(" app {a},")).unwrap_or_default();
    let line = format!(
        "{}:{app} began {}, {}; wrote {}",
        session.number,
        second(&session.began_at),
        end(session),
        wrote(session)
    );
    escaped(&line)
}

/// A note that what is kept goes no further back.
pub(super) fn say_none(what: &str) -> io::Result<()> {
    writeln!(terminal::out(), "{QUIET}{what}{QUIET:#}")
}
