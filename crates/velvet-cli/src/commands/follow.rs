//! `velvet follow`: what a running app writes, as it does.

use super::sessions::{clock, line};
use super::{compare, named, one_file, trail};
use crate::args::{self, Telling};
use crate::failure::Failure;
use crate::limits::limits;
use crate::terminal::{self, QUIET, STRONG};
use serde_json::json;
use std::io::Write;
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::Error;
use velvet_drawer::inspect::{File, Following, Happened};

/// How often to look.
const PAUSE: Duration = Duration::from_millis(200);

pub(crate) fn run(arguments: &args::Follow) -> Result<(), Failure> {
    let path = one_file(&arguments.file)?;
    let mut following = Following::begin(&path, limits())?;
    if arguments.form == Telling::Text {
        writeln!(
            terminal::out(),
            "{QUIET}Following {}: new writes appear here. Press Ctrl-C to stop.{QUIET:#}",
            named(&path)
        )?;
    }
    let begun = Instant::now();
    let until = arguments.seconds.map(Duration::from_secs);
    while until.is_none_or(|until| begun.elapsed() < until) && !limits().cancel.is_cancelled() {
        thread::sleep(PAUSE);
        following.news(&mut |happened| {
            let told = match arguments.form {
                Telling::Text => text(&path, &happened),
                Telling::Json => as_json(&happened),
            };
            let mut out: Box<dyn Write> =
                if arguments.form == Telling::Text { Box::new(terminal::out()) } else { terminal::data() };
            writeln!(out, "{told}").and_then(|()| out.flush()).map_err(Error::own)
        })?;
    }
    Ok(())
}

fn text(path: &std::path::Path, happened: &Happened<'_>) -> String {
    let now = clock(&format!("{:.9}", jiff::Timestamp::now()));
    match happened {
        Happened::Session(session) => format!("{QUIET}{now}{QUIET:#}  session {}", line(session)),
        Happened::Trail(entry) => {
            let by = entry.session.map_or_else(|| "another program".to_owned(), |number| format!("session {number}"));
            let record = File::open_within(path, limits())
                .map_or_else(|_| format!("{} {}", entry.table, entry.row), |file| trail::record(&file, entry));
            let columns = trail::columns(entry);
            format!(
                "{QUIET}{}{QUIET:#}  {by} {} {STRONG}{record}{STRONG:#}  {columns}",
                clock(&entry.at),
                trail::did(entry.did)
            )
        }
        Happened::Differs(difference) => {
            format!("{QUIET}{now}{QUIET:#}  {}", compare::in_words(difference, difference.table(), usize::MAX))
        }
        Happened::Structure(what) => format!("{QUIET}{now}{QUIET:#}  {what}"),
    }
}

/// A line of JSON.
fn as_json(happened: &Happened<'_>) -> String {
    match happened {
        Happened::Session(session) => json!({ "session": session }),
        Happened::Trail(entry) => json!({ "written": entry }),
        Happened::Differs(difference) => json!({ "written": difference }),
        Happened::Structure(what) => json!({ "structure": what }),
    }
    .to_string()
}
