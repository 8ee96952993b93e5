//! A new key for what is sealed, record by record.

use super::{Sealing, finder, new_key, rows, sealed_columns};
use crate::engine::Connection;
use crate::error::{Cause, Error};
use crate::keys;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::sealing::{Shut, key_number, sealing, unsealing};
use velvet_core::structure::Structure;
use velvet_core::{Value, ValueRef};

/// How many records are sealed anew in one transaction.
const AT_ONCE: u64 = 200;

/// What giving a drawer a new key did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct KeyChange {
    /// How many values were sealed anew.
    pub sealed: u64,
    /// How many could not be opened, and stay as they are. Where there are any, the file keeps its old key too.
    pub damaged: u64,
}

/// Work on what is sealed in a file, a step for each transaction.
pub(crate) struct Renewing<'a> {
    /// The columns that are still to be done.
    columns: Vec<(&'a str, &'a str, &'a str)>,
    after: i64,
    number: u32,
    pub(crate) done: KeyChange,
}

impl Sealing {
    /// Begins with a new key, or goes on with the one to which it was begun.
    pub(crate) fn renewing<'a>(
        &'a self,
        connection: &Connection,
        app: &str,
        structure: &'a Structure,
    ) -> Result<Renewing<'a>, Error> {
        let (Some(keeper), Some(seals)) = (&self.keeper, self.seals.as_ref().filter(|seals| seals.has_key())) else {
            let problem = "the drawer has no key: nothing is sealed in it, or it was opened without";
            return Err(Error::bare(Cause::KeyMissing, problem).advise("Open it with Options::keys"));
        };
        let there = rows(connection)?;
        let mut keys = BTreeMap::new();
        for row in &there {
            keys.insert(row.number, row.key(keeper, app)?);
        }
        let file_id = there.last().map(|row| row.file_id).unwrap_or_default();
        let newest = there.last().map_or(0, |row| row.number);
        let number = if there.len() > 1 { newest } else { newest + 1 };
        if number != newest {
            keys.insert(number, new_key(connection, keeper, app, (file_id, number))?);
        }
        seals.are(file_id, keys, finder(keeper, app, file_id));
        let columns = sealed_columns(structure).collect();
        Ok(Renewing { columns, after: i64::MIN, number, done: KeyChange::default() })
    }

    /// After a transaction was rolled back, the file has the keys that it had before.
    pub(crate) fn read_again(&self, connection: &Connection, app: &str) {
        let _ = self.find(connection, app);
    }

    /// Forgets the keys that the file has no more.
    pub(crate) fn forget_old_keys(&self, connection: &Connection, app: &str) -> Result<(), Error> {
        let (Some(keeper), there) = (&self.keeper, rows(connection)?) else { return Ok(()) };
        let Some(first) = there.first() else { return Ok(()) };
        for number in 1..first.number {
            let name = super::name(app, &first.file_id, number);
            keys::forgotten(&**keeper, &name)?;
        }
        Ok(())
    }
}

impl Renewing<'_> {
    /// Seals some records anew; all of it inside one transaction. Says whether there is more to do.
    pub(crate) fn step(&mut self, connection: &Connection) -> Result<ControlFlow<()>, Error> {
        let Some((table, column, label)) = self.columns.last().copied() else {
            if self.done.damaged == 0 {
                connection.execute("DELETE FROM velvet_sealing WHERE number < ?1", [i64::from(self.number).into()])?;
            }
            return Ok(ControlFlow::Break(()));
        };
        let (of, name, key) = (quoted(table), quoted(column), quoted(KEY_COLUMN));
        let text = format!(
            "SELECT {key}, {name}, {} FROM {of} WHERE {key} > ?1 AND {name} IS NOT NULL ORDER BY {key} LIMIT {AT_ONCE}",
            unsealing(&name, label, &key)
        );
        let found = connection.list(&text, [self.after.into()], |row| {
            let is_new = matches!(row.value(1), ValueRef::Bytes(sealed) if key_number(sealed) == Some(self.number));
            (row.key(), (!is_new).then(|| row.value(2).to_value()))
        })?;
        let update = format!("UPDATE {of} SET {name} = {} WHERE {key} = ?2", sealing("?1", label, &key));
        for (row, plain) in &found {
            match plain {
                None => {}
                Some(Value::Bytes(plain)) if Shut::of_sign(plain).is_none() => {
                    // Nothing changes for whoever reads it, so no trigger is to hear of it.
                    connection
                        .without_triggers(|| connection.execute(&update, [ValueRef::Bytes(plain), (*row).into()]))?;
                    self.done.sealed += 1;
                }
                Some(_) => self.done.damaged += 1,
            }
        }
        match found.last() {
            Some((last, _)) => self.after = *last,
            None => {
                self.columns.pop();
                self.after = i64::MIN;
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}
