//! The rows of a table: filtered, sorted, some columns, a range.

use super::file::{File, FoundColumn, FoundTable, literal};
use super::words::meant;
use crate::engine::{Fault, FaultKind};
use crate::error::{Cause, Error};
use velvet_core::ValueRef;
use velvet_core::schema::structure::Kind;
use velvet_core::value::name::{nearest, quoted};

/// Which rows of a table to read, and what of them.
#[derive(Clone, Debug, Default)]
pub struct Page {
    /// A condition in SQL, such as `grams > 500 and stage = 'bisque'`.
    pub filter: Option<String>,
    /// Columns to sort by, each with ` desc` behind it for largest first, and ` declared` for the order in which the choices of a
    /// column are declared. In the order of insertion when empty.
    pub sort: Vec<String>,
    /// Whether to put rows that are equal in that, or all where it is empty, in the order of the records' own keys, or of the primary
    /// key, rather than of insertion.
    pub by_own_key: bool,
    /// How many rows at most.
    pub limit: Option<u64>,
    /// How many rows to leave out at the start.
    pub offset: u64,
    /// The columns to read; all when empty.
    pub columns: Vec<String>,
}

impl File {
    /// The columns of `table` that `page` reads, in order.
    ///
    /// # Errors
    /// When a word means no column, or several ([`Error::is_bad_query`]).
    pub fn columns(&self, table: &FoundTable, page: &Page) -> Result<Vec<FoundColumn>, Error> {
        if page.columns.is_empty() {
            return Ok(table.columns.clone());
        }
        page.columns.iter().map(|word| self.column(table, word).cloned()).collect()
    }

    /// Calls `each` with the values of every row that `page` selects.
    ///
    /// # Errors
    /// When the condition or an order does not fit the table ([`Error::is_bad_query`]), the file cannot be read, and
    /// what `each` returns.
    pub fn rows(
        &self,
        table: &FoundTable,
        page: &Page,
        each: &mut dyn FnMut(&[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let mut is_begun = false;
        let result = self.rows_with(table, page, false, &mut |row| {
            is_begun = true;
            each(row)
        });
        let columns = self.columns(table, page)?;
        match result {
            Err(error) if !is_begun && error.is_beyond_bounds() && columns.iter().any(|c| c.is_computed) => {
                let computed: Vec<&str> = columns.iter().filter(|c| c.is_computed).map(|c| c.name.as_str()).collect();
                self.leave_out(&format!("what is computed in `{}` ({})", table.name, computed.join(", ")), &error);
                self.rows_with(table, page, true, each)
            }
            result => result,
        }
    }

    /// As [`File::rows`], with nothing in the place of what is computed, where that is to be left out.
    fn rows_with(
        &self,
        table: &FoundTable,
        page: &Page,
        without_computed: bool,
        each: &mut dyn FnMut(&[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let columns = self.columns(table, page)?;
        let name = |c: &FoundColumn| if c.is_computed && without_computed { "NULL".into() } else { quoted(&c.name) };
        let names = columns.iter().map(name).collect::<Vec<_>>().join(", ");
        let mut text = format!("SELECT {names} FROM {}", quoted(&table.name));
        push_filter(&mut text, page);
        if let Some(order) = self.order(table, page)? {
            text.push_str(&format!(" ORDER BY {order}"));
        }
        text.push_str(" LIMIT ? OFFSET ?");
        let number = |n: u64| ValueRef::Integer(i64::try_from(n).unwrap_or(i64::MAX));
        let range = [page.limit.map_or(ValueRef::Integer(-1), number), number(page.offset)];
        self.read("cannot read the rows", |c| {
            let mut statement = match c.prepare(&text) {
                Err(fault) if is_of_condition(&fault) => return Err(self.bad_query(table, page, fault)),
                other => other?,
            };
            statement.bind_all(range)?;
            statement.rows().each(|row| {
                let values: Vec<ValueRef<'_>> = (0..columns.len()).map(|at| row.value(at)).collect();
                each(&values)
            })
        })
    }

    /// How many rows of the table satisfy the condition of `page`, whatever its range.
    ///
    /// # Errors
    /// As [`File::rows`].
    pub fn count(&self, table: &FoundTable, page: &Page) -> Result<u64, Error> {
        let mut text = format!("SELECT count(*) FROM {}", quoted(&table.name));
        push_filter(&mut text, page);
        self.read("cannot count the rows", |c| match c.one(&text, [], |row| row.integer(0)) {
            Err(fault) if is_of_condition(&fault) => Err(self.bad_query(table, page, fault)),
            counted => Ok(counted?.unwrap_or_default().unsigned_abs()),
        })
    }

    fn order(&self, table: &FoundTable, page: &Page) -> Result<Option<String>, Error> {
        let mut terms = Vec::new();
        for sort in &page.sort {
            let ends = |text: &'_ str, word: &str| -> Option<usize> {
                let (before, last) = text.trim_end().rsplit_once(char::is_whitespace)?;
                last.eq_ignore_ascii_case(word).then_some(before.len())
            };
            let (mut word, mut direction) = (sort.as_str(), "");
            if let Some(end) = ends(word, "desc") {
                (word, direction) = (&word[..end], " DESC");
            } else if let Some(end) = ends(word, "asc") {
                word = &word[..end];
            }
            let declared = ends(word, "declared");
            let column = self.column(table, word[..declared.unwrap_or(word.len())].trim())?;
            let term = if declared.is_some() { self.as_declared(column)? } else { quoted(&column.name) };
            terms.push(term + direction);
        }
        if page.by_own_key {
            let own_key: Vec<String> = self.own_key(&table.name).into_iter().collect();
            let key = if own_key.is_empty() { self.primary_key(&table.name)? } else { own_key };
            terms.extend(key.iter().map(|c| quoted(c)));
        }
        terms.extend(table.insertion_order.clone());
        Ok(if terms.is_empty() { None } else { Some(terms.join(", ")) })
    }

    /// The place of a column's choice among those that are declared; others come last.
    fn as_declared(&self, column: &FoundColumn) -> Result<String, Error> {
        let Some(Kind::Choice { values, .. }) = &column.kind else {
            let error =
                Error::new(Cause::BadQuery, format!("`{}` has no declared order: it holds no choice", column.name));
            return Err(error.untouched("Nothing was read").advise("Leave out `declared`").in_file(self.path()));
        };
        let cases = values.iter().enumerate().map(|(at, value)| format!(" WHEN {} THEN {at}", literal(value)));
        Ok(format!("CASE {}{} ELSE {} END", quoted(&column.name), cases.collect::<String>(), values.len()))
    }

    fn column<'t>(&self, table: &'t FoundTable, word: &str) -> Result<&'t FoundColumn, Error> {
        let names: Vec<String> = table.columns.iter().map(|c| c.name.clone()).collect();
        let name = meant(word, &names, "column", &format!("`{}`", table.name)).map_err(|e| e.in_file(self.path()))?;
        table
            .columns
            .iter()
            .find(|c| c.name == *name)
            .ok_or_else(|| Error::new(Cause::BadQuery, format!("there is no column `{word}` in `{}`", table.name)))
    }

    /// Says what is wrong with the condition.
    fn bad_query(&self, table: &FoundTable, page: &Page, fault: Fault) -> Error {
        let condition = page.filter.as_deref().unwrap_or_default();
        let names = table.columns.iter().map(|c| c.name.as_str());
        let advice = match &fault.kind {
            FaultKind::NoColumn(word) => match nearest(word, names.clone()) {
                Some(near) => format!("Did you mean `{near}`? Text is written in single quotes: 'bisque'"),
                None => format!(
                    "`{}` has: {}. Text is written in single quotes: 'bisque'",
                    table.name,
                    names.collect::<Vec<_>>().join(", ")
                ),
            },
            _ => "Write a condition in SQL, such as: grams > 500 and stage = 'bisque'".to_owned(),
        };
        let why = match &fault.kind {
            FaultKind::NoColumn(word) => format!("there is no column `{word}` in `{}`", table.name),
            _ => fault.message,
        };
        Error::new(Cause::BadQuery, format!("the condition `{condition}` cannot be used: {why}"))
            .untouched("Nothing was read")
            .advise(advice)
            .in_file(self.path())
    }
}

/// Whether the condition may be why the engine refused.
fn is_of_condition(fault: &Fault) -> bool {
    !matches!(
        fault.kind,
        FaultKind::Damaged | FaultKind::Interrupted(_) | FaultKind::Endless(_) | FaultKind::OutOfProportion
    )
}

/// On a line of its own, so that a comment in the condition ends with it.
fn push_filter(text: &mut String, page: &Page) {
    if let Some(filter) = &page.filter {
        text.push_str(&format!(" WHERE (\n{filter}\n)"));
    }
}
