//! The history file: the first structure of an app's schema, and every change since.

use super::{Draft, Step};
use crate::schema::fingerprint;
use crate::schema::structure::Structure;
use serde::de::{DeserializeSeed, IgnoredAny, MapAccess, Visitor};
use serde::{Deserialize, Serialize};
use std::fmt;

/// The history of an app's schema.
///
/// In its JSON the newest version comes first, so that two branches which both add one conflict at the same place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct History {
    /// The app.
    pub app: String,
    /// The newest version.
    pub newest: u32,
    /// The fingerprint of the newest version's structure.
    pub fingerprint: String,
    /// The versions, newest first, down to 1.
    pub versions: Vec<Version>,
    /// The structure of version 1.
    pub first: Structure,
}

/// One version of an app's schema.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Version {
    /// Its number.
    pub version: u32,
    /// Whether an app with it was given to users; it must never change then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub released: bool,
    /// What is different from the version before; nothing in version 1.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
}

/// What the first lines of a history say: enough to open a file that is up to date.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HistoryHead {
    /// The app.
    pub app: String,
    /// The newest version.
    pub newest: u32,
    /// The fingerprint of the newest version's structure.
    pub fingerprint: String,
}

/// Why a history cannot be used: where it does not add up.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the history cannot be used: {0}")]
pub struct HistoryProblem(pub String);

impl History {
    /// A history with one version.
    pub fn start(app: &str, first: &Structure) -> History {
        History {
            app: app.to_owned(),
            newest: 1,
            fingerprint: fingerprint::of(first),
            versions: vec![Version { version: 1, released: false, steps: Vec::new() }],
            first: first.clone(),
        }
    }

    /// Reads a history, and replays it to see that it adds up.
    ///
    /// # Errors
    /// Says where it does not: conflict marks, a line that is no JSON, versions missing or there twice, a change that does
    /// not fit, another newest structure than the one named at the top.
    pub fn parse(text: &str) -> Result<History, HistoryProblem> {
        let problem = |words: String| HistoryProblem(words);
        if let Some(line) =
            text.lines().position(|l| ["<<<<<<< ", "=======", ">>>>>>> "].iter().any(|m| l.starts_with(m)))
        {
            return Err(problem(format!(
                "line {} is the mark of a conflict: two branches changed it. Keep the version that was released first, \
                 remove the other, and record again",
                line + 1
            )));
        }
        let history: History = serde_json::from_str(text).map_err(|e| problem(format!("{e}")))?;
        history.numbers_follow()?;
        let newest = history.structure(history.newest)?;
        let found = fingerprint::of(&newest);
        if found != history.fingerprint {
            return Err(problem(format!(
                "its steps lead to a structure with the fingerprint {found}, not {} as its first lines say. Undo the edit, \
                 or record again",
                history.fingerprint
            )));
        }
        Ok(history)
    }

    fn numbers_follow(&self) -> Result<(), HistoryProblem> {
        for (position, version) in self.versions.iter().enumerate() {
            if let Some(other) = self.versions[..position].iter().find(|v| v.version == version.version) {
                let said = |v: &Version| v.steps.first().map_or("no step".into(), ToString::to_string);
                return Err(HistoryProblem(format!(
                    "version {} is there twice: one begins with “{}”, the other with “{}”. Two branches both added it; give the one \
                     that is not released the next number",
                    version.version,
                    said(other),
                    said(version)
                )));
            }
        }
        let numbers: Vec<u32> = self.versions.iter().map(|v| v.version).collect();
        let expected: Vec<u32> = (1..=self.newest).rev().collect();
        if numbers != expected {
            return Err(HistoryProblem(format!(
                "its newest version is {}, but the versions listed are {numbers:?}; they must go down to 1 without a gap",
                self.newest
            )));
        }
        Ok(())
    }

    /// The structure of a version.
    ///
    /// # Errors
    /// When a change on the way does not fit, or there is no such version.
    pub fn structure(&self, version: u32) -> Result<Structure, HistoryProblem> {
        if version == 0 || version > self.newest {
            return Err(HistoryProblem(format!("there is no version {version}; it knows 1 to {}", self.newest)));
        }
        let mut structure = self.first.clone();
        for step in self.versions.iter().rev().filter(|v| v.version <= version) {
            for (position, change) in step.steps.iter().enumerate() {
                change.apply(&mut structure).map_err(|why| {
                    HistoryProblem(format!("step {} of version {} ({change}): {why}", position + 1, step.version))
                })?;
            }
        }
        Ok(structure)
    }

    /// The versions after `version`, in order.
    pub fn since(&self, version: u32) -> impl Iterator<Item = &Version> {
        self.versions.iter().rev().filter(move |v| v.version > version)
    }

    /// Whether an earlier version has `table`, and not `other` yet, which are their names in the newest version.
    pub fn had_without(&self, table: &str, other: &str) -> bool {
        let (mut table, mut other) = (table, Some(other));
        for version in &self.versions {
            for step in version.steps.iter().rev() {
                match step {
                    Step::RenameTable { table: was, to } if to == table => table = was,
                    Step::RenameTable { table: was, to } if Some(to.as_str()) == other => other = Some(was),
                    Step::AddTable { table: added } if added.name == table => return false,
                    Step::AddTable { table: added } if Some(added.name.as_str()) == other => other = None,
                    _ => {}
                }
            }
            if other.is_none() {
                return true;
            }
        }
        false
    }

    /// The names of the app's code that any version runs.
    pub fn codes(&self) -> impl Iterator<Item = &str> {
        self.versions.iter().flat_map(|v| &v.steps).filter_map(|change| match change {
            Step::Code { name } => Some(name.as_str()),
            _ => None,
        })
    }

    /// The structure that the next recording starts from, and the version that it writes: a new one, or the newest again
    /// while it is not released.
    ///
    /// # Errors
    /// As [`History::structure`].
    pub fn base(&self) -> Result<(Option<Structure>, u32), HistoryProblem> {
        match self.versions.first() {
            Some(newest) if !newest.released && newest.version == 1 => Ok((None, 1)),
            Some(newest) if !newest.released => Ok((Some(self.structure(newest.version - 1)?), newest.version)),
            _ => Ok((Some(self.structure(self.newest)?), self.newest + 1)),
        }
    }

    /// The steps of all versions before the one that the next recording writes, in order: what they answered has been carried out.
    pub fn earlier(&self) -> Vec<Step> {
        let written_again = self.versions.first().filter(|version| !version.released).map(|version| version.version);
        let versions = self.versions.iter().rev().filter(|version| Some(version.version) != written_again);
        versions.flat_map(|version| version.steps.iter().cloned()).collect()
    }

    /// What was drafted, and written by hand, for the version that the next recording writes again.
    pub fn unreleased(&self) -> &[Step] {
        self.versions.first().filter(|v| !v.released).map(|v| v.steps.as_slice()).unwrap_or_default()
    }

    /// Writes the drafted changes to `structure` as the version that [`History::base`] named. What a person wrote into
    /// that version stays: statements, code, fill expressions.
    #[must_use]
    pub fn recorded(&self, structure: &Structure, draft: Draft, codes: &[String]) -> History {
        let mut next = self.clone();
        next.fingerprint = fingerprint::of(structure);
        let amends = next.versions.first().is_some_and(|v| !v.released);
        if amends && next.newest == 1 {
            next.first = structure.clone();
            return next;
        }
        let before = if amends { next.versions.remove(0).steps } else { Vec::new() };
        if !amends {
            next.newest += 1;
        }
        let mut leads_to = self.structure(next.newest.saturating_sub(1)).ok();
        let leads_there = before.iter().all(|c| leads_to.as_mut().is_some_and(|s| c.apply(s).is_ok()))
            && leads_to.is_some_and(|s| fingerprint::of(&s) == next.fingerprint);
        let steps = merged(before, draft.changes, codes, leads_there);
        next.versions.insert(0, Version { version: next.newest, released: false, steps });
        next
    }

    /// The text of the file.
    pub fn to_json(&self) -> String {
        // A history is strings, numbers, lists and flags, which always have a JSON form.
        serde_json::to_string_pretty(self).unwrap_or_default() + "\n"
    }
}

/// The drafted changes with a person's statements and code between what is added and what is dropped, or where they stood
/// when they lead to the structure, as `leads_there` says, and all that is drafted is among them.
fn merged(before: Vec<Step>, mut drafted: Vec<Step>, codes: &[String], leads_there: bool) -> Vec<Step> {
    let new_code = |name: &&String| !before.iter().any(|c| matches!(c, Step::Code { name: n } if n == *name));
    let added: Vec<Step> = codes.iter().filter(new_code).map(|name| Step::Code { name: name.clone() }).collect();
    if added.is_empty() && leads_there && drafted.iter().all(|c| before.contains(c)) {
        return before;
    }
    let by_hand: Vec<Step> = before.into_iter().filter(Step::is_by_hand).chain(added).collect();
    let adds = |c: &Step| {
        use Step::{AddColumn, AddTable, RenameColumn, RenameTable};
        matches!(c, RenameTable { .. } | RenameColumn { .. } | AddTable { .. } | AddColumn { .. })
    };
    let (filled, _) = Step::apart(drafted.clone());
    let at = drafted.iter().position(|c| !adds(c) || filled.contains(c)).unwrap_or(drafted.len());
    drafted.splice(at..at, by_hand);
    drafted
}

impl HistoryHead {
    /// Reads only the first lines of a history.
    ///
    /// # Errors
    /// When they are not those of a history.
    pub fn parse(text: &str) -> Result<HistoryHead, HistoryProblem> {
        let mut head = HistoryHead::default();
        let result = HistoryHeadSeed(&mut head).deserialize(&mut serde_json::Deserializer::from_str(text));
        // Reading stops in the middle, which the parser takes for an error; only a head that is not whole is one.
        if head.newest == 0 || head.fingerprint.is_empty() {
            let why = result.err().map_or_else(|| "its first lines are missing".into(), |e| e.to_string());
            return Err(HistoryProblem(why));
        }
        Ok(head)
    }
}

struct HistoryHeadSeed<'h>(&'h mut HistoryHead);

impl<'de> DeserializeSeed<'de> for HistoryHeadSeed<'_> {
    type Value = ();

    fn deserialize<D: serde::Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for HistoryHeadSeed<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a history")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(name) = map.next_key::<String>()? {
            match name.as_str() {
                "app" => self.0.app = map.next_value()?,
                "newest" => self.0.newest = map.next_value()?,
                "fingerprint" => {
                    self.0.fingerprint = map.next_value()?;
                    break;
                }
                _ => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        Ok(())
    }
}
