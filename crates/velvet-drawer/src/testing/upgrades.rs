//! Files of every version open at the newest, and every record in them can be read.

use super::history::{is_recording, record_command, say};
use super::sample_rows;
use crate::device::temporary;
use crate::drawer::Drawer;
use crate::engine::{Connection, Opener};
use crate::error::{Cause, Doing, Error};
use crate::inspect::{self, Exchange, File, Page};
use crate::opening::Options;
use crate::records::Tx;
use crate::schema::about::About;
use crate::schema::{Declared, RecordType, Schema};
use crate::sealing::Sealing;
use std::fs;
use std::path::{Path, PathBuf};
use velvet_core::Value;
use velvet_core::evolve::{self, History, Step};
use velvet_core::schema::fingerprint;

/// Makes a file at every past version, with rows that have nothing, extremes, every script and links in them, opens each
/// with `schema`, and sees that it comes out with the newest structure, that every record can be read as its type, and that all rows
/// and all values that no change is about are there. For rows of the app's own, see [`Upgrades`].
///
/// # Panics
/// When a version does not upgrade, or something is missing or cannot be read afterwards, with what.
#[track_caller]
pub fn every_version_upgrades(schema: &Schema) {
    Upgrades::of(schema).check();
}

/// Tries the upgrade from every past version, with rows of the app's own.
///
/// No rows can be made up for nested values and for types of the app's own whose values have a form. So the app keeps some as they were
/// at each version: a closure inserts them, and `VELVET_HISTORY=record cargo test` writes what it inserted to a file for the version at
/// hand, to be checked in. From then on each test run upgrades them, and reads the result: a part that was added to a nested type without
/// a default, or an expression that does not fit real text, fails here and not on a phone.
///
/// ```no_run
/// # use velvet_drawer::{Record, Schema};
/// # #[derive(Record)] struct Piece { mark: String }
/// # fn schema() -> Schema { Schema::new("kilnbook").record::<Piece>() }
/// use velvet_drawer::testing;
///
/// #[test]
/// fn files_of_every_version_open() {
///     testing::Upgrades::of(&schema())
///         .samples("tests/samples", |tx| {
///             tx.insert(Piece { mark: "K-101".into() })?;
///             Ok(())
///         })
///         .look(|_version, drawer| assert!(drawer.count::<Piece>().unwrap() > 0))
///         .check();
/// }
/// ```
#[must_use = "nothing is tried before `check` is called"]
pub struct Upgrades<'a> {
    schema: &'a Schema,
    samples: Option<(PathBuf, Box<Sample<'a>>)>,
    look: Option<Box<Look<'a>>>,
}

type Sample<'a> = dyn Fn(&Tx<'_>) -> Result<(), Error> + 'a;
type Look<'a> = dyn FnMut(u32, &Drawer) + 'a;

impl<'a> Upgrades<'a> {
    /// Of the versions in the history of this schema.
    pub fn of(schema: &'a Schema) -> Upgrades<'a> {
        Upgrades { schema, samples: None, look: None }
    }

    /// Keeps the rows that `insert` makes in a file for each version, `version-3.jsonl` and so on, in a folder that is relative to the
    /// package. Tables that have rows there get no others. The file of a version that was released is never written again; one
    /// of a version from before samples were kept can be written by hand, or by `velvet export` from a real file.
    pub fn samples(
        mut self,
        folder: impl Into<PathBuf>,
        insert: impl Fn(&Tx<'_>) -> Result<(), Error> + 'a,
    ) -> Upgrades<'a> {
        self.samples = Some((folder.into(), Box::new(insert)));
        self
    }

    /// Hands each upgraded drawer to `look`, with the version that it had.
    pub fn look(mut self, look: impl FnMut(u32, &Drawer) + 'a) -> Upgrades<'a> {
        self.look = Some(Box::new(look));
        self
    }

    /// Tries all of them.
    ///
    /// # Panics
    /// As [`every_version_upgrades`], and when the rows of the newest version are not kept yet.
    #[track_caller]
    pub fn check(mut self) {
        if let Err(why) = self.all_versions() {
            panic!("\n\n{why}\n");
        }
    }

    fn all_versions(&mut self) -> Result<(), String> {
        let declared = match self.schema.clone().declared() {
            Err(_) if is_recording() => {
                say(
                    "Upgrades are not tried in this run: the history that the test was built with is not that of the types.",
                );
                return self.keep_next_samples();
            }
            declared => declared.map_err(|e| e.to_string())?,
        };
        let history = match &declared.history {
            Some(text) => History::parse(text).map_err(|p| p.to_string())?,
            None => History::start(&declared.app, &declared.structure),
        };
        let is_released = history.versions.first().is_some_and(|v| v.released);
        self.keep_samples(self.schema, history.newest, is_released)?;
        for version in 1..=history.newest {
            let samples = self.samples_of(version)?;
            if version == history.newest && samples.is_none() {
                continue;
            }
            self.one_version(&declared, &history, version, samples.as_deref())
                .map_err(|why| format!("A file of version {version} does not come out right: {why}"))?;
        }
        Ok(())
    }

    fn samples_file(&self, version: u32) -> Option<PathBuf> {
        self.samples.as_ref().map(|(folder, _)| folder.join(format!("version-{version}.jsonl")))
    }

    fn samples_of(&self, version: u32) -> Result<Option<String>, String> {
        match self.samples_file(version) {
            Some(file) if file.exists() => {
                fs::read_to_string(&file).map(Some).map_err(|e| format!("{} cannot be read: {e}", file.display()))
            }
            _ => Ok(None),
        }
    }

    /// Writes the rows of the version that is being recorded in this run.
    fn keep_next_samples(&self) -> Result<(), String> {
        let mut schema = self.schema.clone();
        let history = schema.without_history().map(|text| History::parse(&text).and_then(|history| history.base()));
        match history {
            Some(Ok((_, version))) => self.keep_samples(&schema, version, false),
            // The test of the history says what is wrong with it.
            _ => Ok(()),
        }
    }

    /// Writes the rows of a version to their file, when it is recorded; sees that they were otherwise.
    fn keep_samples(&self, schema: &Schema, version: u32, is_released: bool) -> Result<(), String> {
        let (Some((folder, insert)), Some(file)) = (&self.samples, self.samples_file(version)) else {
            return Ok(());
        };
        if file.exists() && (is_released || !is_recording()) {
            return Ok(());
        }
        if !is_recording() {
            return Err(format!(
                "{} does not exist yet: the rows of version {version} are not kept. To keep them, run: {}",
                file.display(),
                record_command()
            ));
        }
        let place = temporary::folder().map_err(|e| e.to_string())?;
        let path = place.path().join("sample.drawer");
        let drawer = Options::default().with_fixed_key().open(&path, schema.clone()).map_err(|e| e.to_string())?;
        drawer.write(|tx| insert(tx)).and_then(|()| drawer.close()).map_err(|e| format!("the rows to be kept: {e}"))?;
        let mut rows = Vec::new();
        let exported = File::open(&path).and_then(|f| f.export_all(Exchange::JsonLines, &mut rows));
        exported.map_err(|e| e.to_string())?;
        fs::create_dir_all(folder)
            .and_then(|()| fs::write(&file, rows))
            .map_err(|e| format!("{} cannot be written: {e}", file.display()))?;
        say(&format!("Kept the rows of version {version} in {}. Check it in.", file.display()));
        Ok(())
    }

    fn one_version(
        &mut self,
        declared: &Declared,
        history: &History,
        version: u32,
        samples: Option<&str>,
    ) -> Result<(), String> {
        let folder = temporary::folder().map_err(|e| e.to_string())?;
        let path = folder.path().join("sample.drawer");
        let structure = history.structure(version).map_err(|p| p.to_string())?;
        let changes: Vec<&Step> = history.since(version).flat_map(|v| &v.steps).collect();
        let old = Declared { version, fingerprint: fingerprint::of(&structure), structure, ..declared.clone() };
        make(&path, &old).map_err(|error| format!("it could not be made: {error}"))?;
        if let Some(samples) = samples {
            inspect::import(&path, None, Exchange::JsonLines, &mut samples.as_bytes(), &inspect::Limits::default())
                .map_err(|e| format!("its rows in `version-{version}.jsonl`: {e}"))?;
        }
        fill(&path, &old, declared, &changes)?;
        let before = read(&path, &old)?;
        let drawer = Options::default().with_fixed_key().open(&path, self.schema.clone()).map_err(|e| e.to_string())?;
        for of in &declared.types {
            every_record_is_readable(&drawer, of).map_err(|e| {
                format!(
                    "{e}. What is stored must stay readable: give the type a default or another form for it, or let the upgrade convert \
                     it. If no file of this version can have such a value, keep rows of your own with testing::Upgrades::samples"
                )
            })?;
        }
        if let Some(look) = &mut self.look {
            look(version, &drawer);
        }
        drawer.close().map_err(|e| e.to_string())?;
        if changes.iter().any(|c| c.is_by_hand()) {
            // Statements and code may do anything to any row; what they should come to, only `look` can know.
            return Ok(());
        }
        let after = read(&path, declared)?;
        carried(&changes, &before, &after)
    }
}

/// Reads every record there is as its type.
fn every_record_is_readable(drawer: &Drawer, of: &RecordType) -> Result<(), Error> {
    drawer.inner.reading(|scope| {
        let doing = || format!("cannot read records of {}", of.table);
        scope.doing(doing, || {
            scope.connection.rows(of.select, [], |row| {
                let key = row.key();
                (of.is_readable)(row)
                    .map_err(|misfit| Error::misfit(Cause::Unreadable, of.table, of.columns, misfit))
                    .doing(|| format!("cannot read {} {key}", of.table))
            })
        })
    })
}

fn connection(path: &Path, old: &Declared) -> Result<Connection, Error> {
    let sealing = Sealing::with_fixed_key(&old.structure)?;
    let connection = Opener::new(path).relaxed().sealing(sealing.seals()).new_writer()?;
    sealing.begin(&connection, &old.app, &old.structure, &old.structure)?;
    Ok(connection)
}

/// Makes a file of an old version, without rows.
fn make(path: &Path, declared: &Declared) -> Result<(), Error> {
    let connection = connection(path, declared)?;
    for text in evolve::create(&declared.structure) {
        connection.run(&text)?;
    }
    About::write(&connection, declared)?;
    Ok(connection.close()?)
}

/// Fills the tables that have no rows yet. A value that stays as it is must be one of the type that it has now.
fn fill(path: &Path, old: &Declared, declared: &Declared, changes: &[&Step]) -> Result<(), String> {
    let fits = |table: &str, column: &str, value: &Value| match now(table, column, changes) {
        Some((table, column)) => declared.fits(&table, &column, value.as_ref()).is_ok(),
        None => true,
    };
    let connection = connection(path, old).map_err(|error| error.to_string())?;
    let mut unfit = Vec::new();
    sample_rows::fill(&connection, &old.structure, &fits, &mut |table, column| {
        unfit.push(format!("`{}.{}`", table.name, column.name))
    })
    .map_err(|fault| format!("it could not be filled: {}", fault.message))?;
    if !unfit.is_empty() {
        return Err(format!(
            "no values can be made up for {}, because the type does not take just any. Keep rows of this version, with \
             testing::Upgrades::samples",
            unfit.join(", ")
        ));
    }
    connection.close().map_err(|fault| fault.message)
}

/// The columns of a file: table, column, and its values by key.
type ValuesByColumn = Vec<(String, String, Vec<Value>)>;

fn read(path: &Path, declared: &Declared) -> Result<ValuesByColumn, String> {
    let file = File::open(path).map_err(|e| e.to_string())?;
    let mut all = ValuesByColumn::new();
    for table in &declared.structure.tables {
        let found = file.table(&table.name).map_err(|e| e.to_string())?;
        let start = all.len();
        all.extend(table.column_names().map(|c| (table.name.clone(), c.to_owned(), Vec::new())));
        let page = Page { columns: table.column_names().map(str::to_owned).collect(), ..Page::default() };
        let read = file.rows(&found, &page, &mut |row| {
            for (column, value) in all[start..].iter_mut().zip(row) {
                column.2.push(value.to_value());
            }
            Ok(())
        });
        read.map_err(|e| e.to_string())?;
    }
    Ok(all)
}

/// Sees that every column that no change is about has the same values, wherever it is now.
fn carried(changes: &[&Step], before: &ValuesByColumn, after: &ValuesByColumn) -> Result<(), String> {
    for (table, column, values) in before {
        let Some((now_table, now_column)) = now(table, column, changes) else { continue };
        let found = after.iter().find(|(t, c, _)| *t == now_table && *c == now_column);
        let Some((_, _, found)) = found else { return Err(format!("`{now_table}.{now_column}` is gone")) };
        if found.len() != values.len() {
            return Err(format!("`{now_table}` had {} rows and has {}", values.len(), found.len()));
        }
        if let Some(at) = (0..values.len()).find(|at| values[*at] != found[*at]) {
            let (was, is) = (values[at].literal(), found[at].literal());
            return Err(format!("`{now_table}.{now_column}` of row {} was {was} and is {is}", at + 1));
        }
    }
    Ok(())
}

/// Where a column is after the changes; nothing when one of them is about it.
fn now(table: &str, column: &str, changes: &[&Step]) -> Option<(String, String)> {
    let (mut table, mut column) = (table.to_owned(), column.to_owned());
    for change in changes {
        match change {
            Step::RenameTable { table: from, to } if *from == table => table.clone_from(to),
            Step::RenameColumn { table: t, column: from, to } if *t == table && *from == column => {
                column.clone_from(to)
            }
            Step::DropTable { table: t } if *t == table => return None,
            Step::DropColumn { table: t, column: c } if *t == table && *c == column => return None,
            Step::ChangeColumn { table: t, column: c, .. } if *t == table && c.name == column => return None,
            _ => {}
        }
    }
    Some((table, column))
}
