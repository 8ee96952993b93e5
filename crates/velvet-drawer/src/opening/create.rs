//! Creating a drawer in an empty file.

use super::about::About;
use super::recognise::{Found, recognise};
use crate::engine::{Connection, Fault};
use crate::error::Error;
use crate::schema::Declared;
use velvet_core::statement;

/// Creates the declared structure, all of it or nothing. Says whether it did: another process may have been faster.
pub(super) fn create(connection: &Connection, declared: &Declared, waits_to_be_filled: bool) -> Result<bool, Error> {
    let engine = |fault: Fault| Error::engine("cannot create the drawer", fault).untouched("Nothing was created");
    connection.run("BEGIN IMMEDIATE").map_err(engine)?;
    let result = match recognise(connection, declared) {
        Ok(Found::Fresh) => tables(connection, declared, waits_to_be_filled).map(|()| true).map_err(engine),
        Ok(Found::Current { .. } | Found::Older(_)) => Ok(false),
        Err(error) => Err(error),
    };
    match result.and_then(|created| connection.run("COMMIT").map(|()| created).map_err(engine)) {
        Err(error) => {
            // The engine may have rolled back by itself; then this has nothing left to do.
            let _ = connection.run("ROLLBACK");
            Err(error)
        }
        created => created,
    }
}

fn tables(connection: &Connection, declared: &Declared, waits_to_be_filled: bool) -> Result<(), Fault> {
    for text in statement::create(&declared.structure) {
        connection.run(&text)?;
    }
    About::write(connection, declared)?;
    if waits_to_be_filled { About::wait_to_be_filled(connection) } else { Ok(()) }
}
