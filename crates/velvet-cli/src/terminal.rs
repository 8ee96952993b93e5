//! What the output goes to: how wide it is, and whether it takes colour.

use crate::clean::Clean;
use crate::lines::Lines;
use crate::pager::WIDTH;
use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use indicatif::{HumanCount, ProgressBar, ProgressStyle};
use serde::Serialize;
use std::io::{self, IsTerminal, Stderr, Stdout, Write};
use std::sync::OnceLock;
use std::time::Duration;
use velvet_core::exchange::show::line;
use velvet_drawer::Progress;
use velvet_drawer::grid::Grid;

/// What went wrong.
pub(crate) const ALARM: Style = AnsiColor::Red.on_default().bold();
/// What deserves a second look.
pub(crate) const WARNING: Style = AnsiColor::Magenta.on_default().bold();
/// What a reader looks for first.
pub(crate) const STRONG: Style = Style::new().bold();
/// What was looked for.
pub(crate) const MATCH: Style = AnsiColor::Red.on_default().bold().underline();
/// What may be passed over.
pub(crate) const QUIET: Style = Style::new().dimmed();

/// Below this many characters no text can be read, so what says so is not believed.
const NARROWEST: usize = 20;

/// Whether no column of a table is left out.
static EVERY_COLUMN: OnceLock<bool> = OnceLock::new();

/// Leaves out no column of a table.
pub(crate) fn show_every_column(every: bool) {
    // It is said once, before anything is shown.
    let _ = EVERY_COLUMN.set(every);
}

/// Standard output for people.
pub(crate) fn out() -> Clean<Lines<AutoStream<Stdout>>> {
    Clean::new(Lines::new(anstream::stdout(), width()))
}

/// Standard error, for people.
pub(crate) fn err() -> Clean<Lines<AutoStream<Stderr>>> {
    let of_terminal = || terminal_size::terminal_size_of(io::stderr()).filter(|_| io::stderr().is_terminal());
    let width = said_width().or_else(|| of_terminal().map(|(width, _)| usize::from(width.0)));
    Clean::new(Lines::new(anstream::stderr(), width))
}

/// Whether standard output goes to a person's eyes.
pub(crate) fn is_looked_at() -> bool {
    io::stdout().is_terminal() || std::env::var_os(WIDTH).is_some()
}

/// Standard output for programs: byte for byte, unless a person looks at it.
pub(crate) fn data() -> Box<dyn Write> {
    if is_looked_at() { Box::new(Clean::new(io::stdout())) } else { Box::new(io::stdout()) }
}

/// Says on standard error why a command could not be done.
pub(crate) fn say_failure(message: &str) {
    // Where even this cannot be said, the exit code has to do.
    let _ = writeln!(err(), "{ALARM}velvet:{ALARM:#} {message}");
}

/// The width that the surroundings say.
fn said_width() -> Option<usize> {
    std::env::var("COLUMNS").ok().and_then(|width| width.parse().ok()).filter(|width| *width >= NARROWEST)
}

/// How many characters fit on a line; nothing when the output goes to no terminal, and nothing else says it.
pub(crate) fn width() -> Option<usize> {
    let of_pager = || std::env::var(WIDTH).ok().and_then(|width| width.parse().ok());
    let of_terminal = || terminal_size::terminal_size().filter(|_| io::stdout().is_terminal());
    said_width().or_else(of_pager).or_else(|| of_terminal().map(|(width, _)| usize::from(width.0)))
}

/// Runs `work`, and tells on a terminal how far it has come, only when it is long.
pub(crate) fn told<R>(work: impl FnOnce() -> R) -> R {
    let style = |template| ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_spinner());
    // The message is cut where it is wider than the terminal.
    let bar = ProgressBar::no_length().with_style(style("{spinner} {wide_msg}"));
    bar.enable_steady_tick(Duration::from_millis(200));
    let shown = bar.clone();
    let show = move |progress: &Progress| {
        let of = progress.of.map(|of| format!(" of {}", HumanCount(of))).unwrap_or_default();
        let done = HumanCount(rounded(progress.done));
        // What is stored in a file must not act on the terminal.
        shown.set_message(format!("{done}{of}: {}", line(&progress.doing)));
    };
    let result = Progress::told(show, work);
    bar.finish_and_clear();
    result
}

/// A number that can be read while it changes: three digits, and zeros.
fn rounded(number: u64) -> u64 {
    let unit = 10_u64.pow(number.checked_ilog10().unwrap_or(0).saturating_sub(2));
    number / unit * unit
}

/// A sentence that deserves a second look.
pub(crate) fn note(sentence: &str) -> String {
    format!("{WARNING}Note:{WARNING:#} {sentence}.")
}

/// A table as it suits the output: fitted to its width, and painted where it takes colour.
pub(crate) fn fitted(grid: Grid) -> Grid {
    let paints = anstream::AutoStream::choice(&io::stdout()) != ColorChoice::Never;
    let every = EVERY_COLUMN.get().copied().unwrap_or_default();
    grid.fit(width()).every_column(every).all_with("--every-column shows them").paint(paints)
}

/// Writes a report as JSON.
pub(crate) fn json(report: &impl Serialize) -> io::Result<()> {
    let mut out = data();
    serde_json::to_writer_pretty(&mut out, report)?;
    writeln!(out)
}

#[cfg(test)]
mod tests {
    use super::rounded;

    #[test]
    fn a_number_that_changes_has_three_digits_and_zeros() {
        assert_eq!([0, 7, 999, 4861, 99_999].map(rounded), [0, 7, 999, 4860, 99_900]);
    }
}
