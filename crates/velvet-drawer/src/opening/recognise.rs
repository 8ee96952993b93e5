//! Telling what a file is, before anything in it is changed.

use super::about::{APPLICATION_ID, About};
use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use crate::schema::Declared;
use crate::upgrading;
use velvet_core::physical::Physical;

/// A file that may be opened.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// Nothing is in it yet.
    Fresh,
    /// It has the declared structure, and says that it keeps these trails.
    Current { trail: String },
    /// It has an older version.
    Older(u32),
}

pub(super) const UNTOUCHED: &str = "The file was left untouched";

/// Tells what the file is to the declared schema.
pub(crate) fn recognise(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    let engine = |fault: Fault| Error::engine("cannot open the drawer", fault).untouched(UNTOUCHED);
    let application = connection.number("PRAGMA application_id").map_err(engine)?;
    let version = connection.number("PRAGMA user_version").map_err(engine)?;
    let about = if application == APPLICATION_ID { About::read(connection).map_err(engine)? } else { None };
    let Some(about) = about else { return not_ours(connection, declared) };
    match check(&about, version, declared) {
        Ok(found @ Found::Current { .. }) => changed_from_outside(connection, &about, declared).map(|()| found),
        Ok(found) => Ok(found),
        Err(Mismatch::OtherApp) => Err(Error::new(
            Cause::OtherApp,
            format!(
                "cannot open the drawer: it belongs to the app {:?}, not to {:?}{}",
                about.app,
                declared.app,
                what_differs(connection, declared)
            ),
        )
        .untouched(UNTOUCHED)
        .advise("Check the path, and the name given to Schema::new")),
        Err(Mismatch::Other(error)) => Err(error),
        Err(Mismatch::Structure) => Err(differences(connection, declared)),
    }
}

/// Tells a file that nothing is in yet from one of another program. All of it is read from one state: another process may
/// be creating the drawer this very moment.
fn not_ours(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    let engine = |fault: Fault| Error::engine("cannot open the drawer", fault).untouched(UNTOUCHED);
    // Whoever creates the drawer asks inside of a transaction already.
    let snapshot = (!connection.is_in_transaction()).then(|| connection.snapshot()).transpose().map_err(engine)?;
    let one_state = || -> Result<(i64, i64, i64), Fault> {
        let tables = connection.number("SELECT count(*) FROM sqlite_schema")?;
        Ok((tables, connection.number("PRAGMA application_id")?, connection.number("PRAGMA user_version")?))
    };
    let state = one_state();
    drop(snapshot);
    match state.map_err(engine)? {
        (0, 0, 0) => Ok(Found::Fresh),
        (_, APPLICATION_ID, _) if About::read(connection).map_err(engine)?.is_some() => recognise(connection, declared),
        (tables, _, _) => Err(Error::new(
            Cause::OtherApp,
            format!(
                "cannot open the drawer: the file is a database of another program ({tables} tables, indexes and views){}",
                what_differs(connection, declared)
            ),
        )
        .untouched(UNTOUCHED)
        .advise("Check the path, or choose another file name; a file of the app's own from before is taken over with Options::adopt")),
    }
}

/// Another program may have changed the structure. The engine counts such changes, so that the structure has to be read
/// only when there were any.
fn changed_from_outside(connection: &Connection, about: &About, declared: &Declared) -> Result<(), Error> {
    let engine = |fault: Fault| Error::engine("cannot open the drawer", fault).untouched(UNTOUCHED);
    let count = connection.number("PRAGMA schema_version").map_err(engine)?;
    if about.structure_count == count.to_string() {
        return Ok(());
    }
    let found = upgrading::physical(connection).map_err(engine)?;
    let differences = Physical::of(&declared.structure).differences(&found);
    if differences.is_empty() {
        // Where this cannot be written, the structure is read again the next time.
        let _ = About::same_after_all(connection, count);
        return Ok(());
    }
    Err(Error::new(
        Cause::OtherStructure,
        format!("cannot open the drawer: another program changed its structure: {}", differences.join("; ")),
    )
    .untouched(UNTOUCHED)
    .advise("Undo the change with that program; or move the file aside and start afresh, by Options::set_aside_other_structure"))
}

/// Whether the file is a plain database that no program has marked as its own, as an app that writes one by itself leaves.
pub(super) fn is_plain(connection: &Connection) -> bool {
    connection.number("PRAGMA application_id").is_ok_and(|id| id == 0)
}

enum Mismatch {
    Structure,
    OtherApp,
    Other(Error),
}

fn check(about: &About, version: i64, declared: &Declared) -> Result<Found, Mismatch> {
    let expected = i64::from(declared.version);
    if about.app != declared.app {
        return Err(Mismatch::OtherApp);
    }
    if version > expected {
        return Err(Mismatch::Other(
            Error::new(
                Cause::NewerVersion,
                format!(
                    "cannot open the drawer: a newer app wrote it (version {version}; this app knows up to {expected})"
                ),
            )
            .untouched(UNTOUCHED)
            .advise("Update the app"),
        ));
    }
    if let Some(older) = u32::try_from(version).ok().filter(|v| *v > 0 && *v < declared.version) {
        return Ok(Found::Older(older));
    }
    if about.fingerprint != declared.fingerprint {
        return Err(Mismatch::Structure);
    }
    Ok(Found::Current { trail: about.trail.clone() })
}

/// How the tables of a file that is not ours differ from those declared, for whoever took the wrong file.
#[cold]
fn what_differs(connection: &Connection, declared: &Declared) -> String {
    let differences =
        upgrading::physical(connection).map(|found| Physical::of(&declared.structure).differences(&found));
    match differences {
        Ok(differences) if !differences.is_empty() => format!("; {}", differences.join("; ")),
        _ => String::new(),
    }
}

#[cold]
fn differences(connection: &Connection, declared: &Declared) -> Error {
    let found = About::structure(connection).ok().flatten();
    let mut list = found.as_ref().map(|found| declared.structure.differences(found)).unwrap_or_default();
    // Another program may have changed what the file does not know that it has.
    if let (Some(stated), Ok(there)) = (&found, upgrading::physical(connection)) {
        list.extend(Physical::of(stated).differences(&there).into_iter().map(|d| format!("by another program: {d}")));
    }
    let list =
        if list.is_empty() { "what the file says about its structure cannot be read".into() } else { list.join("; ") };
    Error::new(Cause::OtherStructure, format!("cannot open the drawer: its structure is not the declared one: {list}"))
        .untouched(UNTOUCHED)
        .advise(
            "If a type was changed without a new version, record one: VELVET_HISTORY=record cargo test. While developing, \
             Options::set_aside_other_structure moves such a file aside and starts afresh",
        )
}
