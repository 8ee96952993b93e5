//! Writing tables out in open formats, without loss.

use super::file::{File, FoundColumn, FoundTable, list, literal};
use super::rows::Page;
use crate::error::Error;
use std::io::{self, Write};
use velvet_core::ValueRef;
use velvet_core::exchange::{to_field, to_json};
use velvet_core::name::quoted;
use velvet_core::structure::Kind;

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
        match form {
            Exchange::JsonLines => self.json_lines(table, None, out),
            Exchange::Csv => self.csv(table, out),
            Exchange::SqlText => {
                for statement in self.creating("type = 'table' AND name = ?1", &table.name)? {
                    written(writeln!(out, "{statement};"))?;
                }
                let rows = self.inserts(table, self.stored(table)?, out)?;
                for statement in self.creating("type = 'index' AND tbl_name = ?1", &table.name)? {
                    written(writeln!(out, "{statement};"))?;
                }
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
        match form {
            Exchange::JsonLines => {
                let mut rows = 0;
                for table in self.real_tables()? {
                    rows += self.json_lines(&self.table(&table)?, Some(&table), out)?;
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
        let names = self.table_names()?;
        let real = self.read("cannot list the tables", |c| {
            list(c, "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table'")
        })?;
        Ok(names.into_iter().filter(|name| real.contains(name)).collect())
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
                (format!("{{\"table\":{},\"row\":{{", serde_json::to_string(name).unwrap_or_default()), "}}\n")
            }
            None => ("{".to_owned(), "}\n"),
        };
        self.each_stored(table, &mut |row| {
            let mut line = begin.clone();
            for (at, ((name, kind), value)) in columns.iter().zip(row).enumerate() {
                let value = to_json(*value, kind.as_ref());
                line.push_str(&format!("{}{name}:{value}", if at == 0 { "" } else { "," }));
            }
            line.push_str(end);
            written(out.write_all(line.as_bytes()))
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
            let values: Vec<String> = row.iter().map(|value| value.to_value().literal()).collect();
            written(writeln!(out, "{begin}{});", values.join(", ")))
        })
    }

    fn whole_file(&self, out: &mut dyn Write) -> Result<u64, Error> {
        let number = |name: &str| self.read("cannot read the header", |c| c.number(&format!("PRAGMA {name}")));
        written(writeln!(out, "PRAGMA foreign_keys = OFF;\nBEGIN;"))?;
        written(writeln!(
            out,
            "PRAGMA application_id = {};\nPRAGMA user_version = {};",
            number("application_id")?,
            number("user_version")?
        ))?;
        // What a virtual table keeps is made with it.
        let real = "type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%' AND name IN (SELECT name FROM pragma_table_list WHERE \
                    schema = 'main' AND type = 'table') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND ?1 = ''";
        for statement in self.creating(real, "")? {
            written(writeln!(out, "{statement};"))?;
        }
        let mut rows = 0;
        let text = format!("SELECT name FROM sqlite_schema WHERE {} ORDER BY rowid", real.replace("?1", "''"));
        for name in self.read("cannot list the tables", |c| list(c, &text))? {
            let table = self.table(&name)?;
            rows += self.inserts(&table, self.stored(&table)?, out)?;
        }
        if number_of(self, "SELECT count(*) FROM sqlite_schema WHERE name = 'sqlite_sequence'")? > 0 {
            written(writeln!(out, "DELETE FROM sqlite_sequence;"))?;
            let table = self.table("sqlite_sequence")?;
            self.inserts(&table, self.stored(&table)?, out)?;
        }
        self.create_all(&["type = 'index'", "type = 'table' AND sql LIKE 'CREATE VIRTUAL%'"], out)?;
        rows += self.virtual_tables(out)?;
        self.create_all(&["type = 'view'", "type = 'trigger'"], out)?;
        written(writeln!(out, "COMMIT;"))?;
        Ok(rows)
    }

    fn create_all(&self, kinds: &[&str], out: &mut dyn Write) -> Result<(), Error> {
        for kind in kinds {
            for statement in self.creating(&format!("{kind} AND ?1 = ''"), "")? {
                written(writeln!(out, "{statement};"))?;
            }
        }
        Ok(())
    }

    /// What virtual tables show: search indexes over another table are made again from that, others get their rows.
    fn virtual_tables(&self, out: &mut dyn Write) -> Result<u64, Error> {
        let list_of = |more: &str| {
            let text =
                format!("SELECT name FROM sqlite_schema WHERE sql LIKE 'CREATE VIRTUAL%' AND {more} ORDER BY rowid");
            self.read("cannot list the virtual tables", |c| list(c, &text))
        };
        for index in list_of("sql LIKE '%fts5%content=%' AND sql NOT LIKE '%content=''''%'")? {
            written(writeln!(out, "INSERT INTO {0} ({0}) VALUES ('rebuild');", quoted(&index)))?;
        }
        let mut rows = 0;
        let words = list_of("sql LIKE '%fts5%'")?;
        for name in list_of("sql NOT LIKE '%fts5%content=%'")? {
            let mut table = self.table(&name)?;
            let mut columns = self.stored(&table)?;
            // What is found in it is told by this number.
            if let Some(number) = table.insertion_order.clone().filter(|_| words.contains(&name)) {
                table.columns.push(FoundColumn::named(number.clone()));
                columns.push(number);
            }
            rows += self.inserts(&table, columns, out)?;
        }
        Ok(rows)
    }

    /// The statements that create what satisfies a condition, as the file has them.
    fn creating(&self, condition: &str, name: &str) -> Result<Vec<String>, Error> {
        let text = format!("SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL AND {condition} ORDER BY rowid");
        self.read("cannot read the structure", |c| {
            let mut statement = c.prepare(&text)?;
            statement.bind(1, ValueRef::Text(name))?;
            let mut rows = statement.rows();
            let mut all = Vec::new();
            while let Some(row) = rows.next()? {
                all.push(row.text(0).to_owned());
            }
            Ok(all)
        })
    }

    /// The columns that are stored, and not computed of others.
    pub(super) fn stored(&self, table: &FoundTable) -> Result<Vec<String>, Error> {
        let text =
            format!("SELECT name FROM pragma_table_xinfo({}) WHERE hidden = 0 ORDER BY cid", literal(&table.name));
        self.read("cannot read the columns", |c| list(c, &text))
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
            rows += 1;
            each(row)
        })?;
        Ok(rows)
    }
}

fn number_of(file: &File, text: &str) -> Result<i64, Error> {
    file.read("cannot read the structure", |c| c.number(text))
}

fn written(result: io::Result<()>) -> Result<(), Error> {
    // A reader that goes away is told from a full device by its kind.
    result.map_err(Error::own)
}
