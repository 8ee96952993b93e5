//! Finding rows by words, in any file.

use super::file::{File, FoundTable};
use super::forms;
use super::rows::Page;
use crate::error::{Cause, Error};
use crate::work::progress;
use serde::Serialize;
use std::time::Instant;
use velvet_core::Marked;
use velvet_core::search::Words;
use velvet_core::{Value, ValueRef};

/// A row in which words were found.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct FoundRow {
    /// Its table.
    pub table: String,
    /// The columns and values by which it is known.
    #[serde(serialize_with = "forms::cells")]
    pub known_by: Vec<(String, Value)>,
    /// The columns in which words were found: the name, and the text with what matches marked.
    #[serde(serialize_with = "forms::marked")]
    pub columns: Vec<(String, Marked)>,
}

impl File {
    /// Looks through `tables`, or all where none is given, for rows in which all of the words stand, in whatever columns: in texts
    /// anywhere, whatever their case and accents, and as whole numbers. `each` gets the rows as they are found and says whether to go
    /// on.
    ///
    /// This needs no search index, so it finds what stands in any column of any file, and takes time that grows with it.
    ///
    /// # Errors
    /// When no word is given ([`Error::is_bad_query`]), the file cannot be read, and what `each` returns.
    pub fn search(
        &self,
        words: &str,
        tables: &[FoundTable],
        each: &mut dyn FnMut(FoundRow) -> Result<bool, Error>,
    ) -> Result<(), Error> {
        let sought = Words::of(words);
        if sought.count() == 0 {
            let error = Error::new(Cause::BadQuery, "no word was given to look for").untouched("Nothing was read");
            return Err(error.advise("Give a word that is in the row").in_file(self.path()));
        }
        let all: Vec<FoundTable>;
        let tables = if tables.is_empty() {
            let mut found = Vec::new();
            // Nobody looks for the numbers of parts.
            for name in self.table_names()?.into_iter().filter(|name| !self.is_of_parts(name)) {
                match self.exact(name.clone()) {
                    Ok(table) => found.push(table),
                    Err(error) if error.is_cancelled() => return Err(error),
                    Err(error) => self.leave_out(&format!("`{name}`"), &error),
                }
            }
            all = found;
            &all
        } else {
            tables
        };
        let views: Vec<String> = self.views()?;
        let (mut looked, within) = (0, self.limits().within);
        for table in tables {
            let (is_view, begun) = (views.contains(&table.name), Instant::now());
            let known_by = self.known_by(table)?;
            let mut go_on = true;
            let result = self.each_known(table, &known_by, &Page::default(), &mut |key, row| {
                looked += 1;
                progress::tell_rows(|| "searching rows".to_owned(), looked, None);
                if is_view && begun.elapsed() > within {
                    let why = format!("it takes longer than {within:?} to go through its rows");
                    return Err(Error::new(Cause::BeyondBounds, why));
                }
                if let Some(columns) = found(&sought, table, row) {
                    let known_by = known_by.iter().cloned().zip(key.iter().map(|v| v.to_value())).collect();
                    go_on = each(FoundRow { table: table.name.clone(), known_by, columns })?;
                }
                // An error ends the reading of this table.
                if go_on { Ok(()) } else { Err(Error::new(Cause::Cancelled, "enough was found")) }
            });
            match result {
                Err(error) if !go_on && error.is_cancelled() => break,
                Err(error) if error.is_beyond_bounds() || is_view && !error.is_cancelled() => {
                    self.leave_out(&format!("`{}`", table.name), &error)
                }
                other => other?,
            }
        }
        progress::tell(|| "searching rows".to_owned(), looked, Some(looked));
        Ok(())
    }
}

/// The columns in which words stand, where all words do.
fn found(sought: &Words, table: &FoundTable, row: &[ValueRef<'_>]) -> Option<Vec<(String, Marked)>> {
    let mut columns = Vec::new();
    let mut missing: Vec<bool> = vec![true; sought.count()];
    for (column, value) in table.columns.iter().zip(row) {
        let (text, whole) = match value {
            ValueRef::Text(text) => ((*text).to_owned(), false),
            ValueRef::Integer(number) => (number.to_string(), true),
            _ => continue,
        };
        let found: Vec<_> =
            sought.find(&text).into_iter().filter(|(_, range)| !whole || *range == (0..text.len())).collect();
        if !found.is_empty() {
            found.iter().for_each(|(word, _)| missing[*word] = false);
            let mut ranges: Vec<std::ops::Range<usize>> = Vec::new();
            for (_, range) in found {
                // Words may overlap: only what comes after the last is marked anew.
                let from = ranges.last().map_or(range.start, |last| range.start.max(last.end));
                ranges.extend((from < range.end).then_some(from..range.end));
            }
            columns.push((column.name.clone(), Marked::new(text, ranges)));
        }
    }
    (!missing.contains(&true)).then_some(columns)
}
