//! Upgrading a file to the newest version of its app's schema: all steps in one transaction, or none.

mod add_column;
mod adopt;
mod backup;
mod code;
mod physical;
mod progress;
mod rebuild;
mod space;

pub use adopt::Adopted;
pub use code::{CodeRow, Upgrade};
pub use progress::Progress;

pub(crate) use adopt::{Conversions, adopt};
pub(crate) use code::Code;
pub(crate) use physical::read as physical;
pub(crate) use progress::Watch;

use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use crate::events;
use crate::opening::About;
use crate::schema::Declared;
use crate::searching;
use crate::trails::Wanted;
use backup::Backup;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use velvet_core::evolution::{Change, History, Operation, Step, plan};
use velvet_core::fingerprint;
use velvet_core::name::quoted;
use velvet_core::physical::Physical;

/// What an upgrade did.
#[derive(Clone, Debug)]
pub struct Upgraded {
    /// The version that the file had.
    pub from: u32,
    /// Each version that it went through, in order.
    pub steps: Vec<UpgradedStep>,
    /// Where the file is kept as it was, when a step loses something.
    pub backup: Option<PathBuf>,
}

/// One version's part of an upgrade.
#[derive(Clone, Debug)]
pub struct UpgradedStep {
    /// The version that it led to.
    pub version: u32,
    /// What it did, each in words.
    pub did: Vec<String>,
    /// What was lost by it, each in words.
    pub lost: Vec<String>,
    /// How many rows were written anew.
    pub rows: u64,
    /// How long it took.
    pub took: Duration,
}

/// Upgrades the file behind `connection`, which has the version `from`; nothing where another process was faster. `path` is where the file is, when it is one.
pub(crate) fn upgrade(
    connection: &Connection,
    declared: &Declared,
    from: u32,
    path: Option<&Path>,
    watch: &Watch,
) -> Result<Option<Upgraded>, Error> {
    let doing = format!("cannot upgrade the drawer from version {from} to {}", declared.version);
    let upgrading = Upgrading { connection, declared, from, path, watch, doing };
    let history = upgrading.history()?;
    let steps = upgrading.plan(&history)?;
    let lossy = steps.iter().any(|s| !s.losses.is_empty()) || upgrading.runs_something_by_hand(&history);
    if let Some(path) = path {
        space::check(path, &steps, lossy).map_err(|e| upgrading.failed(e))?;
    }
    // Inside a transaction the engine ignores this switch, and with links on, dropping a table removes what links to it.
    connection.enforce_links(false).map_err(|fault| upgrading.engine(fault))?;
    let result = upgrading.in_transaction(&history, &steps, lossy);
    connection.enforce_links(true).map_err(|fault| upgrading.engine(fault))?;
    let upgraded = result?;
    // The log may have grown to the size of the file; that it stays so is no error.
    let _ = connection.run("PRAGMA wal_checkpoint(TRUNCATE)");
    Ok(upgraded)
}

struct Upgrading<'a> {
    connection: &'a Connection,
    declared: &'a Declared,
    from: u32,
    path: Option<&'a Path>,
    watch: &'a Watch,
    doing: String,
}

impl Upgrading<'_> {
    fn failed(&self, error: Error) -> Error {
        error.untouched(format!("The file is as it was, at version {}", self.from))
    }

    fn engine(&self, fault: Fault) -> Error {
        self.failed(Error::engine(&self.doing, fault))
    }

    fn history(&self) -> Result<History, Error> {
        let text = self.declared.history.as_deref().unwrap_or_default();
        let history = History::parse(text)
            .map_err(|problem| self.failed(Error::new(Cause::Schema, format!("{}: {problem}", self.doing))))?;
        let missing = |name: &&str| !self.declared.codes.iter().any(|(code, _)| code == name);
        let needed = history.since(self.from).flat_map(|v| &v.changes);
        let codes = needed.filter_map(|c| if let Change::Code { name } = c { Some(name.as_str()) } else { None });
        if let Some(name) = codes.into_iter().find(|name| missing(name)) {
            return Err(self.failed(
                Error::new(
                    Cause::Schema,
                    format!("{}: the history runs the code `{name}`, which is not in the schema", self.doing),
                )
                .advise(format!("Register it with `.code(\"{name}\", …)`")),
            ));
        }
        Ok(history)
    }

    fn plan(&self, history: &History) -> Result<Vec<Step>, Error> {
        let start = history.structure(self.from).map_err(|p| p.to_string());
        start
            .and_then(|start| plan(&start, history.since(self.from)))
            .map_err(|why| self.failed(Error::new(Cause::Schema, format!("{}: {why}", self.doing))))
    }

    /// Whether a statement or code runs, which may do anything.
    fn runs_something_by_hand(&self, history: &History) -> bool {
        history.since(self.from).flat_map(|v| &v.changes).any(Change::is_by_hand)
    }

    fn in_transaction(&self, history: &History, steps: &[Step], lossy: bool) -> Result<Option<Upgraded>, Error> {
        let transaction = self.connection.transaction().map_err(|fault| self.engine(fault))?;
        let Some((upgraded, backup)) = self.all(history, steps, lossy)? else { return Ok(None) };
        transaction.commit().map_err(|fault| self.engine(fault))?;
        Ok(Some(Upgraded { backup: backup.map(Backup::stays), ..upgraded }))
    }

    fn all(&self, history: &History, steps: &[Step], lossy: bool) -> Result<Option<(Upgraded, Option<Backup>)>, Error> {
        let version = self.connection.number("PRAGMA user_version").map_err(|fault| self.engine(fault))?;
        if version == i64::from(self.declared.version) {
            // Another process was faster.
            return Ok(None);
        }
        self.starts_as_recorded(history)?;
        let backup = match self.path {
            Some(path) if lossy => {
                Some(backup::keep(path, &format!("at-version-{}", self.from)).map_err(|e| self.failed(e))?)
            }
            _ => None,
        };
        Wanted::pause(self.connection).map_err(|fault| self.engine(fault))?;
        let mut done = Vec::new();
        for step in steps {
            done.push(self.step(step, steps.len())?);
        }
        for change in history.since(self.from).flat_map(|v| &v.changes) {
            if let Change::RenameTable { table, to } = change {
                Wanted::rename(self.connection, table, to).map_err(|fault| self.engine(fault))?;
            }
        }
        // To look at every link takes time that grows with the rows; what adds a column must not.
        if steps.iter().flat_map(|s| &s.operations).any(Operation::touches_rows) {
            self.links_hold()?;
        }
        searching::bring_up(self.connection, &self.declared.structure).map_err(|fault| self.engine(fault))?;
        self.ends_as_declared()?;
        About::rewrite(self.connection, self.declared, &done).map_err(|fault| self.engine(fault))?;
        Ok(Some((Upgraded { from: self.from, steps: done, backup: None }, backup)))
    }

    /// Sees that the file has the structure that the history says its version has.
    fn starts_as_recorded(&self, history: &History) -> Result<(), Error> {
        let recorded =
            history.structure(self.from).map_err(|p| self.failed(Error::new(Cause::Schema, p.to_string())))?;
        let about = About::read(self.connection).map_err(|fault| self.engine(fault))?;
        let mut differences = Vec::new();
        if about.is_some_and(|about| about.fingerprint != fingerprint::of(&recorded)) {
            let found = About::structure(self.connection).map_err(|fault| self.engine(fault))?;
            differences = found.map(|found| recorded.differences(&found)).unwrap_or_default();
        }
        let found = physical::read(self.connection).map_err(|fault| self.engine(fault))?;
        differences.extend(Physical::of(&recorded).differences(&found));
        if differences.is_empty() {
            return Ok(());
        }
        Err(self.failed(
            Error::new(
                Cause::OtherStructure,
                format!(
                    "{}: the file is not as version {} was recorded: {}",
                    self.doing,
                    self.from,
                    differences.join("; ")
                ),
            )
            .advise("Was that version released with another history? Restore the history file as it was then"),
        ))
    }

    fn step(&self, step: &Step, steps: usize) -> Result<UpgradedStep, Error> {
        let begun = Instant::now();
        let mut rows = 0;
        let mut did: Vec<String> = Vec::new();
        for operation in &step.operations {
            let words = operation.words();
            let said = words.join("; ");
            self.watch.begin(step.version, self.declared.version, steps, &said)?;
            let doing = format!("{}, by what version {} of the history file says ({said})", self.doing, step.version);
            match operation {
                Operation::Run { statement, .. } => {
                    self.connection.run(statement).map_err(|fault| self.failed(Error::engine(&doing, fault)))?
                }
                Operation::AddColumn { table, definition, .. } => {
                    add_column::run(self.connection, table, definition)
                        .map_err(|fault| self.failed(Error::engine(&doing, fault)))?
                }
                Operation::Rebuild(rebuild) => {
                    rows += rebuild::run(self.connection, rebuild, self.watch, &doing).map_err(|e| self.failed(e))?;
                }
                Operation::Code(name) => self.code(name, &doing)?,
            }
            // A change may take several operations.
            did.extend(words.into_iter().filter(|w| !did.contains(w)).collect::<Vec<_>>());
        }
        self.watch.finished_step()?;
        let done = UpgradedStep { version: step.version, did, lost: step.losses.clone(), rows, took: begun.elapsed() };
        let file = self.path.map_or("(in memory)".into(), Path::to_string_lossy);
        events::step(&file, &done);
        Ok(done)
    }

    fn code(&self, name: &str, doing: &str) -> Result<(), Error> {
        let code = self.declared.codes.iter().find(|(code, _)| code == name);
        let Some((_, code)) = code else { return Ok(()) };
        code.run(&Upgrade::new(self.connection, doing)).map_err(|error| {
            if error.is_own() {
                self.failed(Error::new(Cause::Own, format!("{doing}: {error}")))
            } else {
                self.failed(error)
            }
        })
    }

    fn links_hold(&self) -> Result<(), Error> {
        let mut statement = self
            .connection
            .prepare("SELECT \"table\", rowid, parent FROM pragma_foreign_key_check LIMIT 3")
            .map_err(|fault| self.engine(fault))?;
        let mut rows = statement.rows();
        let mut broken = Vec::new();
        while let Some(row) = rows.next().map_err(|fault| self.engine(fault))? {
            broken.push(format!("{} {} to a {} that is not there", row.text(0), row.integer(1), row.text(2)));
        }
        if broken.is_empty() {
            return Ok(());
        }
        Err(self.failed(
            Error::new(Cause::BrokenLink, format!("{}: links would lead nowhere: {}", self.doing, broken.join(", ")))
                .advise("Let the upgrade clear or mend them: in its code, or by a fill expression"),
        ))
    }

    fn ends_as_declared(&self) -> Result<(), Error> {
        let found = physical::read(self.connection).map_err(|fault| self.engine(fault))?;
        let differences = Physical::of(&self.declared.structure).differences(&found);
        if differences.is_empty() {
            return Ok(());
        }
        Err(self.failed(
            Error::new(
                Cause::OtherStructure,
                format!("{}: the result is not the declared structure: {}", self.doing, differences.join("; ")),
            )
            .advise("See what the history's statements and code do to these"),
        ))
    }
}

/// How many rows a table has.
fn count(connection: &Connection, table: &str) -> Result<i64, Fault> {
    connection.number(&format!("SELECT count(*) FROM {}", quoted(table)))
}
