//! Creating a drawer in an empty file.

use super::recognise::{Found, recognise};
use crate::engine::Connection;
use crate::error::Error;
use crate::schema::Declared;
use crate::schema::about::About;
use velvet_core::evolve;
use velvet_core::schema::structure::Structure;

/// Whether data are brought into a new file before it is used.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Filling {
    Awaited,
    NotAsked,
}

impl Filling {
    pub(super) fn of<F>(fill: Option<&F>) -> Filling {
        if fill.is_some() { Filling::Awaited } else { Filling::NotAsked }
    }
}

/// Creates the declared structure, all of it or nothing. Says whether it did: another process may have been faster.
pub(super) fn create(connection: &Connection, declared: &Declared, filling: Filling) -> Result<bool, Error> {
    let create = || {
        let transaction = connection.transaction()?;
        if recognise(connection, declared)? != Found::Fresh {
            return Ok(false);
        }
        tables(connection, declared, filling)?;
        transaction.commit()?;
        Ok(true)
    };
    create().map_err(|error: Error| {
        if error.is_bare() { error.doing("cannot create the drawer").untouched("Nothing was created") } else { error }
    })
}

fn tables(connection: &Connection, declared: &Declared, filling: Filling) -> Result<(), Error> {
    for text in evolve::create(&declared.structure) {
        connection.run(&text)?;
    }
    declared.sealing.begin(connection, &declared.app, &Structure::default(), &declared.structure)?;
    About::write(connection, declared)?;
    if filling == Filling::Awaited {
        About::wait_to_be_filled(connection)?;
    }
    Ok(())
}
