//! The drawers that are open in this process, so that the same file is the same database.

use super::kept::{kept, unfinished};
use crate::drawer::{InEffect, Inner};
use crate::engine::{Seen, identity, is_open_here};
use crate::error::{Cause, Error};
use crate::schema::Declared;
use crate::work::cancel::in_turns;
use crate::work::under_way::{Activity, UnderWay};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Weak};
use std::time::Duration;
use velvet_core::exchange::show::count;

/// A place for one path. It is locked while that file is being opened, so that a second caller joins the first; other
/// files are not held up.
type Slot = Arc<parking_lot::Mutex<Weak<Inner>>>;

static OPEN: LazyLock<Mutex<HashMap<PathBuf, Slot>>> = LazyLock::new(Mutex::default);

/// The open drawer at this resolved path, or the one that `open` makes.
pub(super) fn open<A: AsRef<Declared>>(
    path: &Path,
    asked: A,
    in_effect: &InEffect,
    open: impl FnOnce(A) -> Result<Arc<Inner>, Error>,
) -> Result<Arc<Inner>, Error> {
    let _opening = begin(path)?;
    let slot = slot(path);
    let mut held = match in_turns(Duration::MAX, |turn| slot.try_lock_for(turn)) {
        Ok(Some(held)) => held,
        _ => return Err(Error::new(Cause::Cancelled, "cannot open the drawer: it was cancelled").in_file(path)),
    };
    if let Some(inner) = held.upgrade() {
        inner.require_in_place()?;
        let declared = asked.as_ref();
        if inner.declared.fingerprint != declared.fingerprint || inner.declared.app != declared.app {
            return Err(other_schema(&inner, declared).in_file(path));
        }
        let lacks = inner.in_effect().lacks(in_effect);
        return if lacks.is_empty() { Ok(inner) } else { Err(other_options(&lacks).in_file(path)) };
    }
    if let Some(other) = open_under_another_name(path) {
        return Err(other_name(&other).in_file(path));
    }
    let inner = open(asked)?;
    *held = Arc::downgrade(&inner);
    Ok(inner)
}

/// Runs `work`, which replaces or removes the file at this resolved path, while nobody in this process opens it. `doing` begins the sentence when it cannot.
pub(super) fn alone<R>(path: &Path, doing: &str, work: impl FnOnce() -> Result<R, Error>) -> Result<R, Error> {
    let _opening = begin(path)?;
    let slot = slot(path);
    let held = match slot.try_lock() {
        None => in_turns(Duration::MAX, |turn| slot.try_lock_for(turn)).ok().flatten(),
        held => held,
    };
    let Some(held) = held else {
        return Err(Error::new(Cause::Cancelled, format!("{doing}: it was cancelled")).in_file(path));
    };
    if held.strong_count() > 0 || is_open_here(path) {
        let error = Error::new(Cause::InUse, format!("{doing}: it is open in this process"));
        return Err(error
            .untouched("The file was left as it was")
            .advise("Drop or close its handles first")
            .in_file(path));
    }
    work()
}

/// Marks a path as being opened by this thread until what this returns is dropped.
///
/// # Errors
/// When this thread is opening the path already: code of an upgrade, or what fills a new file, would wait for itself.
fn begin(path: &Path) -> Result<UnderWay, Error> {
    let opening = Activity::Opening(path.to_owned());
    if opening.is_under_way() {
        let error = Error::new(Cause::Nested, "cannot open the drawer while it is being opened, on the same thread");
        return Err(error
            .untouched("Nothing was opened by this call")
            .advise("Use what the code is given: `upgrade` or `tx`")
            .in_file(path));
    }
    Ok(opening.begin())
}

fn is_open(slot: &Slot) -> bool {
    slot.try_lock().is_none_or(|held| held.strong_count() > 0)
}

/// The path under which this process has the same file open, where that is a hard link: each name has a log of its own, so that what is
/// written under one is lost under the other.
fn open_under_another_name(path: &Path) -> Option<PathBuf> {
    // Elsewhere, one file is not told from another.
    let file = identity(path).ok().filter(|_| cfg!(unix))?;
    let open = OPEN.lock();
    let is_same = |(other, slot): &(&PathBuf, &Slot)| {
        *other != path && is_open(slot) && identity(other).is_ok_and(|other| other == file)
    };
    open.iter().find(is_same).map(|(other, _)| other.clone())
}

/// Refuses a file that has another name (a hard link), except those that the library gives it for a moment: each name has a log of its own, so that what another process
/// writes under one is lost under the other.
pub(super) fn refuse_second_names(path: &Path, found: &Seen) -> Result<(), Error> {
    if found.names <= 1 {
        return Ok(());
    }
    let ours = kept(path).into_iter().map(|copy| copy.path).chain(unfinished(path));
    let is_same = |other: &PathBuf| identity(other).is_ok_and(|other| other == found.identity);
    let others = found.names - 1 - ours.filter(is_same).count() as u64;
    if others == 0 {
        return Ok(());
    }
    let problem = format!("cannot open the drawer: the file has {} (hard links)", count(others as usize, "other name"));
    Err(Error::new(Cause::InUse, problem)
        .untouched("The file was left untouched")
        .advise("Each name has a write-ahead log of its own, so that writes would be lost. Remove the other names; for a copy, use Drawer::copy_to")
        .in_file(path))
}

fn slot(path: &Path) -> Slot {
    let mut open = OPEN.lock();
    // Slots that nobody uses and whose drawer is closed are of no more use.
    open.retain(|_, slot| Arc::strong_count(slot) > 1 || is_open(slot));
    Arc::clone(open.entry(path.to_owned()).or_default())
}

fn other_name(other: &Path) -> Error {
    let problem =
        format!("cannot open the drawer: this process has the same file open by another name, {}", other.display());
    Error::new(Cause::InUse, problem)
        .untouched("The open drawer is not affected")
        .advise("Use one name for one file: a second name (a hard link) is no copy of it; Drawer::copy_to makes one")
}

fn other_options(lacks: &[&str]) -> Error {
    let lacks = lacks.iter().map(|option| format!("`{option}`")).collect::<Vec<_>>().join(" and ");
    Error::new(
        Cause::InUse,
        format!(
            "cannot open the drawer as asked: it is open in this process already, otherwise than {lacks} would have it"
        ),
    )
    .untouched("The open drawer is not affected")
    .advise("Open it with the same options everywhere in the app, or with none where it is open already")
}

fn other_schema(inner: &Inner, declared: &Declared) -> Error {
    let mut differences = declared.structure.differences(&inner.declared.structure);
    if declared.app != inner.declared.app {
        differences
            .insert(0, format!("the app is {:?}, and was {:?} when it was opened", declared.app, inner.declared.app));
    }
    if differences.is_empty() {
        differences
            .push(format!("version {}, and was {} when it was opened", declared.version, inner.declared.version));
    }
    let differences = differences.join("; ");
    Error::new(
        Cause::Schema,
        format!(
            "cannot open the drawer: it is open in this process with another schema, as declared here: {differences}"
        ),
    )
    .untouched("The open drawer is not affected")
    .advise("Use one schema for one file everywhere in the app")
}
