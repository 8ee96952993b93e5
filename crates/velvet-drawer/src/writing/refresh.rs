//! Bringing a table in line with records that come from elsewhere, such as a downloaded catalogue.

use super::{Tx, UNTOUCHED, clash, misfit};
use crate::drawer::Drawer;
use crate::engine::Fault;
use crate::error::{Cause, Error};
use crate::opening::About;
use crate::reading::Open;
use jiff::Timestamp;
use std::collections::HashMap;
use std::fmt;
use std::time::Duration;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::record::stored_values;
use velvet_core::stored_form::{differing, lookup_key, push_key};
use velvet_core::{Condition, Fragment, Key, Keyed, Pick, Record, show};

/// What a refresh did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Refreshed {
    /// How many records are new.
    pub added: u64,
    /// How many were stored and differed.
    pub changed: u64,
    /// How many were stored as they came; nothing was written for them.
    pub unchanged: u64,
    /// How many were stored and did not come, and were removed.
    pub removed: u64,
}

impl fmt::Display for Refreshed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Refreshed { added, changed, unchanged, removed } = self;
        write!(f, "{added} added, {changed} changed, {unchanged} unchanged, {removed} removed")
    }
}

/// When records were last refreshed, if ever.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LastRefresh(Option<Timestamp>);

impl LastRefresh {
    /// The moment; nothing when they never were.
    pub fn at(self) -> Option<Timestamp> {
        self.0
    }

    /// Whether it is longer ago than this, or never was, so that another one is due. It is as well when the moment lies in the
    /// future, because the clock was set.
    pub fn older_than(self, age: Duration) -> bool {
        let Some(at) = self.0 else { return true };
        let since = Timestamp::now().duration_since(at);
        since.is_negative() || since.unsigned_abs() > age
    }
}

/// A refresh that is still to be run.
#[must_use = "a refresh writes nothing until it is run"]
pub struct Refresh<'a, T, I> {
    on: On<'a>,
    incoming: I,
    by: Vec<usize>,
    within: Option<Condition<T>>,
    remove_absent: bool,
}

enum On<'a> {
    Drawer(&'a Drawer),
    Tx(Open<'a>),
}

impl Drawer {
    /// Brings the stored records in line with incoming ones, which are told from each other by their own key: inserts what is
    /// new, changes what differs, leaves what is the same.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # use std::time::Duration;
    /// #[derive(Record)]
    /// struct Article { #[record(key)] number: String, cents: u32 }
    ///
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// let article = |number: &str, cents| Article { number: number.into(), cents };
    /// assert!(drawer.last_refresh::<Article>()?.older_than(Duration::from_secs(3_600)));
    /// let first = drawer.refresh([article("A", 150), article("B", 900)]).run()?;
    /// assert_eq!(first.to_string(), "2 added, 0 changed, 0 unchanged, 0 removed");
    ///
    /// let second = drawer.refresh([article("B", 950), article("C", 20)]).remove_absent().run()?;
    /// assert_eq!(second.to_string(), "1 added, 1 changed, 0 unchanged, 1 removed");
    /// assert!(!drawer.last_refresh::<Article>()?.older_than(Duration::from_secs(3_600)));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn refresh<T: Keyed, I: IntoIterator<Item = T>>(&self, incoming: I) -> Refresh<'_, T, I> {
        Refresh::new(On::Drawer(self), incoming, vec![T::KEY_POSITION])
    }

    /// As [`Drawer::refresh`], with records that are told from each other by unique columns.
    pub fn refresh_by<T: Record, P: Pick<T>, I: IntoIterator<Item = T>>(
        &self,
        incoming: I,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Refresh<'_, T, I> {
        Refresh::new(On::Drawer(self), incoming, super::positions(unique))
    }

    /// When the records of a type were last refreshed.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn last_refresh<T: Record>(&self) -> Result<LastRefresh, Error> {
        let fact = self.reading(|connection| {
            About::fact(connection, &fact::<T>())
                .map_err(|fault| self.inner.fault(&format!("cannot read when {} was refreshed", T::TABLE), fault))
        })?;
        Ok(LastRefresh(fact.and_then(|at| at.parse().ok())))
    }
}

impl<'t> Tx<'t> {
    /// Brings the stored records in line with incoming ones; see [`Drawer::refresh`].
    pub fn refresh<T: Keyed, I: IntoIterator<Item = T>>(&self, incoming: I) -> Refresh<'t, T, I> {
        Refresh::new(On::Tx(self.open()), incoming, vec![T::KEY_POSITION])
    }

    /// As [`Tx::refresh`], with records that are told from each other by unique columns.
    pub fn refresh_by<T: Record, P: Pick<T>, I: IntoIterator<Item = T>>(
        &self,
        incoming: I,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Refresh<'t, T, I> {
        Refresh::new(On::Tx(self.open()), incoming, super::positions(unique))
    }
}

/// The name under which the file remembers the moment.
fn fact<T: Record>() -> String {
    format!("refreshed {}", T::TABLE)
}

impl<'a, T: Record, I: IntoIterator<Item = T>> Refresh<'a, T, I> {
    fn new(on: On<'a>, incoming: I, by: Vec<usize>) -> Self {
        Refresh { on, incoming, by, within: None, remove_absent: false }
    }

    /// Removes stored records that do not come.
    pub fn remove_absent(mut self) -> Self {
        self.remove_absent = true;
        self
    }

    /// Removes, of the stored records that do not come, only those that satisfy a condition: where what comes is a part of the
    /// table, such as the articles of one supplier.
    pub fn remove_absent_among(mut self, condition: impl FnOnce(T::Columns) -> Condition<T>) -> Self {
        self.within = Some(condition(T::columns()));
        self.remove_absent()
    }

    /// Runs it in one transaction, and remembers when.
    ///
    /// # Errors
    /// When two incoming records are the same by their key, one has no key, cannot be stored, clashes or links to nothing, each
    /// with its position; when a record that should be removed is linked to; and when the file cannot be written. Nothing is
    /// written then.
    pub fn run(self) -> Result<Refreshed, Error> {
        let Refresh { on, incoming, by, within, remove_absent } = self;
        let incoming: Vec<T> = incoming.into_iter().collect();
        let run = |open: Open<'_>| Refreshing { open, incoming, by, remove_absent }.run(within);
        match on {
            On::Drawer(drawer) => drawer.write(|tx| run(tx.open())),
            // What it wrote before it failed is rolled back alone.
            On::Tx(open) => open.part(|| run(open)),
        }
    }
}

struct Refreshing<'a, T> {
    open: Open<'a>,
    incoming: Vec<T>,
    by: Vec<usize>,
    remove_absent: bool,
}

/// What is to be written.
#[derive(Default)]
struct Differences {
    /// The position of each incoming record that is stored otherwise, its row number, and the columns that differ.
    changed: Vec<(usize, i64, Vec<usize>)>,
    absent: Vec<i64>,
    unchanged: u64,
}

impl<T: Record> Refreshing<'_, T> {
    fn run(self, within: Option<Condition<T>>) -> Result<Refreshed, Error> {
        let names: Vec<&str> = self.by.iter().map(|at| T::COLUMNS[*at]).collect();
        self.open.refuse_if_not_unique::<T>(&names)?;
        let mut expected = self.by_key()?;
        let found = self.compare(&mut expected, within)?;
        let mut report =
            Refreshed { unchanged: found.unchanged, changed: found.changed.len() as u64, ..Refreshed::default() };
        report.removed = self.remove(&found.absent)?;
        self.change(&found.changed)?;
        let mut new: Vec<usize> = expected.into_values().collect();
        new.sort_unstable();
        report.added = new.len() as u64;
        self.insert(new)?;
        let at = format!("{:.9}", Timestamp::now());
        About::remember(self.open.connection, &fact::<T>(), &at).map_err(|fault| self.engine(fault))?;
        Ok(report)
    }

    fn doing(&self) -> String {
        format!("cannot refresh {}", T::TABLE)
    }

    fn engine(&self, fault: Fault) -> Error {
        self.open.inner.fault(&self.doing(), fault).untouched(UNTOUCHED)
    }

    /// The position of each incoming record by its key.
    fn by_key(&self) -> Result<HashMap<Vec<u8>, usize>, Error> {
        let mut by_key = HashMap::with_capacity(self.incoming.len());
        for (at, record) in self.incoming.iter().enumerate() {
            let doing = || format!("{}: record {} of those that came", self.doing(), at + 1);
            let key = lookup_key(record, &self.by).map_err(|wrong| misfit::<T>(self.open, &doing(), wrong))?;
            let Some(key) = key else {
                let error =
                    Error::new(Cause::Misfit, format!("{} has no {}, by which it is known", doing(), self.names()));
                return Err(self.open.inner.place.name(error.untouched(UNTOUCHED).in_table(T::TABLE, None)));
            };
            if let Some(before) = by_key.insert(key, at) {
                return Err(self.twice(before, at));
            }
        }
        Ok(by_key)
    }

    fn names(&self) -> String {
        self.by.iter().map(|at| T::COLUMNS[*at]).collect::<Vec<_>>().join(" and ")
    }

    #[cold]
    fn twice(&self, first: usize, second: usize) -> Error {
        let values = stored_values(&self.incoming[second]).unwrap_or_default();
        let said = |at: &usize| values.get(*at).map_or_else(String::new, |v| show::plain(v.as_ref()));
        let said: Vec<String> = self.by.iter().map(|at| format!("{} {}", T::COLUMNS[*at], said(at))).collect();
        let (first, second, said) = (first + 1, second + 1, said.join(" with "));
        let problem = format!("{}: records {first} and {second} of those that came both have {said}", self.doing());
        let error = Error::new(Cause::Clash, problem).untouched(UNTOUCHED);
        self.open.inner.place.name(error.advise("Drop one of them").in_table(T::TABLE, Some(T::COLUMNS[self.by[0]])))
    }

    /// Compares what is stored with what is expected, and takes from that what was found.
    fn compare(
        &self,
        expected: &mut HashMap<Vec<u8>, usize>,
        within: Option<Condition<T>>,
    ) -> Result<Differences, Error> {
        let mut found = Differences::default();
        let mut statement = Fragment::text(T::statements().select.clone());
        if let Some(condition) = within {
            let (before, after) = statement.text.split_once(" FROM ").unwrap_or((&statement.text, ""));
            let after = format!(" FROM {after}");
            statement = Fragment::text(format!("{before}, ")).and(condition.into_fragment()).then(&after);
        }
        let (mut key, mut positions) = (Vec::new(), Vec::new());
        self.open.ask::<T, ()>(statement, |open, rows| {
            while let Some(row) = rows.next().map_err(open.fault(|| self.doing()))? {
                key.clear();
                let there = push_key(self.by.iter().map(|at| row.value(at + 1)), &mut key);
                let at = if there { expected.remove(&key) } else { None };
                let Some(at) = at else {
                    let is_within = row.count() == T::COLUMNS.len() + 1 || row.integer(T::COLUMNS.len() + 1) == 1;
                    if self.remove_absent && is_within {
                        found.absent.push(row.integer(0));
                    }
                    continue;
                };
                let doing = || format!("{}: record {} of those that came", self.doing(), at + 1);
                differing(&self.incoming[at], |column| row.value(column + 1), &mut positions)
                    .map_err(|wrong| misfit::<T>(open, &doing(), wrong))?;
                if positions.is_empty() {
                    found.unchanged += 1;
                } else {
                    found.changed.push((at, row.integer(0), positions.clone()));
                }
            }
            Ok(())
        })?;
        Ok(found)
    }

    fn remove(&self, keys: &[i64]) -> Result<u64, Error> {
        if keys.is_empty() {
            return Ok(0);
        }
        let (table, key) = (quoted(T::TABLE), quoted(KEY_COLUMN));
        let text = format!("DELETE FROM {table} WHERE {key} IN (SELECT value FROM json_each(?1))");
        let mut statement = self.open.connection.prepare(&text).map_err(|fault| self.engine(fault))?;
        let list = list(keys.iter());
        statement.bind(1, velvet_core::ValueRef::Text(&list)).map_err(|fault| self.engine(fault))?;
        let doing = format!("{}: records that did not come cannot be removed", self.doing());
        statement.execute().map_err(|fault| clash::explain_removal::<T>(self.open, &doing, None, fault))
    }

    fn change(&self, changed: &[(usize, i64, Vec<usize>)]) -> Result<(), Error> {
        if changed.is_empty() {
            return Ok(());
        }
        let (mut waiting, mut stood_aside) = (changed.iter().collect::<Vec<_>>(), false);
        loop {
            let (before, mut clash) = (waiting.len(), None);
            let mut still = Vec::new();
            for changed @ (at, key, columns) in waiting {
                let key = Key::from_number(*key);
                let doing = || format!("{}: record {} of those that came cannot replace {key}", self.doing(), at + 1);
                match self.open.write_columns(key, &self.incoming[*at], columns, doing) {
                    Ok(()) => {}
                    // The record that has the value may be still to be changed.
                    Err(error) if error.is_clash() => {
                        clash.get_or_insert(error);
                        still.push(changed);
                    }
                    Err(error) => return Err(error),
                }
            }
            let Some(clash) = clash else { return Ok(()) };
            if !stood_aside {
                // They may want each other's values.
                still.iter().try_for_each(|(_, key, columns)| self.stand_aside(*key, columns))?;
                stood_aside = true;
            } else if still.len() == before {
                return Err(clash);
            }
            waiting = still;
        }
    }

    fn stand_aside(&self, key: i64, columns: &[usize]) -> Result<(), Error> {
        let Some(table) = self.open.inner.declared.structure.table(T::TABLE) else { return Ok(()) };
        let columns: Vec<&str> = columns.iter().map(|at| T::COLUMNS[*at]).collect();
        self.open.stand_aside(table, KEY_COLUMN, &key.into(), &columns).map_err(|fault| self.engine(fault))
    }

    fn insert(&self, new: Vec<usize>) -> Result<(), Error> {
        if new.is_empty() {
            return Ok(());
        }
        let Refreshing { open, incoming, .. } = self;
        let mut statement = open
            .connection
            .prepare(&T::statements().insert)
            .map_err(open.fault(|| format!("cannot refresh {}", T::TABLE)))?;
        for at in new {
            let doing = || format!("cannot refresh {}: record {} of those that came", T::TABLE, at + 1);
            open.insert_with(&mut statement, &incoming[at], doing)?;
        }
        Ok(())
    }
}

/// Row numbers as a JSON list.
fn list<'k>(keys: impl Iterator<Item = &'k i64>) -> String {
    let keys: Vec<String> = keys.map(i64::to_string).collect();
    format!("[{}]", keys.join(","))
}
