//! Telling what a file is, before anything in it is changed.

use super::about::{APPLICATION_ID, About};
use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use crate::schema::Declared;

/// A file that may be opened.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// Nothing is in it yet.
    Fresh,
    /// It has the declared structure.
    Current,
}

pub(super) const UNTOUCHED: &str = "The file was left untouched";

/// Tells what the file is to the declared schema.
pub(crate) fn recognise(connection: &Connection, declared: &Declared) -> Result<Found, Error> {
    let engine = |fault: Fault| Error::engine("cannot open the drawer", fault).untouched(UNTOUCHED);
    let application = connection.number("PRAGMA application_id").map_err(engine)?;
    let version = connection.number("PRAGMA user_version").map_err(engine)?;
    let about = if application == APPLICATION_ID { About::read(connection).map_err(engine)? } else { None };
    let Some(about) = about else {
        let tables = connection.number("SELECT count(*) FROM sqlite_schema").map_err(engine)?;
        if application == 0 && version == 0 && tables == 0 {
            return Ok(Found::Fresh);
        }
        return Err(Error::new(
            Cause::OtherApp,
            format!(
                "cannot open the drawer: the file is a database of another program ({tables} tables, indexes and views)"
            ),
        )
        .untouched(UNTOUCHED)
        .advise("Check the path, or choose another file name"));
    };
    check(&about, version, declared).map_err(|error| match error {
        Mismatch::Other(error) => error,
        Mismatch::Structure => differences(connection, declared),
    })
}

enum Mismatch {
    Structure,
    Other(Error),
}

fn check(about: &About, version: i64, declared: &Declared) -> Result<Found, Mismatch> {
    let expected = i64::from(declared.version);
    if about.app != declared.app {
        return Err(Mismatch::Other(
            Error::new(
                Cause::OtherApp,
                format!("cannot open the drawer: it belongs to the app {:?}, not to {:?}", about.app, declared.app),
            )
            .untouched(UNTOUCHED)
            .advise("Check the path, and the name given to Schema::new"),
        ));
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
    if about.fingerprint != declared.fingerprint {
        return Err(Mismatch::Structure);
    }
    Ok(Found::Current)
}

#[cold]
fn differences(connection: &Connection, declared: &Declared) -> Error {
    let found = About::structure(connection).ok().flatten();
    let list = found.map(|found| declared.structure.differences(&found)).unwrap_or_default();
    let list =
        if list.is_empty() { "what the file says about its structure cannot be read".into() } else { list.join("; ") };
    Error::new(Cause::OtherStructure, format!("cannot open the drawer: its structure is not the declared one: {list}"))
        .untouched(UNTOUCHED)
        .advise("Declare the structure that the file has, or open another file")
}
