//! How a selection is run.

use super::Records;
use crate::drawer::{Access, Scope};
use crate::engine::Rows;
use crate::error::{Cause, Error};
use std::collections::BTreeSet;
use std::fmt;
use velvet_core::statement::Select;
use velvet_core::value::name::quoted;
use velvet_core::{Fragment, Record, Value};

/// Before a statement, makes the engine explain it in place of running it.
pub(crate) const EXPLAIN: &str = "EXPLAIN QUERY PLAN ";

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

impl<T: Record, A: Access> Records<T, A> {
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
        self.explain_as(Select::rows::<T>)
    }

    /// Says how the statement that `text` makes of the selection would be run.
    pub(super) fn explain_as(self, text: impl FnOnce(Select) -> Fragment) -> Result<Explained, Error> {
        let at = self.at.clone();
        at.reading(|scope| {
            scope.doing(
                || format!("cannot explain a selection of {}", T::TABLE),
                || {
                    let has_conditions = self.select.has_conditions() || self.after.is_some();
                    let Fragment { text, values, misfit } = self.statement(scope, text)?;
                    if let Some(misfit) = misfit {
                        return Err(Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit));
                    }
                    let explain = format!("{EXPLAIN}{text}");
                    let mut explaining = scope.connection.prepare(&explain)?;
                    explaining.bind_all(values.iter().map(Value::as_ref))?;
                    Explained::of(scope, &text, has_conditions, &mut explaining.rows())
                },
            )
        })
    }
}

impl Explained {
    /// What the rows of the engine's own explanation of a statement come to.
    ///
    /// A list of everything, which has no conditions, has to read everything.
    pub(crate) fn of(
        scope: Scope<'_>,
        text: &str,
        has_conditions: bool,
        rows: &mut Rows<'_>,
    ) -> Result<Explained, Error> {
        let mut steps = Vec::new();
        rows.each(|row| {
            steps.push(row.text(3).to_owned());
            Ok::<_, Error>(())
        })?;
        let by_index = steps.iter().any(|step| step.starts_with("SEARCH "));
        let reads = scope.connection.tables_read(text)?;
        let hint = hint(scope, &reads, &steps, has_conditions)?;
        Ok(Explained { statement: text.to_owned(), steps, by_index, hint })
    }
}

/// What would help, when a large table is read whole for some of its rows, or sorted.
fn hint(
    scope: Scope<'_>,
    reads: &BTreeSet<String>,
    steps: &[String],
    has_condition: bool,
) -> Result<Option<String>, Error> {
    let is_sorted = steps.iter().any(|s| s.starts_with("USE TEMP B-TREE FOR ORDER BY"));
    let declared = scope.inner.declared.structure.tables.iter().map(|t| &t.name);
    for name in declared.filter(|name| reads.contains(*name)) {
        let begins = |step: &String, word: &str| {
            let rest = step.strip_prefix(word).and_then(|rest| rest.strip_prefix(name.as_str()));
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(' '))
        };
        let is_read_whole = has_condition && steps.iter().any(|s| begins(s, "SCAN ") && !s.contains("INDEX"));
        if !(is_read_whole || is_sorted) {
            continue;
        }
        let rows = scope.connection.number(&format!("SELECT count(*) FROM {}", quoted(name)))?;
        if rows < MANY {
            continue;
        }
        return Ok(Some(if is_read_whole {
            format!(
                "all {rows} rows of `{name}` are read, because no index serves the conditions; mark a field that they \
                 narrow most with #[record(indexed)]"
            )
        } else {
            format!(
                "the selected rows of `{name}` ({rows} in all) are sorted each time, because no index has this order; mark \
                 the field that they are sorted by with #[record(indexed)]"
            )
        }));
    }
    Ok(None)
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
