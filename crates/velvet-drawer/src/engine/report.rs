//! Telling the app's log of statements: those that are slow, or all.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use velvet_core::sealing::SEAL;

/// Which statements the app's log is told of.
#[derive(Clone, Debug, Default)]
pub(crate) struct Reporting {
    /// Who is told.
    pub(crate) to: Option<fn(&Ran<'_>)>,
    /// Those that take this long, or longer.
    pub(crate) slow: Option<Duration>,
    /// All of them.
    pub(crate) all: bool,
    /// With the values that are bound in them.
    pub(crate) values: bool,
}

/// A statement that was run.
pub(crate) struct Ran<'a> {
    pub(crate) file: &'a Path,
    pub(crate) text: &'a str,
    /// How many rows it read or changed.
    pub(crate) rows: u64,
    pub(crate) took: Duration,
    pub(crate) is_slow: bool,
}

/// Tells the app's log of the statements of one connection.
pub(crate) struct Reporter {
    reporting: Reporting,
    file: PathBuf,
}

impl Reporter {
    pub(super) fn new(reporting: &Reporting, file: &Path) -> Reporter {
        Reporter { reporting: reporting.clone(), file: file.to_owned() }
    }

    /// Of a connection that tells nothing.
    pub(super) fn none() -> Reporter {
        Reporter { reporting: Reporting::default(), file: PathBuf::new() }
    }

    /// Tells of a statement when what this returns is dropped; nothing when it may not be told of.
    #[inline]
    pub(super) fn begun<'a>(&'a self, text: &'a str, statement: &rusqlite::Statement<'_>) -> Option<Telling<'a>> {
        let tell = self.reporting.to?;
        // What is to be sealed is in the clear there.
        let tells_values = self.reporting.values && !text.contains(SEAL);
        let with_values = if tells_values { statement.expanded_sql() } else { None };
        Some(Telling { report: self, tell, text, with_values, begun: Instant::now(), rows: 0 })
    }
}

/// A statement that is being run.
pub(super) struct Telling<'a> {
    report: &'a Reporter,
    tell: fn(&Ran<'_>),
    text: &'a str,
    with_values: Option<String>,
    begun: Instant,
    /// How many rows it has read or changed.
    pub(super) rows: u64,
}

impl Drop for Telling<'_> {
    fn drop(&mut self) {
        let took = self.begun.elapsed();
        let Reporter { reporting, file } = self.report;
        let text = self.with_values.as_deref().unwrap_or(self.text);
        let is_slow = reporting.slow.is_some_and(|slow| took >= slow);
        if is_slow || reporting.all {
            (self.tell)(&Ran { file, text, rows: self.rows, took, is_slow });
        }
    }
}
