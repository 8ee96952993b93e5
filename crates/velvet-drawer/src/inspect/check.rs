//! Whether a file is sound: its pages, links, indexes and search indexes, stored values, and what it says about itself.

use super::file::File;
use super::salvage::{DamageOfPage, DamagedPage, damage};
use crate::engine::{Connection, Fault, FaultKind};
use crate::error::Error;
use crate::opening::unanswered;
use crate::schema::about::About;
use crate::search;
use crate::work::progress;
use serde::Serialize;
use std::fmt;
use std::path::Path;
use velvet_core::exchange::show::count;
use velvet_core::records::fits::fits;
use velvet_core::schema::fingerprint;
use velvet_core::schema::physical::Physical;
use velvet_core::schema::structure::{ATTACHMENT, ATTACHMENT_PART, Structure, Table};
use velvet_core::statement::{PARTS_BETWEEN, part_keys};
use velvet_core::value::name::{KEY_COLUMN, quoted};
use velvet_core::{Misfit, ValueRef};

/// What a check found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Checked {
    /// What is wrong, the gravest first; at most [`File::MOST_PROBLEMS`] of each kind in each table.
    pub problems: Vec<Problem>,
    /// How many more of the same kinds there are.
    pub more: u64,
    /// How many rows were looked at, value by value.
    pub rows: u64,
}

/// One thing that is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// What it is about.
    pub kind: ProblemKind,
    /// The table, where it is about one.
    pub table: Option<String>,
    /// The row number, where it is about a row.
    pub row: Option<i64>,
    /// The number of the page of the file, from 1, where it is about one.
    pub page: Option<u32>,
    /// What is wrong, as a sentence.
    pub what: String,
}

/// What a problem is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum ProblemKind {
    /// The pages of the file, or an index: what is stored may not be found, or found wrongly.
    Pages,
    /// The structure is not what the file says of it.
    Structure,
    /// What the file says about itself does not add up.
    Bookkeeping,
    /// A link leads nowhere.
    Link,
    /// A value is not one of its field's type: the app cannot read it.
    Value,
    /// A search index does not say what is in its table.
    SearchIndex,
    /// What is in an attachment is not what was stored.
    Attachment,
    /// A write-ahead log was set aside, and may hold transactions that the file lacks.
    SetAside,
}

impl Checked {
    /// Whether nothing is wrong.
    pub fn is_sound(&self) -> bool {
        self.problems.is_empty()
    }

    fn add(&mut self, kind: ProblemKind, table: Option<&str>, row: Option<i64>, what: String) {
        let alike = |p: &&Problem| p.kind == kind && p.table.as_deref() == table;
        if self.problems.iter().filter(alike).count() < File::MOST_PROBLEMS {
            self.problems.push(Problem { kind, table: table.map(str::to_owned), row, page: None, what });
        } else {
            self.more += 1;
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.what)
    }
}

impl File {
    /// How many problems of one kind are told of each table.
    pub const MOST_PROBLEMS: usize = 20;

    /// Checks everything that can be checked. Of a file that no app of ours made,
    /// these are its pages, indexes and links.
    ///
    /// The file is only read.
    ///
    /// # Errors
    /// When the file cannot be read at all. Damage is no error, but what is looked for.
    ///
    /// ```
    /// use velvet_drawer::inspect::File;
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(searchable)] name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?.insert(Glaze { name: "Celadon".into() })?;
    /// let checked = File::open(path)?.check()?;
    /// assert!(checked.is_sound() && checked.rows == 1);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn check(&self) -> Result<Checked, Error> {
        self.read("cannot check the file", |connection| {
            let mut checked = Checked::default();
            for (_, what) in unanswered(self.path()) {
                checked.add(ProblemKind::SetAside, None, None, format!("{what}; Drawer::bring_back_log replays it"));
            }
            let parts: [&dyn Fn(&mut Checked) -> Result<(), Fault>; 3] = [
                &|checked| pages(connection, checked),
                &|checked| self.declared().map_or(Ok(()), |declared| bookkeeping(connection, declared, checked)),
                &|checked| links(connection, checked),
            ];
            for part in parts {
                part(&mut checked).or_else(|fault| refused(&mut checked, None, fault))?;
            }
            for table in self.declared().map_or(&[][..], |s| &s.tables) {
                let looked = values(connection, table, &mut checked);
                looked.or_else(|fault| refused(&mut checked, Some(&table.name), fault))?;
            }
            progress::tell(|| "checking rows".to_owned(), checked.rows, Some(checked.rows));
            let has_damage = checked.problems.iter().any(|p| p.kind == ProblemKind::Pages);
            if has_damage {
                name_places(self.path(), &mut checked);
            }
            if let Some(declared) = self.declared().filter(|_| !has_damage) {
                search_indexes(connection, declared, &mut checked)?;
                attachments(connection, declared, &mut checked)?;
            }
            Ok(checked)
        })
    }
}

/// What the engine refuses because the file is damaged, or has another structure, is a finding.
fn refused(checked: &mut Checked, table: Option<&str>, fault: Fault) -> Result<(), Fault> {
    match fault.kind {
        FaultKind::Damaged | FaultKind::NoTable(_) | FaultKind::NoColumn(_) | FaultKind::Other => {
            let place = table.map_or_else(|| "the file".to_owned(), |t| format!("`{t}`"));
            checked.add(
                ProblemKind::Pages,
                table,
                None,
                format!("{place} cannot be read to its end: {}", fault.message),
            );
            Ok(())
        }
        _ => Err(fault),
    }
}

/// Says of damaged pages which they are, and of which table.
fn name_places(path: &Path, checked: &mut Checked) {
    let damage = damage(path);
    for problem in checked.problems.iter_mut().filter(|p| p.kind == ProblemKind::Pages) {
        // As the engine says it: “Tree 14 page 30 cell 3: …”, by the first page of the tree.
        let mut words = problem.what.split([' ', ':']);
        let mut after = |word: &str| words.find(|w| *w == word).and_then(|_| words.next()?.parse::<u32>().ok());
        if let Some(root) = after("Tree") {
            problem.page = after("page");
            let name = damage.roots.iter().find(|(first, _)| *first == root).map(|(_, name)| name.clone());
            if let Some(name) = name {
                problem.what = format!("`{name}`: {}", problem.what);
                problem.table.get_or_insert(name);
            }
        }
    }
    let is_general = |p: &Problem| p.kind == ProblemKind::Pages && p.page.is_none();
    let tables: Vec<&Option<String>> = damage.pages.iter().map(|page| &page.table).collect();
    if !tables.is_empty() {
        // What cannot be read is told page by page.
        checked.problems.retain(|p| !(is_general(p) && (p.table.is_none() || tables.contains(&&p.table))));
    }
    let more = damage.pages.len().saturating_sub(File::MOST_PROBLEMS);
    checked.more += more as u64;
    let found = damage.pages.into_iter().take(File::MOST_PROBLEMS).map(|DamagedPage { number, table, what }| {
        let of = table.as_ref().map_or_else(|| "the list of tables".to_owned(), |name| format!("`{name}`"));
        let what = match what {
            DamageOfPage::Whole(first, last) => {
                format!("page {number} of {of} cannot be read{}", rows_between(first, last))
            }
            DamageOfPage::Rows(rows) => {
                let rows = count(usize::try_from(rows).unwrap_or(usize::MAX), "row");
                format!("page {number} of {of} is damaged: {rows} in it cannot be read")
            }
        };
        Problem { kind: ProblemKind::Pages, table, row: None, page: Some(number), what }
    });
    checked.problems.splice(0..0, found);
}

/// What a page held that cannot be read any more.
fn rows_between(first: i64, last: i64) -> String {
    match (first, last) {
        (i64::MIN, i64::MAX) => ", and so none of its rows can be found".to_owned(),
        (i64::MIN, last) => format!("; it held rows with numbers up to {last}"),
        (first, i64::MAX) => format!("; it held rows with numbers from {first} on"),
        (first, last) if first == last => format!("; it held row {first}"),
        (first, last) => format!("; it held rows with numbers from {first} to {last}"),
    }
}

fn pages(connection: &Connection, checked: &mut Checked) -> Result<(), Fault> {
    for line in connection.broken_pages()? {
        checked.add(ProblemKind::Pages, None, None, line);
    }
    Ok(())
}

fn bookkeeping(connection: &Connection, declared: &Structure, checked: &mut Checked) -> Result<(), Fault> {
    for difference in Physical::of(declared).differences(&connection.physical()?) {
        checked.add(ProblemKind::Structure, None, None, difference);
    }
    let said = About::fact(connection, "fingerprint")?.unwrap_or_default();
    if said != fingerprint::of(declared) {
        let what = "the fingerprint that the file keeps is not that of the structure it keeps";
        checked.add(ProblemKind::Bookkeeping, None, None, what.into());
    }
    let version = connection.version()?;
    let newest = connection.number("SELECT coalesce(max(version), 0) FROM velvet_versions")?;
    if version != newest {
        let what = format!("the file is at version {version}, but says that it went through versions up to {newest}");
        checked.add(ProblemKind::Bookkeeping, None, None, what);
    }
    Ok(())
}

fn links(connection: &Connection, checked: &mut Checked) -> Result<(), Fault> {
    for broken in connection.broken_links(None, u64::MAX)? {
        let what = format!("{} {} links to a {} that does not exist", broken.table, broken.row, broken.to);
        checked.add(ProblemKind::Link, Some(&broken.table), Some(broken.row), what);
    }
    Ok(())
}

/// Sees that each value is one that the app can read.
fn values(connection: &Connection, table: &Table, checked: &mut Checked) -> Result<(), Fault> {
    let columns: Vec<String> = table.column_names().map(quoted).collect();
    let text = format!("SELECT {} FROM {} ORDER BY {}", columns.join(", "), quoted(&table.name), quoted(KEY_COLUMN));
    connection.rows(&text, [], |row| {
        for (at, column) in table.columns.iter().enumerate() {
            if let Err(misfit) = fits(column, row.value(at + 1)) {
                let (name, number) = (&table.name, row.integer(0));
                let Misfit { value, reason, .. } = misfit;
                // A reason may quote a part of the value.
                let what = match column.private {
                    true => format!(
                        "{name} {number}: in `{}`, the private value cannot be read as its column's type",
                        column.name
                    ),
                    false => format!("{name} {number}: in `{}`, {value} {}", column.name, reason.trim_end()),
                };
                checked.add(ProblemKind::Value, Some(name), Some(number), what);
            }
        }
        checked.rows += 1;
        progress::tell_rows(|| "checking rows".to_owned(), checked.rows, None);
        Ok::<_, Fault>(())
    })
}

/// Sees that each content is the one whose hash its attachments have.
fn attachments(connection: &Connection, declared: &Structure, checked: &mut Checked) -> Result<(), Fault> {
    if declared.table(ATTACHMENT_PART).is_none() {
        return Ok(());
    }
    let text = "SELECT min(key), name, bytes, hash, content FROM attachment GROUP BY content ORDER BY 1";
    let all = connection.list(text, [], |row| {
        (row.integer(0), row.text(1).to_owned(), row.integer(2), row.text(3).to_owned(), row.integer(4))
    })?;
    let is_private = declared.table(ATTACHMENT).and_then(|t| t.column("name")).is_some_and(|name| name.private);
    for (key, name, bytes, hash, content) in all {
        let (mut there, mut hasher) = (0, blake3::Hasher::new());
        // Nothing is between these.
        let [first, last] = part_keys(content).unwrap_or([0, -1]);
        connection.rows(PARTS_BETWEEN, [first.into(), last.into()], |row| {
            if let ValueRef::Bytes(part) = row.value(1) {
                there += part.len() as u64;
                hasher.update(part);
            }
            progress::tell(|| "checking attachments".to_owned(), there, Some(bytes.unsigned_abs()));
            Ok::<_, Fault>(())
        })?;
        let wrong = if there != bytes.unsigned_abs() {
            format!("{there} of its {bytes} bytes are there")
        } else if hasher.finalize().to_hex().as_str() != hash {
            "what is in it does not have the hash that it had when it was stored".to_owned()
        } else {
            continue;
        };
        let name = if name.is_empty() || is_private { String::new() } else { format!(" ({name})") };
        checked.add(ProblemKind::Attachment, Some(ATTACHMENT), Some(key), format!("attachment {key}{name}: {wrong}"));
    }
    Ok(())
}

fn search_indexes(connection: &Connection, declared: &Structure, checked: &mut Checked) -> Result<(), Fault> {
    for table in search::searched(declared) {
        match search::is_sound(connection, table) {
            Ok(true) => {}
            Ok(false) => {
                let what = format!(
                    "the full-text search index of `{}` does not match its rows; Drawer::remake_search_index rebuilds it",
                    table.name
                );
                checked.add(ProblemKind::SearchIndex, Some(&table.name), None, what);
            }
            Err(fault) => refused(checked, Some(&table.name), fault)?,
        }
    }
    Ok(())
}
