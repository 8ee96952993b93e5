//! `velvet sessions`: what each start of the app did.

use super::opened;
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::rows::writer;
use crate::terminal::{self, QUIET};
use std::io::{self, Write};
use velvet_core::show::{Shown, Tone, escaped, shown};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{FoundColumn, Kind, Session, SessionEnd, ValueRef};

pub(crate) fn run(arguments: &args::Sessions) -> Result<(), Failure> {
    let file = opened(&arguments.file, arguments.form == Form::Table)?;
    let sessions = file.sessions(arguments.limit)?;
    match arguments.form {
        Form::Table if sessions.is_empty() => {
            say_none("No session is kept in this file: no app of ours wrote it, or it keeps none.")?;
        }
        Form::Table => write!(terminal::out(), "{}", terminal::fitted(grid(&sessions)))?,
        Form::Json => {
            terminal::json(&sessions)?;
        }
        Form::Csv => {
            let names = [
                "session",
                "began_at",
                "noted_at",
                "app_version",
                "schema_version",
                "opened",
                "process",
                "end",
                "wrote",
                "background",
            ];
            let columns: Vec<FoundColumn> = names.map(FoundColumn::named).into();
            let mut out = writer(Form::Csv, &columns)?;
            for session in &sessions {
                let (end, wrote, background) = (end(session), wrote(session), background(session));
                out.row(&[
                    ValueRef::Integer(session.number),
                    ValueRef::Text(&session.began_at),
                    ValueRef::Text(&session.noted_at),
                    session.app_version.as_deref().map_or(ValueRef::Missing, ValueRef::Text),
                    ValueRef::Integer(session.schema_version),
                    session.opened.as_deref().map_or(ValueRef::Missing, ValueRef::Text),
                    ValueRef::Integer(session.process),
                    ValueRef::Text(&end),
                    ValueRef::Text(&wrote),
                    ValueRef::Text(&background),
                ])?;
            }
            out.end()?;
        }
    }
    Ok(())
}

/// Sessions as a table for people.
pub(super) fn grid(sessions: &[Session]) -> Grid {
    let mut grid = Grid::new([
        "session",
        "began (UTC)",
        "last noted",
        "app",
        "schema",
        "how it ended",
        "what it wrote",
        "in the background",
        "opening it",
    ]);
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
            plain(wrote(session)),
            plain(background(session)),
            optional(&session.opened),
        ]);
    }
    grid
}

/// How a session ended, in words.
pub(super) fn end(session: &Session) -> String {
    let away = |in_background: bool| if in_background { " in the background" } else { "" };
    match session.end {
        SessionEnd::Closed => "closed".into(),
        SessionEnd::Killed { found_by, in_background } => format!("killed{}, found by {found_by}", away(in_background)),
        SessionEnd::Open { in_background } => format!("not yet, or killed{}", away(in_background)),
        SessionEnd::Running { in_background } => format!("runs now{}", away(in_background)),
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
        (true, _) => "nothing that was noted".into(),
    }
}

fn background(session: &Session) -> String {
    let time = |(from, to): &(String, Option<String>)| match to {
        Some(to) => format!("{}–{}", clock(from), clock(to)),
        None => format!("since {}", clock(from)),
    };
    match session.background.as_slice() {
        [] => "never".into(),
        times => times.iter().map(time).collect::<Vec<_>>().join(", "),
    }
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
    writeln!(terminal::out(), "{QUIET}{}{QUIET:#}", terminal::wrapped(what))
}
