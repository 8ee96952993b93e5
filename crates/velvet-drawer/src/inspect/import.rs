//! Taking rows in from open formats: all of them or none.

use super::Limits;
use super::export::Exchange;
use super::file::{File, FoundTable, is_text};
use crate::engine::{ColumnEntry, Connection, Fault, FaultKind, Opener};
use crate::error::{Cause, Doing, Error};
use crate::file::new_file;
use crate::work::progress;
use serde::Deserialize;
use serde_json::value::RawValue;
use std::collections::{BTreeMap, HashMap};
use std::io::BufRead;
use std::path::Path;
use std::time::Duration;
use velvet_core::Value;
use velvet_core::exchange::sql_text::statements;
use velvet_core::exchange::{ROWS_BEGIN, of_field, of_json};
use velvet_core::records::fits::fits;
use velvet_core::schema::structure::Structure;
use velvet_core::value::name::{nearest, quoted};

/// How many problems are told.
const MOST_PROBLEMS: usize = 20;

/// How long to wait for an app that has the file open.
const WAIT: Duration = Duration::from_secs(5);

/// Inserts the rows that `from` has into the file at `path`, and says how many there were: into `table`, or into the tables that lines of JSON
/// name. All or none: every line that does not fit is named, up to 20, and then nothing is written. Row numbers and keys are as they come.
///
/// In a drawer, values are checked as its app will read them, but not what is inside nested ones, whose types the file does not know. Statements in SQL make a new file instead: [`import_sql`].
///
/// # Errors
/// When a line is not of this form, or does not fit the table ([`Error::is_bad_query`]), and when the files cannot be read or written.
pub fn import(
    path: impl AsRef<Path>,
    table: Option<&str>,
    form: Exchange,
    from: &mut dyn BufRead,
    limits: &Limits,
) -> Result<u64, Error> {
    let path = path.as_ref();
    let file = File::open_within(path, limits)?;
    let table = table.map(|word| file.table(word)).transpose()?;
    let structure = file.declared().cloned();
    let names = file.table_names()?;
    drop(file);
    let import = || {
        let mut connection = Opener::new(path).waiting(WAIT).writer()?;
        connection.bound(&limits.cancel, limits.within, u64::MAX)?;
        let mut importing =
            Importing { to: &connection, structure, names, tables: HashMap::new(), problems: Vec::new(), rows: 0 };
        let transaction = connection.transaction()?;
        connection.defer_foreign_keys(true)?;
        pass_mark(from)?;
        importing.all(table.as_ref(), form, from)?;
        importing.links_hold()?;
        if !importing.problems.is_empty() {
            let more = if importing.problems.len() >= MOST_PROBLEMS { ", and perhaps more" } else { "" };
            let error = Error::bare(Cause::BadQuery, format!("{}{more}", importing.problems.join("; ")));
            return Err(error.advise("Mend these, or leave them out, and import again"));
        }
        transaction.commit()?;
        let rows = importing.rows;
        progress::tell(|| "importing rows".to_owned(), rows, Some(rows));
        connection.close()?;
        Ok(rows)
    };
    import().doing(|| "cannot import").untouched(|| "Nothing was written").in_file(path)
}

/// Makes a new file at `path` of statements in SQL, such as [`File::export_all`] writes, and says how many statements there were. They may create
/// tables, indexes, views and triggers and insert rows; whatever else one does, it is refused.
///
/// # Errors
/// When there is a file at `path` ([`Error::is_already_there`]), or a statement fails or does more, with its line
/// ([`Error::is_bad_query`]). Nothing is left then.
pub fn import_sql(path: impl AsRef<Path>, text: &str, limits: &Limits) -> Result<u64, Error> {
    let doing = "cannot import";
    let mut count = 0;
    new_file::make_new(path.as_ref(), doing, |unfinished| {
        let mut connection = Opener::new(unfinished).relaxed().new_writer()?;
        let within = limits.within + Duration::from_micros(text.len() as u64 * MICROSECONDS_FOR_A_BYTE);
        connection.bound(&limits.cancel, within, text.len() as u64)?;
        connection.grow_at_most(LEAST_GROWTH + text.len() as u64 * MOST_GROWTH)?;
        connection.enforce_foreign_keys(false)?;
        let transaction = connection.transaction()?;
        for (line, statement) in statements(text) {
            if let Err(fault) = connection.run_making(statement) {
                return Err(refused(line, fault));
            }
            count += 1;
        }
        transaction.commit()?;
        connection.leave_wal()?;
        Ok(connection.close()?)
    })?;
    Ok(count)
}

/// How long statements may take for each byte of them, beside what limits allow anyway.
const MICROSECONDS_FOR_A_BYTE: u64 = 10;

/// How much larger than the statements the file may be that they make: there may be indexes, and what is repeated is said once.
const MOST_GROWTH: u64 = 32;

/// How large it may be in any case, in bytes.
const LEAST_GROWTH: u64 = 64_000_000;

fn refused(line: usize, fault: Fault) -> Error {
    match fault.kind {
        // There is space on the device, or it is told as that.
        FaultKind::NoSpace if fault.message.contains("full") => Error::bare(
            Cause::BeyondBounds,
            format!(
                "line {line}: the file would become far larger than the statements that make it, or the device is full"
            ),
        )
        .advise("Look at what the statement computes; leave it out if it is not meant to"),
        FaultKind::Interrupted(_) | FaultKind::OutOfProportion | FaultKind::Device => {
            Error::from(fault).doing(format_args!("cannot import: line {line}"))
        }
        _ => Error::bare(Cause::BadQuery, format!("line {line}: {}", fault.message))
            .advise("Only what makes a file is run: creating tables, indexes, views and triggers, and inserting"),
    }
}

/// A row that names its table.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NamedRow<'a> {
    table: String,
    #[serde(borrow)]
    columns: BTreeMap<String, &'a RawValue>,
}

/// The rows of a report of the command, as a list.
#[derive(Deserialize)]
struct Report<'a> {
    #[serde(borrow)]
    rows: Vec<&'a RawValue>,
}

/// Passes over the mark of UTF-8 that some programs put at the beginning.
fn pass_mark(from: &mut dyn BufRead) -> Result<(), Error> {
    const MARK: &[u8] = "\u{feff}".as_bytes();
    let there = from.fill_buf().map_err(|e| Error::device("cannot read what is to be imported", &e))?;
    if there.starts_with(MARK) {
        from.consume(MARK.len());
    }
    Ok(())
}

/// Whether the first character that is no space begins a list. Spaces before it are passed over.
fn begins_with_a_list(from: &mut dyn BufRead) -> std::io::Result<bool> {
    loop {
        let there = from.fill_buf()?;
        let spaces = there.iter().take_while(|b| b.is_ascii_whitespace() && **b != b'\n').count();
        match there.get(spaces) {
            Some(first) => return Ok(*first == b'['),
            None if there.is_empty() => return Ok(false),
            None => from.consume(spaces),
        }
    }
}

struct Importing<'c> {
    to: &'c Connection,
    structure: Option<Structure>,
    names: Vec<String>,
    tables: HashMap<String, Target>,
    problems: Vec<String>,
    rows: u64,
}

/// A table that rows go to.
struct Target {
    name: String,
    columns: Vec<String>,
    holds_text: Vec<bool>,
    /// The column that is the number of the row, if one is.
    row_number: Option<String>,
}

impl Importing<'_> {
    fn all(&mut self, table: Option<&FoundTable>, form: Exchange, from: &mut dyn BufRead) -> Result<(), Error> {
        let refuse = |why: &str, advice: &str| Err(Error::bare(Cause::BadQuery, why).advise(advice));
        match (form, table) {
            (Exchange::JsonLines, _) => {
                let unreadable = |e| Error::device("cannot read what is to be imported", &e);
                let is_list = begins_with_a_list(from).map_err(unreadable)?;
                let mut first = Vec::new();
                from.read_until(b'\n', &mut first).map_err(unreadable)?;
                if !is_list && first.trim_ascii_end() != ROWS_BEGIN.as_bytes() {
                    let lines = std::iter::once(Ok(first)).chain(from.split(b'\n'));
                    return self.json_rows(table, "line", lines.map(|line| line.map_err(unreadable)));
                }
                let mut bytes = first;
                from.read_to_end(&mut bytes).map_err(unreadable)?;
                let text = match str::from_utf8(&bytes) {
                    Ok(text) => text,
                    Err(wrong) => {
                        let line = bytes[..wrong.valid_up_to()].split(|b| *b == b'\n').count();
                        return refuse(&format!("line {line} is no UTF-8"), "Write it as UTF-8, and import again");
                    }
                };
                let rows = if is_list {
                    serde_json::from_str(text)
                } else {
                    serde_json::from_str(text).map(|Report { rows }| rows)
                };
                let rows: Vec<&RawValue> = match rows {
                    Ok(rows) => rows,
                    Err(error) => {
                        return refuse(&format!("it is no list of rows in JSON: {error}"), "Mend it, and import again");
                    }
                };
                self.json_rows(table, "row", rows.iter().map(|row| Ok(row.get().as_bytes().to_owned())))
            }
            (Exchange::Csv, Some(table)) => self.csv(table, from),
            (Exchange::Csv, None) => {
                refuse("comma-separated values do not say which table they are for", "Name the table")
            }
            (Exchange::SqlText, _) => refuse("statements in SQL make a new file", "Name one that does not exist yet"),
        }
    }

    fn json_rows(
        &mut self,
        table: Option<&FoundTable>,
        each: &str,
        rows: impl Iterator<Item = Result<Vec<u8>, Error>>,
    ) -> Result<(), Error> {
        for (at, row) in rows.enumerate() {
            let row = row?;
            if row.trim_ascii().is_empty() {
                continue;
            }
            let taken = match str::from_utf8(&row) {
                Ok(row) => self.json_row(table, row)?,
                Err(wrong) => Err(format!("is no UTF-8, from its byte {} on", wrong.valid_up_to() + 1)),
            };
            if let Err(why) = taken {
                self.problems.push(format!("{each} {} {why}", at + 1));
            }
            if self.problems.len() >= MOST_PROBLEMS {
                break;
            }
        }
        Ok(())
    }

    fn problem(&mut self, line: usize, why: &str) {
        self.problems.push(format!("line {line} {why}"));
    }

    fn target(&mut self, name: &str) -> Result<Result<&Target, String>, Fault> {
        if !self.tables.contains_key(name) {
            if !self.names.iter().any(|n| n == name) {
                let near = nearest(name, self.names.iter().map(String::as_str));
                let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
                return Ok(Err(format!("is for the table `{name}`, which does not exist{near}")));
            }
            let columns = self.to.columns_of(name)?;
            let is_number = |c: &&ColumnEntry| c.key_place == 1 && c.storage.eq_ignore_ascii_case("INTEGER");
            let row_number = columns.iter().find(is_number).map(|c| c.name.clone());
            let stored = columns.into_iter().filter(|c| c.is_stored);
            let (columns, holds_text) = stored.map(|c| (c.name, is_text(&c.storage))).unzip();
            self.tables.insert(name.to_owned(), Target { name: name.to_owned(), columns, holds_text, row_number });
        }
        Ok(self.tables.get(name).ok_or_else(|| "has no table".to_owned()))
    }

    /// Takes one row in: an object whose members are columns, or one that names its table too.
    fn json_row(&mut self, table: Option<&FoundTable>, text: &str) -> Result<Result<(), String>, Fault> {
        let row: BTreeMap<String, &RawValue> = match serde_json::from_str(text) {
            Ok(row) => row,
            Err(error) => return Ok(Err(format!("is no JSON object: {error}"))),
        };
        let named: Option<NamedRow<'_>> = if row.len() == 2 { serde_json::from_str(text).ok() } else { None };
        let (name, row) = match (named, table) {
            (Some(named), Some(table)) if named.table != table.name => {
                return Ok(Err(format!("is for the table `{}`, not for `{}`", named.table, table.name)));
            }
            (Some(named), _) => (named.table, named.columns),
            (None, Some(table)) => (table.name.clone(), row),
            (None, None) => {
                return Ok(Err("does not say which table it is for: {\"table\": …, \"columns\": …}".into()));
            }
        };
        let declared = self.structure.as_ref().and_then(|s| s.table(&name));
        let mut values = Vec::with_capacity(row.len());
        for (column, json) in row {
            let kind = declared.and_then(|t| t.column(&column)).map(|c| &c.kind);
            match of_json(json.get(), kind) {
                Ok(value) => values.push((column, value)),
                Err(why) => return Ok(Err(format!("has in `{column}` what cannot be stored: {why}"))),
            }
        }
        self.insert(&name, values)
    }

    fn csv(&mut self, table: &FoundTable, from: &mut dyn BufRead) -> Result<(), Error> {
        let unreadable = |error: csv::Error| {
            let said = error.to_string();
            match error.into_kind() {
                csv::ErrorKind::Io(error) => Error::device("cannot read what is to be imported", &error),
                csv::ErrorKind::Utf8 { pos, .. } => {
                    let line = pos.map_or(1, |pos| pos.line());
                    Error::bare(Cause::BadQuery, format!("line {line} is no UTF-8"))
                        .advise("Write it as UTF-8, and import again")
                }
                _ => Error::bare(Cause::BadQuery, said),
            }
        };
        let mut reader = csv::ReaderBuilder::new().from_reader(from);
        let names: Vec<String> = reader.headers().map_err(unreadable)?.iter().map(str::to_owned).collect();
        let holds_text: Vec<bool> = match self.target(&table.name)? {
            Err(why) => {
                self.problem(1, &why);
                return Ok(());
            }
            Ok(target) => {
                let of = |name: &String| {
                    target.columns.iter().position(|c| c == name).is_some_and(|at| target.holds_text[at])
                };
                names.iter().map(of).collect()
            }
        };
        for record in reader.records() {
            let record = record.map_err(unreadable)?;
            let line = record.position().map_or(0, |p| usize::try_from(p.line()).unwrap_or(usize::MAX));
            let mut values = Vec::with_capacity(names.len());
            let mut wrong = None;
            for ((name, text), field) in names.iter().zip(&holds_text).zip(&record) {
                match of_field(field, *text) {
                    Ok(value) => values.push((name.clone(), value)),
                    Err(why) => wrong = Some(format!("has in `{name}` what cannot be stored: {why}")),
                }
            }
            let done = match wrong {
                Some(why) => Err(why),
                None => self.insert(&table.name, values)?,
            };
            if let Err(why) = done {
                self.problem(line, &why);
            }
            if self.problems.len() >= MOST_PROBLEMS {
                break;
            }
        }
        Ok(())
    }

    /// Inserts a row; says why it does not fit.
    fn insert(&mut self, table: &str, values: Vec<(String, Value)>) -> Result<Result<(), String>, Fault> {
        let target = match self.target(table)? {
            Ok(target) => target,
            Err(why) => return Ok(Err(why)),
        };
        let unknown = values.iter().find(|(name, _)| !target.columns.contains(name));
        if let Some((name, _)) = unknown {
            let near = nearest(name, target.columns.iter().map(String::as_str));
            let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            return Ok(Err(format!("has a column `{name}`, which `{table}` has not{near}")));
        }
        let row_number = target.row_number.clone();
        let names: Vec<String> = values.iter().map(|(name, _)| quoted(name)).collect();
        let marks = vec!["?"; names.len()].join(", ");
        let text = if names.is_empty() {
            format!("INSERT INTO {} DEFAULT VALUES", quoted(&target.name))
        } else {
            format!("INSERT INTO {} ({}) VALUES ({marks})", quoted(&target.name), names.join(", "))
        };
        if let Some(declared) = self.structure.as_ref().and_then(|s| s.table(table)) {
            for (name, value) in &values {
                let misfit = declared.column(name).and_then(|c| fits(c, value.as_ref()).err());
                if let Some(misfit) = misfit {
                    return Ok(Err(format!("has in `{name}` what the app cannot read: {misfit}")));
                }
            }
        }
        // What triggers take is counted for each row.
        self.to.count_anew();
        self.to.values_up_to(values.iter().map(|(_, value)| value.bytes()).sum())?;
        match self.to.execute(&text, values.iter().map(|(_, value)| value.as_ref())) {
            Ok(_) => {
                self.rows += 1;
                progress::tell_rows(|| "importing rows".to_owned(), self.rows, None);
                Ok(Ok(()))
            }
            Err(fault) => match &fault.kind {
                FaultKind::Clash(columns) => {
                    let names: Vec<&str> =
                        columns.iter().map(|c| c.rsplit_once('.').map_or(c.as_str(), |(_, n)| n)).collect();
                    Ok(Err(format!("has the same {} as a row that is there", names.join(" and "))))
                }
                FaultKind::NotWhole => {
                    let column = row_number.unwrap_or_default();
                    Ok(Err(format!("has in `{column}` what is no whole number, and that is the number of its row")))
                }
                FaultKind::Unfit | FaultKind::Link | FaultKind::Trigger => {
                    Ok(Err(format!("does not fit `{table}`: {}", fault.message)))
                }
                _ => Err(fault),
            },
        }
    }

    /// Links may lead to rows that come later, so they are looked at when all are there.
    fn links_hold(&mut self) -> Result<(), Fault> {
        if !self.problems.is_empty() {
            return Ok(());
        }
        for table in self.tables.keys() {
            for broken in self.to.broken_links(Some(table), MOST_PROBLEMS as u64)? {
                self.problems.push(format!(
                    "the row {} of `{table}` links to a `{}` that is neither there nor comes (tables that link to \
                     each other come in together, as JSON Lines)",
                    broken.row, broken.to
                ));
            }
        }
        Ok(())
    }
}
