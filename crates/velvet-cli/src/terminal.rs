//! What the output goes to: how wide it is, and whether it takes colour.

use crate::clean::Clean;
use crate::pager::WIDTH;
use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use std::io::{self, IsTerminal, Stderr, Stdout, Write};
use std::time::Duration;
use velvet_core::show::line;
use velvet_drawer::Progress;
use velvet_drawer::grid::Grid;

/// What went wrong.
pub(crate) const ALARM: Style = AnsiColor::Red.on_default().bold();
/// What deserves a second look.
pub(crate) const WARNING: Style = AnsiColor::Yellow.on_default();
/// What a reader looks for first.
pub(crate) const STRONG: Style = Style::new().bold();
/// What was looked for.
pub(crate) const MATCH: Style = AnsiColor::Red.on_default().bold().underline();
/// What may be passed over.
pub(crate) const QUIET: Style = Style::new().dimmed();

/// Standard output for people.
pub(crate) fn out() -> Clean<AutoStream<Stdout>> {
    Clean::new(anstream::stdout())
}

/// Standard error, for people.
pub(crate) fn err() -> Clean<AutoStream<Stderr>> {
    Clean::new(anstream::stderr())
}

/// Whether standard output goes to a person's eyes.
pub(crate) fn is_looked_at() -> bool {
    io::stdout().is_terminal() || std::env::var_os(WIDTH).is_some()
}

/// Standard output for programs: byte for byte, unless a person looks at it.
pub(crate) fn data() -> Box<dyn Write> {
    if is_looked_at() { Box::new(Clean::new(io::stdout())) } else { Box::new(io::stdout()) }
}

/// Says on standard error why a command could not be done: on one line, or wrapped between words on a terminal.
pub(crate) fn say_failure(message: &str) {
    let mut error = err();
    let words = format!("velvet: {message}");
    let words = match terminal_size::terminal_size_of(io::stderr()).filter(|_| io::stderr().is_terminal()) {
        Some((width, _)) => textwrap::fill(&words, usize::from(width.0)),
        None => words,
    };
    let painted = words.replacen("velvet:", &format!("{ALARM}velvet:{ALARM:#}"), 1);
    // Where even this cannot be said, the exit code has to do.
    let _ = writeln!(error, "{painted}");
}

/// How many characters fit on a line of the terminal; nothing when the output goes elsewhere.
fn width() -> Option<usize> {
    if let Some(width) = std::env::var(WIDTH).ok().and_then(|width| width.parse().ok()) {
        return Some(width);
    }
    if !io::stdout().is_terminal() {
        return None;
    }
    terminal_size::terminal_size().map(|(width, _)| usize::from(width.0))
}

/// Runs `work`, and tells on a terminal how far it has come, only when it is long.
pub(crate) fn told<R>(work: impl FnOnce() -> R) -> R {
    let style = |template| ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_spinner());
    let (counting, part) =
        (style("{spinner} {msg}: {human_pos}"), style("{spinner} {msg}: {human_pos} of {human_len}"));
    let bar = ProgressBar::no_length().with_style(style("{spinner}"));
    bar.enable_steady_tick(Duration::from_millis(200));
    let shown = bar.clone();
    let show = move |progress: &Progress| {
        shown.set_style(if progress.of.is_some() { part.clone() } else { counting.clone() });
        // What is stored in a file must not act on the terminal.
        shown.set_message(line(&progress.doing));
        shown.set_length(progress.of.unwrap_or_default());
        shown.set_position(progress.done);
    };
    let result = Progress::told(show, work);
    bar.finish_and_clear();
    result
}

/// A sentence that deserves a second look, between words on the lines of a terminal.
pub(crate) fn note(sentence: &str) -> String {
    wrapped(&format!("Note: {sentence}.")).replacen("Note:", &format!("{WARNING}Note:{WARNING:#}"), 1)
}

/// Text that breaks between words on the lines of a terminal.
pub(crate) fn wrapped(text: &str) -> String {
    width().map_or_else(|| text.to_owned(), |width| textwrap::fill(text, width))
}

/// A table as it suits the output: cut to its width, and painted where it takes colour.
pub(crate) fn fitted(grid: Grid) -> Grid {
    let paints = anstream::AutoStream::choice(&io::stdout()) != ColorChoice::Never;
    grid.fit(width()).paint(paints)
}

/// Writes a report as JSON.
pub(crate) fn json(report: &impl Serialize) -> io::Result<()> {
    let mut out = data();
    serde_json::to_writer_pretty(&mut out, report)?;
    writeln!(out)
}
