//! Saving what can be read of a damaged file into a new one.
//!
//! The pages are read as they stand, past what does not add up: the engine gives up at the first fault, and one damaged page
//! high in a table hides thousands of sound ones below it.

mod damage;
mod source;
mod tree;

use super::Limits;
use super::file::File;
use super::forms;
use crate::engine::is_open_here;
use crate::engine::{ColumnEntry, Connection, Entry, EntryKind, Fault, FaultKind, Opener};
use crate::error::{Cause, Error};
use crate::file::new_file;
use crate::opening::{resolved, unanswered};
use crate::schema::about::{APPLICATION_ID, About};
use crate::sealing::note_copied_keys;
use crate::search;
use crate::work::progress;
pub(super) use damage::{DamagedPage, damage};
use serde::Serialize;
use source::PageSource;
use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::path::Path;
pub(super) use tree::DamageOfPage;
use tree::{Missing, SavedRow};
use velvet_core::Value;
use velvet_core::evolve::attendant::ATTENDANTS;
use velvet_core::exchange::show::count;
use velvet_core::exchange::sql_text::table_options;
use velvet_core::file::b_tree::{Encoding, Node, node};
use velvet_core::file::header::Header;
use velvet_core::records::fits;
use velvet_core::schema::fingerprint;
use velvet_core::schema::structure::{ColumnDefinition, Structure, Table};
use velvet_core::statement::{UNINDEXED, create_index, create_table};
use velvet_core::value::name::quoted;

/// What was saved of a damaged file.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Salvaged {
    /// Its tables, without those of its own bookkeeping.
    pub tables: Vec<SalvagedTable>,
    /// What else is missing or may not be as it was, each as a sentence.
    pub lost: Vec<String>,
}

/// What was saved of a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct SalvagedTable {
    /// Its name.
    pub name: String,
    /// How many rows were saved.
    pub rows: u64,
    /// How many of these stood in pages that the table did not lead to any more.
    pub orphaned: u64,
    /// How many rows were found, but damaged.
    pub damaged: u64,
    /// How many rows were read, but do not fit the table: their key or unique value is that of another, or a value is none of its
    /// column's.
    pub refused: u64,
    /// The row numbers between which nothing could be read, both included. Beside orphaned rows they may be those of
    /// rows that the app had removed.
    #[serde(serialize_with = "forms::ranges")]
    pub gaps: Vec<(i64, i64)>,
}

impl Salvaged {
    /// Whether everything was saved.
    pub fn is_whole(&self) -> bool {
        self.lost.is_empty() && self.tables.iter().all(SalvagedTable::is_whole)
    }
}

impl SalvagedTable {
    /// Whether all of it was saved, as far as the file tells.
    pub fn is_whole(&self) -> bool {
        self.damaged == 0 && self.refused == 0 && self.gaps.is_empty()
    }
}

/// Saves what can be read of the damaged file at `from` into a new one at `to`, and says what could not. The damaged file is only
/// read. `saved` hears now and then how many rows were.
///
/// A file of our own comes out as a drawer that the app opens. Of another program's, tables, rows and indexes are saved; views,
/// triggers and what virtual tables show are not.
///
/// # Errors
/// When `from` is no database any more, or this process has it open; when there is a file at `to`
/// ([`Error::is_already_there`]), or it cannot be written. Nothing is left then.
///
/// ```
/// use velvet_drawer::inspect;
/// # use velvet_drawer::{Drawer, Record, Schema};
/// # #[derive(Record)] struct Note { text: String }
/// # let folder = tempfile::tempdir().unwrap();
/// # let (damaged, saved) = (folder.path().join("notes.drawer"), folder.path().join("saved.drawer"));
/// # let schema = || Schema::new("notes").record::<Note>();
/// # let drawer = Drawer::open(&damaged, schema())?;
/// # drawer.insert_all((0..200).map(|n| Note { text: "x".repeat(100 + n) }))?;
/// # drawer.close()?;
/// # let mut bytes = std::fs::read(&damaged).unwrap();
/// # let end = bytes.len() - 4096;
/// # bytes[end - 4096..].fill(0);
/// # std::fs::write(&damaged, bytes).unwrap();
/// let salvaged = inspect::salvage(&damaged, &saved, &inspect::Limits::default())?;
/// assert!(!salvaged.is_whole());
/// assert_eq!(Drawer::open(&saved, schema())?.count::<Note>()?, salvaged.tables[0].rows);
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
pub fn salvage(from: impl AsRef<Path>, to: impl AsRef<Path>, limits: &Limits) -> Result<Salvaged, Error> {
    let doing = "cannot salvage the file";
    let from = from.as_ref();
    let refuse = |cause, why: &str, advice: &str| {
        let error = Error::new(cause, format!("{doing}: {why}")).untouched("Nothing was written");
        Err(error.advise(advice).in_file(from))
    };
    if !from.is_file() {
        return refuse(Cause::FileMissing, "it does not exist, or is no file", "Check the path");
    }
    let path = resolved(from)?;
    if is_open_here(&path) {
        return refuse(Cause::InUse, "this process has it open", "Close it first");
    }
    let mut source = match PageSource::open(&path) {
        Ok(Some(source)) => source,
        Ok(None) => {
            let advice = "Its first page must be there; look for an older copy, such as a backup beside it";
            return refuse(Cause::NotADatabase, "its beginning is not that of a database", advice);
        }
        Err(error) => return Err(Error::device(doing, &error).in_file(from)),
    };
    let salvaged_with = source.cipher.clone();
    let mut report = Salvaged { lost: source.left_out.take().into_iter().collect(), ..Salvaged::default() };
    report.lost.extend(unanswered(&path).map(|(_, what)| format!("{what}; Drawer::bring_back_log replays it")));
    new_file::make_new(to.as_ref(), doing, |unfinished| {
        let mut connection = Opener::new(unfinished).relaxed().encrypted(salvaged_with).new_writer()?;
        connection.bound(&limits.cancel, limits.within, fs::metadata(&path).map_or(0, |m| m.len()))?;
        let mut salvaging = Salvaging {
            seen: vec![false; source.pages as usize + 1],
            source: &mut source,
            to: &connection,
            report: &mut report,
            rows: 0,
            last_numbers: BTreeMap::new(),
            path: &path,
            limits,
        };
        let encoding = match salvaging.source.layout.encoding {
            Encoding::Utf8 => "UTF-8",
            Encoding::Utf16Low => "UTF-16le",
            Encoding::Utf16High => "UTF-16be",
        };
        connection.enforce_foreign_keys(false)?;
        connection.set_encoding(encoding)?;
        let transaction = connection.transaction()?;
        salvaging.all()?;
        transaction.commit()?;
        connection.leave_wal()?;
        connection.close()?;
        // What is no drawer any more forgets no keys.
        let _ = note_copied_keys(unfinished);
        Ok(())
    })?;
    Ok(report)
}

struct Salvaging<'a> {
    source: &'a mut PageSource,
    seen: Vec<bool>,
    to: &'a Connection,
    report: &'a mut Salvaged,
    rows: u64,
    last_numbers: BTreeMap<String, i64>,
    path: &'a Path,
    limits: &'a Limits,
}

/// A line of the file's list of what is in it.
struct SchemaRow {
    kind: String,
    name: String,
    root: u32,
    statement: String,
}

/// A table that is being saved.
struct SavedTable {
    name: String,
    root: u32,
    /// Its columns in the order in which rows have them.
    columns: Vec<SavedColumn>,
    insert: String,
    missing: Missing,
    report: SalvagedTable,
}

struct SavedColumn {
    storage: String,
    default: Option<String>,
    required: bool,
    /// The row number itself, of which rows have only the place.
    is_row_number: bool,
    /// It is computed of others, so it is not written.
    is_computed: bool,
}

impl Salvaging<'_> {
    fn all(&mut self) -> Result<(), Fault> {
        let mut entries = Vec::new();
        let missing = tree::walk::<Fault>(self.source, 1, &mut self.seen, &mut |(_, row)| {
            entries.extend(entry(&row));
            Ok(())
        })?;
        if !missing.is_nothing() {
            self.report.lost.push("part of the list of tables cannot be read; tables may be missing".into());
        }
        let mut structure = self.structure(&entries)?;
        let is_ours = structure.is_some() || i64::from(self.source.header.application) == APPLICATION_ID;
        let is_made_anew = |name: &str| is_ours && is_made_anew(name);
        let is_saved = |e: &&SchemaRow| e.kind == "table" && !e.name.starts_with("sqlite_") && !is_made_anew(&e.name);
        let mut tables = Vec::new();
        for entry in entries.iter().filter(is_saved) {
            tables.extend(self.created(entry)?);
        }
        for entry in entries.iter().filter(|e| e.kind == "index" && !e.statement.is_empty()) {
            if let Err(fault) = self.to.run_creating(&entry.statement) {
                self.report.lost.push(format!("the index `{}` cannot be created: {}", entry.name, fault.message));
            }
        }
        self.read_last_numbers(&entries)?;
        for table in &mut tables {
            self.save(table)?;
        }
        if !missing.is_nothing() && i64::from(self.source.header.application) == APPLICATION_ID {
            for entry in self.not_listed(&entries, &mut structure)? {
                if let Some(mut table) = self.created(&entry)? {
                    self.save(&mut table)?;
                    tables.push(table);
                    let of = structure.as_ref().and_then(|structure| structure.table(&entry.name));
                    let indexes = of.into_iter().flat_map(|of| &of.indexes);
                    indexes.into_iter().try_for_each(|index| self.to.run(&create_index(&entry.name, index)))?;
                }
            }
        }
        self.find_orphaned(&mut tables)?;
        self.keep_last_numbers()?;
        self.finish(structure.as_ref(), &mut tables)?;
        let is_own = |name: &str| is_ours && name.starts_with("velvet_");
        let (own, others): (Vec<_>, Vec<_>) = tables.into_iter().partition(|t| is_own(&t.name));
        let lost = |t: &SavedTable| !t.report.is_whole();
        if own.iter().any(lost) {
            let names: Vec<&str> = own.iter().filter(|t| lost(t)).map(|t| t.name.as_str()).collect();
            self.report.lost.push(format!("part of the file's own bookkeeping is lost: {}", names.join(", ")));
        }
        for kind in ["view", "trigger"] {
            let left: Vec<&str> =
                entries.iter().filter(|e| e.kind == kind && !is_own(&e.name)).map(|e| e.name.as_str()).collect();
            if !left.is_empty() {
                self.report
                    .lost
                    .push(format!("not recovered, because only tables and indexes are: {kind} {}", left.join(", ")));
            }
        }
        self.report.tables = others.into_iter().map(|t| t.report).collect();
        progress::tell(|| "saving rows".to_owned(), self.rows, Some(self.rows));
        Ok(())
    }

    /// The structure that the file was declared to have, where an app of ours made it and it can be read.
    fn structure(&mut self, entries: &[SchemaRow]) -> Result<Option<Structure>, Fault> {
        let Some(about) = entries.iter().find(|e| e.name == "velvet_about") else { return Ok(None) };
        let mut json = None;
        let mut seen = vec![false; self.seen.len()];
        tree::walk::<Fault>(self.source, about.root, &mut seen, &mut |(_, row)| {
            if let [Value::Text(name), Value::Text(value)] = &row[..]
                && name == "structure"
            {
                json = serde_json::from_str(value).ok();
            }
            Ok(())
        })?;
        Ok(json)
    }

    /// The tables that the list of tables does not name any more, found by what their rows are like: one that only one lost table can have had.
    fn not_listed(
        &mut self,
        entries: &[SchemaRow],
        structure: &mut Option<Structure>,
    ) -> Result<Vec<SchemaRow>, Fault> {
        let unused = self.source.unused();
        let (mut trees, mut below) = (Vec::new(), HashSet::new());
        for number in 2..self.seen.len() as u32 {
            if self.seen[number as usize] || unused.contains(&number) {
                continue;
            }
            let Some(page) = self.source.page(number) else { continue };
            match node(&page, false, &self.source.layout) {
                Some(Node::Inner(children)) => below.extend(children.into_iter().map(|(_, child)| child)),
                Some(Node::Leaf { cells, broken: 0 }) if !cells.is_empty() => {}
                _ => continue,
            }
            trees.push(number);
        }
        trees.retain(|number| !below.contains(number));
        let mut rows_of = Vec::new();
        for root in trees {
            let (mut rows, mut seen) = (Vec::new(), self.seen.clone());
            tree::walk::<Fault>(self.source, root, &mut seen, &mut |(_, row)| {
                if rows.len() < MOST_COMPARED {
                    rows.push(row);
                }
                Ok(())
            })?;
            rows_of.push((root, rows));
        }
        let lacks = |name: &str| !entries.iter().any(|entry| entry.name == name);
        let mut found = Vec::new();
        let mut table = |name: &str, root: u32, statement: String| {
            found.push(SchemaRow { kind: "table".into(), name: name.into(), root, statement });
        };
        if lacks("velvet_about") {
            let says = |row: &Vec<Value>| match &row[..] {
                [Value::Text(name), Value::Text(json)] if name == "structure" => serde_json::from_str(json).ok(),
                _ => None,
            };
            let about = rows_of.iter().find_map(|(root, rows)| Some((*root, rows.iter().find_map(says)?)));
            if let Some((root, found)) = about {
                *structure = Some(found);
                rows_of.retain(|(other, _)| *other != root);
                table("velvet_about", root, About::CREATE.into());
            }
        }
        let lost = || structure.iter().flat_map(|structure| &structure.tables).filter(|table| lacks(&table.name));
        let could_be = |table: &Table, rows: &[Vec<Value>]| rows.iter().all(|row| is_row_of(table, row));
        for of in lost() {
            let trees: Vec<u32> =
                rows_of.iter().filter(|(_, rows)| could_be(of, rows)).map(|(root, _)| *root).collect();
            let is_only_one = |root: u32| {
                let rows = rows_of.iter().find(|(other, _)| *other == root).map_or(&[][..], |(_, rows)| rows);
                lost().filter(|other| could_be(other, rows)).count() == 1
            };
            match trees[..] {
                [root] if is_only_one(root) => table(&of.name, root, create_table(of)),
                [] => {}
                _ => self.report.lost.push(format!(
                    "the rows of `{}` may be in pages that the list of tables does not lead to any more, and could be those of another table",
                    of.name
                )),
            }
        }
        Ok(found)
    }

    fn created(&mut self, entry: &SchemaRow) -> Result<Option<SavedTable>, Fault> {
        if entry.statement.get(..14).is_some_and(|b| b.eq_ignore_ascii_case("CREATE VIRTUAL")) {
            self.report
                .lost
                .push(format!("not recovered, because other tables hold its data: the virtual table {}", entry.name));
            return Ok(None);
        }
        if let Err(fault) = self.to.run_creating(&entry.statement) {
            if entry.name != "velvet_about" {
                self.report.lost.push(format!("the table `{}` cannot be created: {}", entry.name, fault.message));
                return Ok(None);
            }
            // Of this one it is known how it was made.
            self.to.run(About::CREATE)?;
        }
        let is_keyed_otherwise = table_options(&entry.statement).without_row_numbers;
        let columns = self.columns(&entry.name, is_keyed_otherwise)?;
        let written = columns.iter().filter(|c| !c.is_computed).count();
        let names = self.names(&entry.name)?;
        // Where no column is the row number, it is written beside the columns, under a name that none of them has.
        let hidden = ["rowid", "_rowid_", "oid"].into_iter().find(|n| !names.iter().any(|c| c.eq_ignore_ascii_case(n)));
        let hidden = hidden.filter(|_| !is_keyed_otherwise && !columns.iter().any(|c| c.is_row_number));
        let names: Vec<String> = names.iter().map(|n| quoted(n)).chain(hidden.map(str::to_owned)).collect();
        let marks = vec!["?"; written + usize::from(hidden.is_some())].join(", ");
        let insert = format!("INSERT INTO {} ({}) VALUES ({marks})", quoted(&entry.name), names.join(", "));
        let report = SalvagedTable { name: entry.name.clone(), ..SalvagedTable::default() };
        let missing = Missing::default();
        Ok(Some(SavedTable { name: entry.name.clone(), root: entry.root, columns, insert, missing, report }))
    }

    fn columns(&self, table: &str, is_keyed_otherwise: bool) -> Result<Vec<SavedColumn>, Fault> {
        let columns = self.to.columns_of(table)?;
        let is_keyed_by_one = columns.iter().filter(|c| c.key_place > 0).count() == 1;
        let has_numbers = is_keyed_by_one && !is_keyed_otherwise;
        let column = |c: ColumnEntry| SavedColumn {
            is_row_number: has_numbers && c.key_place == 1 && c.storage.eq_ignore_ascii_case("INTEGER"),
            storage: c.storage.to_ascii_uppercase(),
            default: c.default,
            required: c.required,
            is_computed: !c.is_stored,
        };
        Ok(columns.into_iter().filter(|c| c.is_in_rows).map(column).collect())
    }

    /// The names of the columns that are written.
    fn names(&self, table: &str) -> Result<Vec<String>, Fault> {
        Ok(self.to.columns_of(table)?.into_iter().filter(|c| c.is_stored).map(|c| c.name).collect())
    }

    fn save(&mut self, table: &mut SavedTable) -> Result<(), Fault> {
        let is_keyed_otherwise = self.source.page(table.root).is_some_and(|page| matches!(page.first(), Some(2 | 10)));
        if is_keyed_otherwise {
            return self.save_by_engine(table);
        }
        // The rows are handed over while the pages are read, so that a large table is never in memory as a whole.
        let (to, rows) = (self.to, &mut self.rows);
        let missing = tree::walk(self.source, table.root, &mut self.seen, &mut |row| insert(to, table, row, rows))?;
        table.report.damaged += missing.broken;
        if missing.with_zeros > 0 {
            let rows = count(usize::try_from(missing.with_zeros).unwrap_or(usize::MAX), "row");
            let what = format!(
                "{rows} of `{}` were saved that go on in pages of nothing but zeros: their long values may be damaged",
                table.name
            );
            self.report.lost.push(what);
        }
        table.missing = missing;
        Ok(())
    }

    /// Saves the rows of a table without row numbers, up to the first fault.
    fn save_by_engine(&mut self, table: &mut SavedTable) -> Result<(), Fault> {
        let columns = self.to.columns_of(&table.name)?.into_iter().filter(|c| c.is_in_rows);
        let names: Vec<String> = columns.map(|c| quoted(&c.name)).collect();
        let text = format!("SELECT {} FROM {}", names.join(", "), quoted(&table.name));
        let (to, rows) = (self.to, &mut self.rows);
        // What the new file says is no fault of the damaged one.
        let mut own = Ok(());
        let read = File::open_within(self.path, self.limits).and_then(|file| {
            file.read("cannot read the rows", |c| {
                let mut statement = c.prepare(&text)?;
                let mut found = statement.rows();
                while own.is_ok()
                    && let Some(row) = found.next()?
                {
                    let values = (0..row.count()).map(|at| row.value(at).to_value()).collect();
                    own = insert(to, table, (0, values), rows);
                }
                Ok(())
            })
        });
        if read.is_err() {
            self.report.lost.push(format!("the table `{}` has no row numbers, and cannot be read whole", table.name));
        }
        own
    }

    /// Looks for the rows of tables with gaps in pages that nothing leads to.
    fn find_orphaned(&mut self, tables: &mut [SavedTable]) -> Result<(), Fault> {
        if tables.iter().any(|t| !t.missing.gaps.is_empty()) {
            let unused = self.source.unused();
            for number in 2..self.seen.len() as u32 {
                if self.seen[number as usize] || unused.contains(&number) {
                    continue;
                }
                let Some(rows) = tree::orphaned(self.source, number) else { continue };
                let fits =
                    |t: &&mut SavedTable| rows.iter().all(|(row, values)| t.missing.covers(*row) && fits(t, values));
                let mut candidates: Vec<&mut SavedTable> = tables.iter_mut().filter(fits).collect();
                // Where it could be of several, it is taken for none: a row in the wrong table is worse than one that is lost.
                if let [table] = &mut candidates[..] {
                    for row in rows {
                        let before = table.report.rows;
                        insert(self.to, table, row, &mut self.rows)?;
                        table.report.orphaned += table.report.rows - before;
                    }
                }
            }
        }
        for table in tables {
            table.report.gaps = self.left_of_gaps(table)?;
        }
        Ok(())
    }

    /// The gaps that are left between the rows that were saved in the end. Orphaned rows do not tell whether there were
    /// others beside them, so every number between them may be one that is lost.
    fn left_of_gaps(&self, table: &SavedTable) -> Result<Vec<(i64, i64)>, Fault> {
        if table.report.orphaned == 0 {
            return Ok(table.missing.gaps.clone());
        }
        let mut left = Vec::new();
        for (first, last) in &table.missing.gaps {
            // Numbers are given from 1 on, up to the last that the file remembers.
            let (mut from, to) = match self.last_numbers.get(&table.name) {
                Some(given) => ((*first).max(1), (*last).min(*given)),
                None => (*first, *last),
            };
            let text =
                format!("SELECT rowid FROM {} WHERE rowid BETWEEN {from} AND {to} ORDER BY rowid", quoted(&table.name));
            for found in self.to.list(&text, [], |row| row.integer(0))? {
                left.extend((from < found).then(|| (from, found - 1)));
                from = found.saturating_add(1);
            }
            left.extend((from <= to && from != i64::MAX).then_some((from, to)));
        }
        Ok(left)
    }

    /// The last row numbers that the file gave.
    fn read_last_numbers(&mut self, entries: &[SchemaRow]) -> Result<(), Fault> {
        let Some(sequence) = entries.iter().find(|e| e.name == "sqlite_sequence") else { return Ok(()) };
        let last_numbers = &mut self.last_numbers;
        tree::walk::<Fault>(self.source, sequence.root, &mut self.seen, &mut |(_, row)| {
            if let [Value::Text(table), Value::Integer(number)] = &row[..] {
                last_numbers.insert(table.clone(), *number);
            }
            Ok(())
        })?;
        Ok(())
    }

    /// Row numbers that were given once are not given again.
    fn keep_last_numbers(&self) -> Result<(), Fault> {
        self.last_numbers.iter().try_for_each(|(table, number)| self.to.keep_last_row_number(table, *number))
    }

    /// Makes a drawer of what was saved, where it was one.
    fn finish(&mut self, structure: Option<&Structure>, tables: &mut [SavedTable]) -> Result<(), Fault> {
        let Header { version, application, .. } = self.source.header;
        self.to.set_version(version.into())?;
        self.to.set_application(application.into())?;
        if i64::from(application) != APPLICATION_ID {
            return Ok(());
        }
        let Some(structure) = structure.filter(|_| tables.iter().any(|t| t.name == "velvet_about")) else {
            let what = "what the file says about its structure is lost";
            if self.to.has("velvet_sealing")? {
                self.report.lost.push(format!("{what}, so the app cannot open this one"));
                return Ok(());
            }
            // As a plain file, it can be taken over.
            let own = |e: &Entry| e.kind == EntryKind::Table && e.name.starts_with("velvet_");
            for entry in self.to.entries()?.into_iter().filter(own) {
                self.to.run(&format!("DROP TABLE {}", quoted(&entry.name)))?;
            }
            self.to.set_version(0)?;
            self.to.set_application(0)?;
            self.report.lost.push(format!(
                "{what}, and its bookkeeping with it: the app takes the saved file over with Options::adopt, by its tables"
            ));
            return Ok(());
        };
        for table in &structure.tables {
            if !tables.iter().any(|t| t.name == table.name) {
                self.report
                    .lost
                    .push(format!("the table `{}` is lost; it was created again, without rows", table.name));
                self.to.run(&create_table(table))?;
                table.indexes.iter().try_for_each(|index| self.to.run(&create_index(&table.name, index)))?;
            }
            for statement in ATTENDANTS.iter().flat_map(|a| a.make(structure, table)) {
                self.to.run(&statement)?;
            }
        }
        search::bring_up(self.to, structure)?;
        About::remember(self.to, "fingerprint", &fingerprint::of(structure))?;
        About::remember(self.to, "trail", "")?;
        if About::fact(self.to, "app")?.is_none() {
            self.report.lost.push("the name of the app is lost, so the app cannot open this one".into());
        }
        let broken = self.to.broken_links(None, u64::MAX)?.len();
        if broken > 0 {
            let what = format!("{broken} links lead to records that were not saved; `velvet check` names them");
            self.report.lost.push(what);
        }
        About::same_after_all(self.to)
    }
}

/// How many rows of a tree are compared with what tables hold.
const MOST_COMPARED: usize = 200;

/// Whether values could be a row of a declared table.
fn is_row_of(table: &Table, values: &[Value]) -> bool {
    let [Value::Missing, values @ ..] = values else { return false };
    // Whole decimal numbers are stored as whole numbers.
    let as_read = |column: &ColumnDefinition, value: &Value| match (column.kind.storage(), value) {
        ("REAL", Value::Integer(number)) => Value::Real(*number as f64),
        _ => value.clone(),
    };
    values.len() == table.columns.len()
        && table
            .columns
            .iter()
            .zip(values)
            .all(|(column, value)| fits::fits(column, as_read(column, value).as_ref()).is_ok())
}

/// What is made anew rather than saved: search indexes.
fn is_made_anew(name: &str) -> bool {
    name == UNINDEXED || name.starts_with("velvet_search_")
}

fn entry(row: &[Value]) -> Option<SchemaRow> {
    let text = |value: &Value| if let Value::Text(text) = value { text.clone() } else { String::new() };
    let [kind, name, _, root, statement, ..] = row else { return None };
    let root = if let Value::Integer(root) = root { u32::try_from(*root).ok()? } else { 0 };
    Some(SchemaRow { kind: text(kind), name: text(name), root, statement: text(statement) })
}

/// Whether values could be a row of a table.
fn fits(table: &SavedTable, values: &[Value]) -> bool {
    let kinds = table.columns.iter().zip(values).all(|(column, value)| match value {
        Value::Missing => column.is_row_number || !column.required,
        _ if column.is_row_number => false,
        Value::Integer(_) => matches!(column.storage.as_str(), "INTEGER" | "INT" | "REAL" | "ANY" | ""),
        Value::Real(_) => matches!(column.storage.as_str(), "REAL" | "ANY" | ""),
        Value::Text(_) => matches!(column.storage.as_str(), "TEXT" | "ANY" | ""),
        Value::Bytes(_) => matches!(column.storage.as_str(), "BLOB" | "ANY" | ""),
    });
    kinds && values.len() == table.columns.len()
}

fn insert(
    to: &Connection,
    table: &mut SavedTable,
    (number, mut values): SavedRow,
    rows: &mut u64,
) -> Result<(), Fault> {
    if values.len() > table.columns.len() {
        table.report.damaged += 1;
        return Ok(());
    }
    let mut statement = to.prepare(&table.insert)?;
    let mut position = 0;
    for (at, column) in table.columns.iter().enumerate() {
        if column.is_computed {
            continue;
        }
        let value = match values.get_mut(at) {
            Some(Value::Missing) if column.is_row_number => Value::Integer(number),
            Some(value) => std::mem::replace(value, Value::Missing),
            // The column was added after the row was written.
            None => column.default.as_deref().map_or(Value::Missing, Value::of_literal),
        };
        position += 1;
        statement.bind(position, value.as_ref())?;
    }
    if !table.columns.iter().any(|c| c.is_row_number) && statement.arguments().len() > position {
        statement.bind(position + 1, Value::Integer(number).as_ref())?;
    }
    match statement.execute() {
        Ok(_) => table.report.rows += 1,
        Err(fault)
            if matches!(
                fault.kind,
                FaultKind::Clash(_)
                    | FaultKind::Trigger
                    | FaultKind::Unfit
                    | FaultKind::NotWhole
                    | FaultKind::TooBig
                    | FaultKind::OutOfProportion
                    | FaultKind::Other
            ) =>
        {
            table.report.refused += 1;
        }
        Err(fault) => return Err(fault),
    }
    *rows += 1;
    progress::tell_rows(|| "saving rows".to_owned(), *rows, None);
    Ok(())
}
