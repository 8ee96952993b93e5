//! Writing tables out in open formats, without loss.

use super::file::{File, FoundColumn, FoundTable};
use super::rows::Page;
use crate::engine::{Entry, EntryKind, MADE, marking};
use crate::error::Error;
use crate::work::progress;
use std::io::{self, BufWriter, Write};
use velvet_core::exchange::{to_field, write_json};
use velvet_core::schema::structure::Kind;
use velvet_core::value::name::quoted;
use velvet_core::{Value, ValueRef};

/// In what form rows go out, or come in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exchange {
    /// A line of JSON for each row.
    JsonLines,
    /// Comma-separated values, with a head line.
    Csv,
    /// Statements in SQL.
    SqlText,
}

impl File {
    /// Writes the rows of a table to `out`, as `docs/exchange-format.md` describes it, and says how many there were. With
    /// [`Exchange::SqlText`] the statements that create the table and its indexes go along.
    ///
    /// # Errors
    /// When the file cannot be read, or `out` not be written.
    pub fn export(&self, table: &FoundTable, form: Exchange, out: &mut dyn Write) -> Result<u64, Error> {
        buffered(out, |out| self.one_table(table, form, out))
    }

    fn one_table(&self, table: &FoundTable, form: Exchange, out: &mut dyn Write) -> Result<u64, Error> {
        match form {
            Exchange::JsonLines => self.json_lines(table, None, out),
            Exchange::Csv => self.csv(table, out),
            Exchange::SqlText => {
                let entries = self.catalogue()?;
                make(&entries, |e| e.word() == "table" && e.name == table.name, out)?;
                let rows = self.inserts(table, self.stored(table)?, out)?;
                make(&entries, |e| e.kind == EntryKind::Index && e.table == table.name, out)?;
                Ok(rows)
            }
        }
    }

    /// Writes everything in the file to `out`: as JSON Lines that name their table, without the file's own bookkeeping; or as SQL that
    /// makes the whole file again, with it. Says how many rows there were.
    ///
    /// # Errors
    /// As [`File::export`]. Comma-separated values have one table each; asking for all in one is a mistake
    /// ([`Error::is_bad_query`]).
    pub fn export_all(&self, form: Exchange, out: &mut dyn Write) -> Result<u64, Error> {
        buffered(out, |out| self.everything(form, out))
    }

    fn everything(&self, form: Exchange, out: &mut dyn Write) -> Result<u64, Error> {
        match form {
            Exchange::JsonLines => {
                let mut rows = 0;
                for table in self.real_tables()? {
                    rows += self.json_lines(&self.exact(table.clone())?, Some(&table), out)?;
                }
                Ok(rows)
            }
            Exchange::Csv => Err(Error::new(
                crate::error::Cause::BadQuery,
                "comma-separated values have one table each, so not everything can be in one file",
            )
            .untouched("Nothing was written")
            .advise("Name a table, or export everything as JSON Lines or SQL")
            .in_file(self.path())),
            Exchange::SqlText => self.whole_file(out),
        }
    }

    /// The tables that hold rows themselves, without bookkeeping.
    fn real_tables(&self) -> Result<Vec<String>, Error> {
        let entries = self.catalogue()?;
        let is_real = |name: &String| entries.iter().any(|e| e.kind == EntryKind::Table && e.name == *name);
        Ok(self.table_names()?.into_iter().filter(is_real).collect())
    }

    fn json_lines(&self, table: &FoundTable, named: Option<&str>, out: &mut dyn Write) -> Result<u64, Error> {
        let columns: Vec<(String, Option<Kind>)> = self
            .stored(table)?
            .iter()
            .map(|name| {
                let kind = table.columns.iter().find(|c| c.name == *name).and_then(|c| c.kind.clone());
                (serde_json::to_string(name).unwrap_or_default(), kind)
            })
            .collect();
        let (begin, end) = match named {
            Some(name) => {
                (format!("{{\"table\":{},\"columns\":{{", serde_json::to_string(name).unwrap_or_default()), "}}\n")
            }
            None => ("{".to_owned(), "}\n"),
        };
        self.each_stored(table, &mut |row| {
            written(out.write_all(begin.as_bytes()))?;
            for (at, ((name, kind), value)) in columns.iter().zip(row).enumerate() {
                written(write!(out, "{}{name}:", if at == 0 { "" } else { "," }))?;
                written(write_json(*value, kind.as_ref(), out))?;
            }
            written(out.write_all(end.as_bytes()))
        })
    }

    fn csv(&self, table: &FoundTable, out: &mut dyn Write) -> Result<u64, Error> {
        let names = self.stored(table)?;
        let of = |name: &String| table.columns.iter().any(|c| c.name == *name && c.holds_text);
        let holds_text: Vec<bool> = names.iter().map(of).collect();
        let mut out = csv::Writer::from_writer(out);
        written(out.write_record(names).map_err(io::Error::from))?;
        let rows = self.each_stored(table, &mut |row| {
            let fields = row.iter().zip(&holds_text).map(|(value, text)| to_field(*value, *text));
            written(out.write_record(fields).map_err(io::Error::from))
        })?;
        written(out.flush())?;
        Ok(rows)
    }

    fn inserts(&self, table: &FoundTable, columns: Vec<String>, out: &mut dyn Write) -> Result<u64, Error> {
        let names: Vec<String> = columns.iter().map(|c| quoted(c)).collect();
        let begin = format!("INSERT INTO {} ({}) VALUES (", quoted(&table.name), names.join(", "));
        self.each(table, columns, &mut |row| {
            written(out.write_all(begin.as_bytes()))?;
            for (at, value) in row.iter().enumerate() {
                written(out.write_all(if at > 0 { b", " } else { b"" }))?;
                written(value.write_literal(out))?;
            }
            written(out.write_all(b");\n"))
        })
    }

    fn whole_file(&self, out: &mut dyn Write) -> Result<u64, Error> {
        let (application, version, entries, last) = self.read("cannot read the structure", |c| {
            Ok((c.application()?, c.version()?, c.entries()?, c.last_row_numbers()?))
        })?;
        written(write!(out, "{}", marking(application, version)))?;
        // What a virtual table keeps is made with it.
        let is_real = |e: &Entry| e.kind == EntryKind::Table && !e.is_of_engine();
        make(&entries, is_real, out)?;
        let mut rows = 0;
        for entry in entries.iter().filter(|e| is_real(e)) {
            let table = self.exact(entry.name.clone())?;
            rows += self.inserts(&table, self.stored(&table)?, out)?;
        }
        if let Some(last) = last {
            written(writeln!(out, "DELETE FROM sqlite_sequence;"))?;
            for (table, number) in last {
                let (table, number) = (Value::Text(table).literal(), number.literal());
                written(writeln!(
                    out,
                    "INSERT INTO \"sqlite_sequence\" (\"name\", \"seq\") VALUES ({table}, {number});"
                ))?;
            }
        }
        make(&entries, |e| e.kind == EntryKind::Index, out)?;
        make(&entries, |e| e.kind == EntryKind::Virtual, out)?;
        rows += self.virtual_tables(&entries, out)?;
        make(&entries, |e| e.kind == EntryKind::View, out)?;
        make(&entries, |e| e.kind == EntryKind::Trigger, out)?;
        written(writeln!(out, "{MADE}"))?;
        Ok(rows)
    }

    /// What virtual tables show: search indexes over another table are made again from that, others get their rows.
    fn virtual_tables(&self, entries: &[Entry], out: &mut dyn Write) -> Result<u64, Error> {
        let indexes = |entry: &&Entry| {
            let statement = entry.statement.to_ascii_lowercase();
            statement.contains("fts5") && statement.contains("content=")
        };
        let is_virtual = |e: &&Entry| e.kind == EntryKind::Virtual;
        for index in entries.iter().filter(is_virtual).filter(indexes) {
            if !index.statement.contains("content=''") {
                written(writeln!(out, "INSERT INTO {0} ({0}) VALUES ('rebuild');", quoted(&index.name)))?;
            }
        }
        let mut rows = 0;
        for entry in entries.iter().filter(is_virtual).filter(|e| !indexes(e)) {
            let mut table = self.exact(entry.name.clone())?;
            let mut columns = self.stored(&table)?;
            // What is found by words is told by this number.
            let is_words = entry.statement.to_ascii_lowercase().contains("fts5");
            if let Some(number) = table.insertion_order.clone().filter(|_| is_words) {
                table.columns.push(FoundColumn::named(number.clone()));
                columns.push(number);
            }
            rows += self.inserts(&table, columns, out)?;
        }
        Ok(rows)
    }

    /// The columns that are stored, and not computed of others.
    pub(super) fn stored(&self, table: &FoundTable) -> Result<Vec<String>, Error> {
        let columns = self.read("cannot read the columns", |c| Ok(c.columns_of(&table.name)?))?;
        Ok(columns.into_iter().filter(|c| c.is_stored).map(|c| c.name).collect())
    }

    fn each_stored(
        &self,
        table: &FoundTable,
        each: &mut dyn FnMut(&[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<u64, Error> {
        self.each(table, self.stored(table)?, each)
    }

    fn each(
        &self,
        table: &FoundTable,
        columns: Vec<String>,
        each: &mut dyn FnMut(&[ValueRef<'_>]) -> Result<(), Error>,
    ) -> Result<u64, Error> {
        let mut rows = 0;
        let page = Page { columns, ..Page::default() };
        self.rows(table, &page, &mut |row| {
            progress::tell(|| "exporting rows".to_owned(), rows, None);
            rows += 1;
            each(row)
        })?;
        Ok(rows)
    }
}

/// Values are written piece by piece.
fn buffered<R>(out: &mut dyn Write, work: impl FnOnce(&mut dyn Write) -> Result<R, Error>) -> Result<R, Error> {
    let mut out = BufWriter::new(out);
    let result = work(&mut out)?;
    written(out.flush())?;
    Ok(result)
}

/// Writes the statements that made some entries.
fn make(entries: &[Entry], which: impl Fn(&Entry) -> bool, out: &mut dyn Write) -> Result<(), Error> {
    for entry in entries.iter().filter(|e| which(e) && !e.statement.is_empty()) {
        written(writeln!(out, "{};", entry.statement))?;
    }
    Ok(())
}

fn written(result: io::Result<()>) -> Result<(), Error> {
    // A reader that goes away is told from a full device by its kind.
    result.map_err(Error::own)
}
