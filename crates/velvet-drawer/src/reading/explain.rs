//! How a selection is run.

use super::{Open, Records};
use crate::error::Error;
use std::fmt;
use velvet_core::name::quoted;
use velvet_core::statement::Select;
use velvet_core::{Fragment, Record};

/// From how many rows on reading a table whole is worth a hint.
const MANY: i64 = 1_000;

/// How a selection is run: its statement, what the engine does for it, and a hint where that is a lot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explained {
    /// The statement, with `?` where values are bound.
    pub statement: String,
    /// What the engine does, in its own words, one step each.
    pub steps: Vec<String>,
    /// Whether an index, or the row number, leads to the records. Otherwise the table is read whole.
    pub by_index: bool,
    /// What would make it faster, when a large table is read whole or sorted anew each time.
    pub hint: Option<String>,
}

impl<T: Record> Records<'_, T> {
    /// Says how the selection would be run, without running it.
    ///
    /// # Errors
    /// As [`Records::count`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { #[record(indexed)] stage: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let explained = drawer.records::<Piece>().filter(|p| p.stage.is("bisque")).explain()?;
    /// assert!(explained.by_index);
    /// let explained = drawer.records::<Piece>().filter(|p| p.grams.at_least(500)).explain()?;
    /// assert!(!explained.by_index);
    /// println!("{explained}");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn explain(self) -> Result<Explained, Error> {
        let mut statement = String::new();
        let text = |select: Select| {
            let asked = select.rows::<T>();
            statement.clone_from(&asked.text);
            Fragment::text("EXPLAIN QUERY PLAN ").and(asked)
        };
        let (steps, rows) = self.run(text, |open, rows| {
            let mut steps = Vec::new();
            while let Some(row) =
                rows.next().map_err(open.fault(|| format!("cannot explain a selection of {}", T::TABLE)))?
            {
                steps.push(row.text(3).to_owned());
            }
            Ok((steps, count::<T>(open)?))
        })?;
        let by_index = steps.iter().any(|step| step.starts_with("SEARCH "));
        let hint = hint::<T>(&steps, rows, statement.contains(" WHERE "));
        Ok(Explained { statement, steps, by_index, hint })
    }
}

fn count<T: Record>(open: Open<'_>) -> Result<i64, Error> {
    let text = format!("SELECT count(*) FROM {}", quoted(T::TABLE));
    open.connection.number(&text).map_err(open.fault(|| format!("cannot count the records of {}", T::TABLE)))
}

fn hint<T: Record>(steps: &[String], rows: i64, has_condition: bool) -> Option<String> {
    if rows < MANY {
        return None;
    }
    let table = T::TABLE;
    // A list of everything has to read everything.
    let is_read_whole = has_condition && steps.iter().any(|s| s.starts_with("SCAN ") && !s.contains("INDEX"));
    let is_sorted = steps.iter().any(|s| s.starts_with("USE TEMP B-TREE FOR ORDER BY"));
    match (is_read_whole, is_sorted) {
        (true, _) => Some(format!(
            "all {rows} rows of `{table}` are read, because no index serves the conditions; mark a field that they narrow \
             most with #[record(indexed)]"
        )),
        (false, true) => Some(format!(
            "the selected rows of `{table}` ({rows} in all) are sorted each time, because no index has this order; mark the \
             field that they are sorted by with #[record(indexed)]"
        )),
        (false, false) => None,
    }
}

impl fmt::Display for Explained {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{}", self.statement)?;
        for step in &self.steps {
            writeln!(f, "  {}", step.to_lowercase())?;
        }
        match &self.hint {
            Some(hint) => writeln!(f, "hint: {hint}"),
            None => Ok(()),
        }
    }
}
