//! Telling what a file is, before anything in it is changed.

use crate::engine::{Connection, Fault};
use crate::error::{Cause, Doing, Error};
use crate::schema::Declared;
use crate::schema::about::{APPLICATION_ID, About, refuse_stand_ins};
use velvet_core::schema::physical::Physical;

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

const DOING: &str = "cannot open the drawer";

/// Tells what the file is to the declared schema.
pub(crate) fn recognise(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    told(connection, declared).doing(|| DOING).untouched(|| UNTOUCHED)
}

fn told(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    let is_ours = About::is_ours(connection)?;
    let version = connection.version()?;
    if is_ours {
        refuse_stand_ins(connection, &declared.structure)?;
    }
    let about = if is_ours { About::read(connection)? } else { None };
    let Some(about) = about else { return not_ours(connection, declared) };
    match check(&about, version, declared) {
        Ok(found @ Found::Current { .. }) => changed_from_outside(connection, &about, declared).map(|()| found),
        Ok(found) => Ok(found),
        Err(Mismatch::OtherApp) => Err(Error::bare(
            Cause::OtherApp,
            format!(
                "it belongs to the app {:?}, not to {:?}{}",
                about.app,
                declared.app,
                what_differs(connection, declared)
            ),
        )
        .advise("Check the path, and the name given to Schema::new")),
        Err(Mismatch::Other(error)) => Err(error),
        Err(Mismatch::Structure) => Err(differences(connection, declared)),
    }
}

/// Tells a file that nothing is in yet from one of another program. All of it is read from one state: another process may
/// be creating the drawer this very moment.
fn not_ours(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    // Whoever creates the drawer asks inside of a transaction already.
    let snapshot = (!connection.is_in_transaction()).then(|| connection.snapshot()).transpose()?;
    let one_state = || Ok::<_, Fault>((connection.entry_count()?, connection.application()?, connection.version()?));
    let state = one_state();
    drop(snapshot);
    match state? {
        (0, 0, 0) => Ok(Found::Fresh),
        (_, APPLICATION_ID, _) if About::read(connection)?.is_some() => told(connection, declared),
        (tables, _, _) => Err(Error::bare(
            Cause::OtherApp,
            format!(
                "the file is a database of another program ({tables} tables, indexes and views){}",
                what_differs(connection, declared)
            ),
        )
        .advise("Check the path, or choose another file name; a file of the app's own from before is taken over with Options::adopt")),
    }
}

/// Another program may have changed the structure. The engine counts such changes, so that the structure has to be read
/// only when there were any.
fn changed_from_outside(connection: &Connection, about: &About, declared: &Declared) -> Result<(), Error> {
    if about.is_unchanged(connection)? {
        return Ok(());
    }
    let differences = Physical::of(&declared.structure).differences(&connection.physical()?);
    if differences.is_empty() {
        // Where this cannot be written, the structure is read again the next time.
        let _ = About::same_after_all(connection);
        return Ok(());
    }
    let problem = format!("another program changed its structure: {}", differences.join("; "));
    Err(Error::bare(Cause::OtherStructure, problem).advise(
        "Undo the change with that program; or move the file aside and start afresh, by Options::set_aside_other_structure",
    ))
}

/// Whether the file is a plain database that no program has marked as its own, as an app that writes one by itself leaves.
pub(super) fn is_plain(connection: &Connection) -> bool {
    connection.application().is_ok_and(|id| id == 0)
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
            Error::bare(
                Cause::NewerVersion,
                format!("a newer app wrote it (version {version}; this app knows up to {expected})"),
            )
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
    let differences = connection.physical().map(|found| Physical::of(&declared.structure).differences(&found));
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
    if let (Some(stated), Ok(there)) = (&found, connection.physical()) {
        list.extend(Physical::of(stated).differences(&there).into_iter().map(|d| format!("by another program: {d}")));
    }
    let list =
        if list.is_empty() { "what the file says about its structure cannot be read".into() } else { list.join("; ") };
    Error::bare(Cause::OtherStructure, format!("its structure is not the declared one: {list}")).advise(
        "If a type was changed without a new version, record one: VELVET_HISTORY=record cargo test. If this version was recorded again after the file was made, \
         as while developing, the file has what it was before: start afresh with Options::set_aside_other_structure, which moves it aside. Release a version before \
         phones get it: VELVET_HISTORY=release cargo test",
    )
}
