//! A file that is looked into.

use super::Limits;
use super::as_one::not_as_one;
use super::words::meant;
use crate::engine::{Connection, Entry, EntryKind, Fault, FaultKind, Opener, Traceless};
use crate::error::{Cause, Error};
use crate::opening::resolved;
use crate::schema::about::About;
use crate::work::ui_thread;
use parking_lot::Mutex;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::ValueRef;
use velvet_core::schema::structure::{Kind, Structure};
use velvet_core::value::name::quoted;

/// A file that is looked into. Nothing on it, or beside it, is changed.
pub struct File {
    path: PathBuf,
    engine: Traceless,
    is_ours: bool,
    structure: Option<Structure>,
    limits: Limits,
    /// All that is in it by name, as it was at a count of changes of structure.
    entries: Mutex<Option<(i64, Arc<[Entry]>)>>,
    left_out: Mutex<Vec<String>>,
}

/// A table, as the file has it.
#[derive(Clone, Debug)]
pub struct FoundTable {
    /// Its name.
    pub name: String,
    /// Its columns, in order.
    pub columns: Vec<FoundColumn>,
    /// How to put its rows in the order in which they were inserted, where the table keeps it.
    pub(super) insertion_order: Option<String>,
}

/// A column, as the file has it.
#[derive(Clone, Debug)]
pub struct FoundColumn {
    /// Its name.
    pub name: String,
    /// What it was declared to hold, where the file says.
    pub kind: Option<Kind>,
    /// Whether the file takes what is stored in it for text, so that text which looks like a number is no number there.
    pub holds_text: bool,
    /// Whether it is computed of others.
    pub(super) is_computed: bool,
}

impl FoundColumn {
    /// A column of which no more than its name is known, such as one that is computed.
    pub fn named(name: impl Into<String>) -> FoundColumn {
        FoundColumn { name: name.into(), kind: None, holds_text: false, is_computed: false }
    }
}

/// How often to try again where an app opens or closes the file at the same time.
const ATTEMPTS: usize = 10;

const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(20);

/// The names under which the engine has a row's number, where no column is called so.
const ROW_NUMBER: [&str; 3] = ["rowid", "_rowid_", "oid"];

const UNTOUCHED: &str = "The file was left untouched";

impl File {
    /// Opens the file at `path` to look into it.
    ///
    /// # Errors
    /// When it is not there, is a folder, is no database, or is damaged beyond its first page.
    pub fn open(path: impl AsRef<Path>) -> Result<File, Error> {
        File::open_within(path, &Limits::default())
    }

    /// As [`File::open`], with other limits on what looking into it may take.
    ///
    /// # Errors
    /// As [`File::open`].
    pub fn open_within(path: impl AsRef<Path>, limits: &Limits) -> Result<File, Error> {
        let _waits = ui_thread::watched();
        let path = &std::path::absolute(path.as_ref()).unwrap_or_else(|_| path.as_ref().to_owned());
        if path.is_dir() {
            return Err(Error::new(Cause::FileMissing, "cannot look into the file: it is a folder")
                .advise("Give a file in it; inspect::drawers_in finds them")
                .in_file(path));
        }
        if !path.exists() {
            return Err(Error::new(Cause::FileMissing, "cannot look into the file: it does not exist")
                .advise("Check the path")
                .in_file(path));
        }
        let path = resolved(path)?;
        if !path.is_file() {
            return Err(Error::new(Cause::NotADatabase, "cannot look into the file: it is a pipe or a device")
                .untouched("Nothing was read of it")
                .advise("Give a file")
                .in_file(&path));
        }
        let fault = |fault: Fault| {
            let error = Error::from(fault).doing("cannot look into the file").untouched(UNTOUCHED).in_file(&path);
            // Where the file is not all there, that is the reason.
            match not_as_one(&path) {
                Some(why) => error.advise(format!("This may be why: {why}")),
                None => error,
            }
        };
        let begin = || {
            let engine = Opener::new(&path).traceless(&limits.cancel, limits.within)?;
            let told = engine.read(|c| {
                let is_ours = About::is_ours(c)?;
                Ok::<_, Fault>((is_ours, if is_ours { About::structure(c)? } else { None }))
            })?;
            Ok((engine, told))
        };
        let mut begun = begin();
        for _ in 0..ATTEMPTS {
            // An app that opens the file this very moment changes how it is to be read.
            if !begun.as_ref().is_err_and(|fault: &Fault| fault.kind == FaultKind::Locked) {
                break;
            }
            std::thread::sleep(BETWEEN_ATTEMPTS);
            begun = begin();
        }
        let (engine, (is_ours, structure)) = begun.map_err(fault)?;
        Ok(File {
            is_ours,
            structure,
            engine,
            path,
            limits: limits.clone(),
            entries: Mutex::default(),
            left_out: Mutex::default(),
        })
    }

    /// The whole path of the file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether an app of ours made the file.
    pub(super) fn is_ours(&self) -> bool {
        self.is_ours
    }

    /// The structure that the file was declared to have, when one of our apps made it.
    pub(super) fn declared(&self) -> Option<&Structure> {
        self.structure.as_ref()
    }

    /// The names of its tables and views, without those of our own bookkeeping in a file that an app of ours made, and those in which
    /// virtual tables keep what they show.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn table_names(&self) -> Result<Vec<String>, Error> {
        let is_shown = |e: &Entry| {
            matches!(e.kind, EntryKind::Table | EntryKind::Virtual | EntryKind::View)
                && !e.is_of_engine()
                // Another program may call its tables so too.
                && !(self.is_ours && e.name.starts_with("velvet_"))
        };
        let mut names: Vec<String> = self.catalogue()?.iter().filter(|e| is_shown(e)).map(|e| e.name.clone()).collect();
        if let Some(declared) = &self.structure {
            // An upgrade writes tables anew, which changes their order in the file.
            let position = |name: &String| declared.tables.iter().position(|t| t.name == *name).unwrap_or(usize::MAX);
            names.sort_by_key(position);
        }
        Ok(names)
    }

    /// The table that `word` means: its name, without regard to large and small letters, or the beginning of it.
    ///
    /// # Errors
    /// When there is none, with the nearest, or several ([`Error::is_bad_query`]).
    pub fn table(&self, word: &str) -> Result<FoundTable, Error> {
        let names = self.table_names()?;
        let hidden = ["velvet_", "sqlite_"].iter().any(|prefix| word.starts_with(prefix));
        let name = match meant(word, &names, "table", "the file") {
            Err(error) if !hidden => return Err(error.in_file(&self.path)),
            Err(_) => word.to_owned(),
            Ok(name) => name.clone(),
        };
        self.exact(name)
    }

    /// The table of exactly this name.
    pub(super) fn exact(&self, name: String) -> Result<FoundTable, Error> {
        let columns = self.read("cannot read the columns", |c| Ok(c.columns_of(&name)?))?;
        if columns.is_empty() {
            return Err(
                Error::new(Cause::BadQuery, format!("there is no table `{name}` in the file")).in_file(&self.path)
            );
        }
        let declared = self.structure.as_ref().and_then(|s| s.table(&name));
        let kind = |column: &str| declared.and_then(|t| t.column(column)).map(|c| c.kind.clone());
        let columns: Vec<FoundColumn> = columns
            .into_iter()
            .filter(|c| !c.is_argument)
            .map(|c| FoundColumn {
                kind: kind(&c.name),
                holds_text: is_text(&c.storage),
                is_computed: !c.is_stored,
                name: c.name,
            })
            .collect();
        let is_column = |name: &&&str| columns.iter().any(|c: &FoundColumn| c.name.eq_ignore_ascii_case(name));
        let row_number = ROW_NUMBER.iter().find(|name| !is_column(name)).copied();
        let ordered = format!("SELECT 1 FROM {} ORDER BY {}", quoted(&name), row_number.unwrap_or(ROW_NUMBER[0]));
        let has_order = self.read("cannot read the table", |c| Ok(c.prepare(&ordered).is_ok()))?;
        Ok(FoundTable { name, columns, insertion_order: row_number.filter(|_| has_order).map(str::to_owned) })
    }

    /// All that is in the file by name.
    pub(super) fn catalogue(&self) -> Result<Arc<[Entry]>, Error> {
        self.read("cannot read the structure", |c| {
            let count = c.structure_count()?;
            let mut held = self.entries.lock();
            if let Some((_, known)) = held.as_ref().filter(|(at, _)| *at == count) {
                return Ok(Arc::clone(known));
            }
            let entries: Arc<[Entry]> = c.entries()?.into();
            *held = Some((count, Arc::clone(&entries)));
            Ok(entries)
        })
    }

    /// What could not be shown of all that was asked so far, and why, each as a sentence: views and computed columns that
    /// cannot be worked out, or take more than they may.
    pub fn left_out(&self) -> Vec<String> {
        self.left_out.lock().clone()
    }

    pub(super) fn leave_out(&self, what: &str, why: &Error) {
        let sentence = format!("{what} is not shown: {}", why.problem());
        let mut left_out = self.left_out.lock();
        if !left_out.contains(&sentence) {
            left_out.push(sentence);
        }
    }

    /// The names of its views.
    pub(super) fn views(&self) -> Result<Vec<String>, Error> {
        Ok(self.catalogue()?.iter().filter(|e| e.kind == EntryKind::View).map(|e| e.name.clone()).collect())
    }

    /// The limits on what looking into it may take.
    pub(super) fn limits(&self) -> &Limits {
        &self.limits
    }

    /// Runs `work`; `doing` begins the sentence when the engine refuses.
    pub(super) fn read<R>(&self, doing: &str, work: impl FnOnce(&Connection) -> Result<R, Error>) -> Result<R, Error> {
        let _waits = ui_thread::watched();
        self.engine.read(work).map_err(|error| {
            let error = if error.is_bare() { error.doing(doing).or_untouched(UNTOUCHED) } else { error };
            error.in_file(&self.path)
        })
    }
}

/// Whether what is stored in a column of this type becomes text.
pub(super) fn is_text(storage: &str) -> bool {
    let storage = storage.to_ascii_uppercase();
    !storage.contains("INT") && ["CHAR", "CLOB", "TEXT"].iter().any(|word| storage.contains(word))
}

/// A text as a literal, for the few places of a statement where nothing can be bound.
pub(super) fn literal(text: &str) -> String {
    ValueRef::Text(text).to_value().literal()
}
