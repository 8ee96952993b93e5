//! Upgrading a file to the newest version of its app's schema: all plans in one transaction, or none.

mod adopt;
mod backup;
mod conversions;
mod progress;
mod rebuild;
mod same;
mod settings;
mod space;
mod surroundings;

pub use adopt::Adopted;

pub(crate) use adopt::{Conversions, adopt};
pub(crate) use progress::Watch;
pub(crate) use settings::settle_alone;

use crate::bookkeeping::trails::WantedTrails;
use crate::engine::Connection;
use crate::error::{Cause, Doing, Error};
use crate::events;
use crate::schema::about::About;
use crate::schema::{Declared, Upgrade};
use crate::sealing::sealed_columns;
use crate::search;
use backup::Backup;
use serde::{Serialize, Serializer};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use velvet_core::evolve::{History, Operation, Step, VersionPlan, plan};
use velvet_core::schema::fingerprint;
use velvet_core::schema::physical::Physical;
use velvet_core::schema::structure::Structure;

/// What an upgrade did.
#[derive(Clone, Debug, Serialize)]
#[doc(alias = "migration")]
pub struct Upgraded {
    /// The version that the file had.
    pub from: u32,
    /// Each version that it went through, in order.
    pub versions: Vec<UpgradedVersion>,
    /// Where the file is kept as it was, when a step loses something.
    #[serde(skip)]
    pub backup: Option<PathBuf>,
}

/// One version's part of an upgrade.
#[derive(Clone, Debug, Serialize)]
pub struct UpgradedVersion {
    /// The version that it led to.
    pub version: u32,
    /// What it did, each in words.
    pub did: Vec<String>,
    /// What was lost by it, each in words.
    pub lost: Vec<String>,
    /// How many rows were written anew.
    pub rows: u64,
    /// How long it took.
    #[serde(rename = "took_ms", serialize_with = "milliseconds")]
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
    let upgraded = upgrading.run();
    upgraded.doing(|| &upgrading.doing).untouched(|| format!("The file is as it was, at version {from}"))
}

struct Upgrading<'a> {
    connection: &'a Connection,
    declared: &'a Declared,
    from: u32,
    path: Option<&'a Path>,
    watch: &'a Watch,
    doing: String,
}

/// Whether a copy of the file is kept from before an upgrade, because that loses something.
#[derive(Clone, Copy, PartialEq)]
enum FileBefore {
    Kept,
    NotNeeded,
}

impl Upgrading<'_> {
    fn run(&self) -> Result<Option<Upgraded>, Error> {
        let history = self.history()?;
        let plans = self.plan(&history)?;
        let loses = plans.iter().any(|s| !s.losses.is_empty()) || self.runs_something_by_hand(&history);
        let before = if loses { FileBefore::Kept } else { FileBefore::NotNeeded };
        if let Some(path) = self.path {
            space::check(path, &plans, before)?;
        }
        let upgraded = self.without_foreign_keys(|| self.in_transaction(&history, &plans, before))?;
        clean(self.connection)?;
        self.connection.truncate_wal();
        Ok(upgraded)
    }

    /// Runs `work` while links are not enforced. Inside a transaction the engine ignores this switch, and with links on, dropping a table
    /// removes what links to it.
    fn without_foreign_keys<R>(&self, work: impl FnOnce() -> Result<R, Error>) -> Result<R, Error> {
        self.connection.enforce_foreign_keys(false)?;
        let result = work();
        self.connection.enforce_foreign_keys(true)?;
        result
    }

    fn history(&self) -> Result<History, Error> {
        let text = self.declared.history.as_deref().unwrap_or_default();
        let history = History::parse(text).map_err(|problem| Error::bare(Cause::Schema, problem.to_string()))?;
        let missing = |name: &&str| !self.declared.codes.iter().any(|(code, _)| code == name);
        let needed = history.since(self.from).flat_map(|v| &v.steps);
        let codes = needed.filter_map(|c| if let Step::Code { name } = c { Some(name.as_str()) } else { None });
        if let Some(name) = codes.into_iter().find(|name| missing(name)) {
            let problem = format!("the history runs the code `{name}`, which is not in the schema");
            let advice = format!("Register it with `.code(\"{name}\", …)`");
            return Err(Error::bare(Cause::Schema, problem).advise(advice));
        }
        Ok(history)
    }

    fn plan(&self, history: &History) -> Result<Vec<VersionPlan>, Error> {
        let start = history.structure(self.from);
        let planned = start.and_then(|start| plan(&start, history.since(self.from)));
        planned.map_err(|problem| Error::bare(Cause::Schema, problem.to_string()))
    }

    fn runs_something_by_hand(&self, history: &History) -> bool {
        history.since(self.from).flat_map(|v| &v.steps).any(Step::is_by_hand)
    }

    fn in_transaction(
        &self,
        history: &History,
        plans: &[VersionPlan],
        before: FileBefore,
    ) -> Result<Option<Upgraded>, Error> {
        let transaction = self.connection.transaction()?;
        let Some((upgraded, backup)) = self.all(history, plans, before)? else { return Ok(None) };
        transaction.commit()?;
        Ok(Some(Upgraded { backup: backup.map(Backup::stays), ..upgraded }))
    }

    fn all(
        &self,
        history: &History,
        plans: &[VersionPlan],
        before: FileBefore,
    ) -> Result<Option<(Upgraded, Option<Backup>)>, Error> {
        if self.connection.version()? == i64::from(self.declared.version) {
            // Another process was faster.
            return Ok(None);
        }
        self.starts_as_recorded(history)?;
        let backup = match self.path {
            Some(path) if before == FileBefore::Kept => Some(backup::keep(path, &format!("at-version-{}", self.from))?),
            _ => None,
        };
        let from = history.structure(self.from).map_err(|p| Error::bare(Cause::Schema, p.to_string()))?;
        self.declared.sealing.begin(self.connection, &self.declared.app, &from, &self.declared.structure)?;
        let seals = |step: &Step| {
            comes_to_be_sealed(step) || matches!(step, Step::AddColumn { column, .. } if column.seal().is_some())
        };
        let is_sealed = |structure: &Structure| sealed_columns(structure).next().is_some();
        let is_passing = is_sealed(&from) || history.since(self.from).flat_map(|v| &v.steps).any(seals);
        if is_passing && !is_sealed(&self.declared.structure) {
            self.declared.sealing.pass_through(self.connection)?;
        }
        WantedTrails::pause(self.connection)?;
        let mut done = Vec::new();
        for plan in plans {
            done.push(self.version(plan, plans.len())?);
        }
        for step in history.since(self.from).flat_map(|v| &v.steps) {
            WantedTrails::follow(self.connection, step)?;
        }
        settings::settle(self.connection, self.declared)?;
        // To look at every link takes time that grows with the rows; what adds a column must not.
        if plans.iter().flat_map(|s| &s.operations).any(Operation::touches_rows) {
            self.links_hold()?;
        }
        search::bring_up(self.connection, &self.declared.structure)?;
        self.is_as_declared(&self.declared.structure, "the result is not the declared structure: ")
            .map_err(|e| e.advise("See what the history's statements and code do to these"))?;
        if history.since(self.from).flat_map(|v| &v.steps).any(comes_to_be_sealed) {
            About::remember(self.connection, TO_BE_CLEANED, "1")?;
        }
        About::rewrite(self.connection, self.declared, done.iter().map(|done| (done.version, done.took)))?;
        Ok(Some((Upgraded { from: self.from, versions: done, backup: None }, backup)))
    }

    /// Sees that the file has the structure that the history says its version has.
    fn starts_as_recorded(&self, history: &History) -> Result<(), Error> {
        let recorded = history.structure(self.from).map_err(|p| Error::new(Cause::Schema, p.to_string()))?;
        let about = About::read(self.connection)?;
        let mut differences = Vec::new();
        if about.is_some_and(|about| about.fingerprint != fingerprint::of(&recorded)) {
            let found = About::structure(self.connection)?;
            differences = found.map(|found| recorded.differences(&found)).unwrap_or_default();
        }
        differences.extend(Physical::of(&recorded).differences(&self.connection.physical()?));
        if differences.is_empty() {
            return Ok(());
        }
        let problem = format!("the file is not as version {} was recorded: {}", self.from, differences.join("; "));
        Err(Error::bare(Cause::OtherStructure, problem)
            .advise("Was that version released with another history? Restore the history file as it was then"))
    }

    fn version(&self, plan: &VersionPlan, of: usize) -> Result<UpgradedVersion, Error> {
        let begun = Instant::now();
        let mut rows = 0;
        let mut did: Vec<String> = Vec::new();
        for operation in &plan.operations {
            let words = operation.words();
            let said = words.join("; ");
            self.watch.begin(plan.version, self.declared.version, of, &said)?;
            let doing = format!("{}, in step ({said}) of version {} of the history file", self.doing, plan.version);
            let result = match operation {
                Operation::Run { statement, .. } => {
                    self.connection.run(statement).map_err(|fault| same::explained(self.connection, fault))
                }
                Operation::AddColumn { table, definition, .. } => {
                    self.connection.add_column(table, definition).map_err(Error::from)
                }
                Operation::Rebuild(rebuild) => {
                    rebuild::run(self.connection, rebuild, self.watch).map(|written| rows += written)
                }
                Operation::Code(name) => self.code(name, &doing),
            };
            result.doing(|| doing)?;
            // A change may take several operations.
            did.extend(words.into_iter().filter(|w| !did.contains(w)).collect::<Vec<_>>());
        }
        self.watch.finished_version()?;
        let done =
            UpgradedVersion { version: plan.version, did, lost: plan.losses.clone(), rows, took: begun.elapsed() };
        let file = self.path.map_or("(in memory)".into(), Path::to_string_lossy);
        events::step(&file, done.version, &done.did, done.rows, done.took);
        Ok(done)
    }

    fn code(&self, name: &str, doing: &str) -> Result<(), Error> {
        let code = self.declared.codes.iter().find(|(code, _)| code == name);
        let Some((_, code)) = code else { return Ok(()) };
        code.run(&Upgrade::new(self.connection, doing))
            .map_err(|error| if error.is_own() { Error::bare(Cause::Own, error.to_string()) } else { error })
    }

    fn links_hold(&self) -> Result<(), Error> {
        let broken = self.connection.broken_links(None, 3)?;
        if broken.is_empty() {
            return Ok(());
        }
        let broken: Vec<String> =
            broken.iter().map(|b| format!("{} {} to a {} that does not exist", b.table, b.row, b.to)).collect();
        Err(Error::bare(Cause::BrokenLink, format!("links would lead nowhere: {}", broken.join(", ")))
            .advise("Let the upgrade clear or mend them: in its code, or by a fill expression"))
    }

    fn is_as_declared(&self, structure: &Structure, problem: &str) -> Result<(), Error> {
        let differences = Physical::of(structure).differences(&self.connection.physical()?);
        if differences.is_empty() {
            return Ok(());
        }
        Err(Error::bare(Cause::OtherStructure, format!("{problem}{}", differences.join("; "))))
    }
}

/// The fact that unused parts of pages may still say what is sealed now.
const TO_BE_CLEANED: &str = "to_be_cleaned";

/// What that fact says once the file is clean, and the log may not be.
const ONLY_THE_LOG: &str = "log";

/// Writes the file anew where unused parts of it may say what is sealed now. Where there is no room for that, it is done the next time.
pub(crate) fn clean(connection: &Connection) -> Result<(), Error> {
    let Some(left) = About::fact(connection, TO_BE_CLEANED)? else { return Ok(()) };
    if left != ONLY_THE_LOG {
        if About::still_the_same(connection, || connection.compact()).is_err() {
            return Ok(());
        }
        About::remember(connection, TO_BE_CLEANED, ONLY_THE_LOG)?;
    }
    // Where somebody reads an older state, the log stays as it is, and the next open cuts it.
    if connection.without_lock_timeout(|| connection.truncate_wal()) {
        About::forget(connection, TO_BE_CLEANED)?;
    }
    Ok(())
}

fn comes_to_be_sealed(step: &Step) -> bool {
    matches!(step, Step::ChangeColumn { column, .. } if column.seal().is_some())
}

/// A time in whole milliseconds.
pub(crate) fn milliseconds<S: Serializer>(took: &Duration, to: S) -> Result<S::Ok, S::Error> {
    u64::try_from(took.as_millis()).unwrap_or(u64::MAX).serialize(to)
}
