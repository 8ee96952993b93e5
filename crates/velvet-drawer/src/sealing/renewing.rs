//! A new key for what is sealed, record by record.

use super::{SEALING, SealedIn, Sealing, finder, new_key, rows, sealed_columns};
use crate::engine::{Connection, Opener};
use crate::error::{Cause, Error};
use crate::file::facts;
use crate::sealing::keys;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use velvet_core::schema::structure::Structure;
use velvet_core::sealing::{Shut, is_bound, key_number, sealing, unsealing};
use velvet_core::value::name::{KEY_COLUMN, quoted};
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
    columns: Vec<SealedIn<'a>>,
    after: i64,
    number: u32,
    /// The names of the keys that it takes the place of.
    replaced: Vec<String>,
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
        seals.are(file_id, keys, finder(connection, keeper, app));
        let columns = sealed_columns(structure).collect();
        let replaced = there.iter().filter(|row| row.number != number);
        let replaced = replaced.map(|row| row.known_name(keeper, app)).collect::<Result<Vec<_>, _>>()?;
        let replaced = replaced.into_iter().flatten().collect();
        Ok(Renewing { columns, after: i64::MIN, number, replaced, done: KeyChange::default() })
    }

    /// After a transaction was rolled back, the file has the keys that it had before.
    pub(crate) fn read_again(&self, connection: &Connection, app: &str) {
        let _ = self.find(connection, app);
    }

    /// Forgets the keys that the file has replaced, but none that the file has of which it is a copy, or one that was set aside next to it: nothing else holds what is in
    /// that. Returns the files for whose sake a key stays.
    pub(crate) fn forget_old_keys(
        &self,
        connection: &Connection,
        app: &str,
        set_aside: &[PathBuf],
    ) -> Result<Vec<PathBuf>, Error> {
        let Some(keeper) = &self.keeper else { return Ok(Vec::new()) };
        let mut old = old_keys(connection, OLD_KEYS)?;
        let own = rows(connection)?;
        // Earlier versions of the library noted no names.
        let first = own.first().map(|first| (first.file_id, first.number));
        let before = first.into_iter().flat_map(|(id, number)| (1..number).map(move |n| super::name(app, &id, n)));
        let before: Vec<String> = before.filter(|name| !old.contains(name)).collect();
        old.extend(before);
        let of_another = old_keys(connection, KEYS_OF_ANOTHER)?;
        let mut needed: Vec<(String, PathBuf)> = Vec::new();
        for file in set_aside {
            let names = keys_of(file, app);
            needed.extend(names.into_iter().map(|name| (name, file.clone())));
        }
        let is_in_use = |name: &String| own.iter().any(|row| row.names(app).contains(name));
        let mut still: Vec<PathBuf> = Vec::new();
        for name in old.iter().filter(|name| !of_another.contains(name) && !is_in_use(name)) {
            match needed.iter().find(|(needed, _)| needed == name) {
                Some((_, file)) => still.push(file.clone()),
                None => keys::forgotten(&**keeper, name)?,
            }
        }
        still.dedup();
        Ok(still)
    }
}

/// The fact that lists the names of the keys that a file has replaced, one a line.
const OLD_KEYS: &str = "old_keys";

/// The fact that lists, in a copy, the names of the keys of the file that it is a copy of.
const KEYS_OF_ANOTHER: &str = "keys_of_another";

fn old_keys(connection: &Connection, fact: &str) -> Result<Vec<String>, Error> {
    Ok(facts::fact(connection, fact)?.map(|names| names.lines().map(str::to_owned).collect()).unwrap_or_default())
}

/// The names that the keys of a file may have; none of a file that has no keys, or cannot be read.
fn keys_of(file: &Path, app: &str) -> Vec<String> {
    let rows = Opener::new(file).reader().map_err(Error::from).and_then(|connection| rows(&connection));
    rows.unwrap_or_default().iter().flat_map(|row| row.names(app)).collect()
}

/// Notes in a copy, which nobody has open yet, which keys are those of the file that it is a copy of.
pub(crate) fn note_copied_keys(copy: &Path) -> Result<(), Error> {
    let connection = Opener::new(copy).writer()?;
    let app = facts::fact(&connection, "app")?;
    if let Some(app) = app.as_deref().filter(|_| connection.has(SEALING).unwrap_or_default()) {
        let mut names = old_keys(&connection, KEYS_OF_ANOTHER)?;
        names.extend(rows(&connection)?.iter().flat_map(|row| row.names(app)));
        names.extend(old_keys(&connection, OLD_KEYS)?);
        names.sort();
        names.dedup();
        facts::remember(&connection, KEYS_OF_ANOTHER, &names.join("\n"))?;
    }
    connection.leave_wal()?;
    Ok(connection.close()?)
}

impl Renewing<'_> {
    /// Seals some records anew; all of it inside one transaction. Says whether there is more to do.
    pub(crate) fn step(&mut self, connection: &Connection) -> Result<ControlFlow<()>, Error> {
        let Some(sealed @ SealedIn { table, column, label, .. }) = self.columns.last().copied() else {
            if self.done.damaged == 0 {
                connection.execute("DELETE FROM velvet_sealing WHERE number < ?1", [i64::from(self.number).into()])?;
                let mut old = old_keys(connection, OLD_KEYS)?;
                old.extend(self.replaced.iter().filter(|name| !old.contains(name)).cloned().collect::<Vec<_>>());
                facts::remember(connection, OLD_KEYS, &old.join("\n"))?;
            }
            return Ok(ControlFlow::Break(()));
        };
        let (of, name, key) = (quoted(table), quoted(column), quoted(KEY_COLUMN));
        let text = format!(
            "SELECT {key}, {name}, {} FROM {of} WHERE {key} > ?1 AND {name} IS NOT NULL ORDER BY {key} LIMIT {AT_ONCE}",
            unsealing(&name, label, &sealed.place())
        );
        let found = connection.list(&text, [self.after.into()], |row| {
            let is_done =
                |value: &[u8]| key_number(value) == Some(self.number) && is_bound(value) == sealed.name.is_some();
            let is_new = matches!(row.value(1), ValueRef::Bytes(value) if is_done(value));
            (row.key(), (!is_new).then(|| row.value(2).to_value()))
        })?;
        let update = format!("UPDATE {of} SET {name} = {} WHERE {key} = ?2", sealing("?1", label, &sealed.place()));
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
