//! Bringing a table in line with records that come from elsewhere, such as a downloaded catalogue.

use super::{Tx, clash, is_stamped, misfit};
use crate::drawer::{Alone, Drawer, MayWrite, Scope, UNTOUCHED, Writes};
use crate::error::{Cause, Doing, Error};
use crate::schema::about::About;
use crate::work::cancel::Cancel;
use crate::work::progress;
use jiff::Timestamp;
use std::collections::HashMap;
use std::fmt;
use std::time::Duration;
use velvet_core::exchange::key_list;
use velvet_core::exchange::show;
use velvet_core::records::nul::refuse_nul;
use velvet_core::records::record::stored_values;
use velvet_core::records::stored_form::{StoredForm, differing, lookup_key, push_key};
use velvet_core::statement::{Select, remove_listed};
use velvet_core::value::name::KEY_COLUMN;
use velvet_core::{Condition, Key, Keyed, Pick, Record, ValueRef};

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
pub struct Refresh<T, I, A = Alone> {
    at: A,
    incoming: I,
    by: Vec<usize>,
    within: Option<Condition<T>>,
    remove_absent: bool,
}

impl Drawer {
    /// Brings the stored records in line with incoming ones, which are told from each other by their own key: inserts what is
    /// new, changes what differs, leaves what is the same.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # use std::time::Duration;
    /// #[derive(Record)]
    /// struct Article { #[record(own_key)] number: String, cents: u32 }
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
    pub fn refresh<T: Keyed, I: IntoIterator<Item = T>>(&self, incoming: I) -> Refresh<T, I> {
        Refresh::new(self.alone(), incoming, vec![T::OWN_KEY_POSITION])
    }

    /// As [`Drawer::refresh`], with records that are told from each other by unique columns.
    pub fn refresh_by<T: Record, P: Pick<T>, I: IntoIterator<Item = T>>(
        &self,
        incoming: I,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Refresh<T, I> {
        Refresh::new(self.alone(), incoming, super::positions(unique))
    }

    /// When the records of a type were last refreshed.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn last_refresh<T: Record>(&self) -> Result<LastRefresh, Error> {
        let doing = || format!("cannot read when {} was refreshed", T::TABLE);
        let fact =
            self.inner.reading(|scope| scope.doing(doing, || Ok(About::fact(scope.connection, &fact::<T>())?)))?;
        Ok(LastRefresh(fact.and_then(|at| at.parse().ok())))
    }
}

impl<'t> Tx<'t> {
    /// Brings the stored records in line with incoming ones; see [`Drawer::refresh`].
    pub fn refresh<T: Keyed, I: IntoIterator<Item = T>>(&self, incoming: I) -> Refresh<T, I, Scope<'t, Writes>> {
        Refresh::new(self.scope(), incoming, vec![T::OWN_KEY_POSITION])
    }

    /// As [`Tx::refresh`], with records that are told from each other by unique columns.
    pub fn refresh_by<T: Record, P: Pick<T>, I: IntoIterator<Item = T>>(
        &self,
        incoming: I,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Refresh<T, I, Scope<'t, Writes>> {
        Refresh::new(self.scope(), incoming, super::positions(unique))
    }
}

/// The name under which the file remembers the moment.
fn fact<T: Record>() -> String {
    format!("refreshed {}", T::TABLE)
}

impl<T: Record, I: IntoIterator<Item = T>, A: MayWrite> Refresh<T, I, A> {
    pub(crate) fn new(at: A, incoming: I, by: Vec<usize>) -> Self {
        Refresh { at, incoming, by, within: None, remove_absent: false }
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
        let Refresh { at, incoming, by, within, remove_absent } = self;
        let cancel = Cancel::here();
        let mut come = 0;
        let goes_on = |_: &T| {
            progress::tell(|| format!("taking in records of {}", T::TABLE), come, None);
            come += 1;
            !cancel.as_ref().is_some_and(Cancel::is_cancelled)
        };
        // What comes from a network may take long; nobody waits for it to write.
        let incoming: Vec<T> = incoming.into_iter().take_while(goes_on).collect();
        if cancel.is_some_and(|cancel| cancel.is_cancelled()) {
            let error = Error::new(Cause::Cancelled, format!("{}: it was cancelled", doing::<T>()));
            return Err(error.untouched("Nothing was written"));
        }
        at.transaction(|scope| Refreshing { scope, incoming, by, remove_absent }.run(within))
    }
}

struct Refreshing<'a, T> {
    scope: Scope<'a, Writes>,
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
        self.scope.refuse_if_not_unique::<T>(&names)?;
        self.scope.doing(doing::<T>, || {
            let mut expected = self.by_key()?;
            let all = Some(self.incoming.len() as u64);
            progress::tell(|| format!("comparing records of {}", T::TABLE), 0, all);
            let found = self.compare(&mut expected, within)?;
            progress::tell(|| format!("writing what differs of {}", T::TABLE), found.unchanged, all);
            let mut report =
                Refreshed { unchanged: found.unchanged, changed: found.changed.len() as u64, ..Refreshed::default() };
            report.removed = self.remove(&found.absent)?;
            self.change(&found.changed, found.unchanged)?;
            let mut new: Vec<usize> = expected.into_values().collect();
            new.sort_unstable();
            report.added = new.len() as u64;
            self.insert(new, report.unchanged + report.changed)?;
            let at = format!("{:.9}", Timestamp::now());
            About::remember(self.scope.connection, &fact::<T>(), &at)?;
            Ok(report)
        })
    }

    /// The position of each incoming record by its key.
    fn by_key(&self) -> Result<HashMap<Vec<u8>, usize>, Error> {
        let mut by_key = HashMap::with_capacity(self.incoming.len());
        for (at, record) in self.incoming.iter().enumerate() {
            let key = refuse_nul(record).and_then(|()| lookup_key(record, &self.by));
            let key = key.map_err(misfit::<T>).doing(|| one::<T>(at))?;
            let Some(key) = key else {
                let error = Error::new(
                    Cause::Misfit,
                    format!("{} has no {}, by which it is known", one::<T>(at), self.names()),
                );
                return Err(error.untouched(UNTOUCHED).in_table(T::TABLE, None));
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
        let problem = format!("records {first} and {second} of those that came both have {said}");
        let error = Error::bare(Cause::Clash, problem);
        error.advise("Drop one of them").in_table(T::TABLE, Some(T::COLUMNS[self.by[0]]))
    }

    /// Compares what is stored with what is expected, and takes from that what was found.
    fn compare(
        &self,
        expected: &mut HashMap<Vec<u8>, usize>,
        within: Option<Condition<T>>,
    ) -> Result<Differences, Error> {
        let mut found = Differences::default();
        let has_within = within.is_some();
        let statement = Select::rows_with::<T>(within);
        let (mut key, mut positions) = (Vec::new(), Vec::new());
        self.scope.ask::<T, ()>(statement, |_, rows| {
            let mut read = 0;
            rows.each(|row| {
                read += 1;
                progress::tell_rows(|| format!("comparing records of {}", T::TABLE), read, None);
                key.clear();
                let there = push_key::<T>(self.by.iter().map(|at| (*at, row.column(*at))), &mut key);
                let at = if there { expected.remove(&key) } else { None };
                let Some(at) = at else {
                    let is_within = !has_within || row.column(T::COLUMNS.len()) == ValueRef::Integer(1);
                    if self.remove_absent && is_within {
                        found.absent.push(row.key());
                    }
                    return Ok(());
                };
                differing(&self.incoming[at], |column| row.column(column), &mut positions)
                    .map_err(misfit::<T>)
                    .doing(|| one::<T>(at))?;
                // What came knows nothing of when it was stored.
                positions.retain(|column| !is_stamped::<T>(*column));
                if positions.is_empty() {
                    found.unchanged += 1;
                } else {
                    found.changed.push((at, row.key(), positions.clone()));
                }
                Ok::<_, Error>(())
            })
        })?;
        Ok(found)
    }

    fn remove(&self, keys: &[i64]) -> Result<u64, Error> {
        if keys.is_empty() {
            return Ok(0);
        }
        self.scope.doing(
            || format!("{}: records that did not come cannot be removed", doing::<T>()),
            || {
                let list = key_list(keys.iter().copied().map(Some));
                let removed = self.scope.connection.execute(&remove_listed::<T>(), [(&list).into()]);
                removed.map_err(|fault| clash::explain_removals::<T>(self.scope, keys, fault))
            },
        )
    }

    /// Tells how many of the incoming records are in line.
    fn tell(&self, done: u64) {
        progress::tell_rows(|| format!("writing what differs of {}", T::TABLE), done, Some(self.incoming.len() as u64));
    }

    fn change(&self, changed: &[(usize, i64, Vec<usize>)], unchanged: u64) -> Result<(), Error> {
        if changed.is_empty() {
            return Ok(());
        }
        let mut done = unchanged;
        let (mut waiting, mut stood_aside) = (changed.iter().collect::<Vec<_>>(), false);
        loop {
            let (before, mut clash) = (waiting.len(), None);
            let mut still = Vec::new();
            for changed @ (at, key, columns) in waiting {
                let key = Key::from_number(*key);
                let doing = || format!("{} cannot replace {key}", one::<T>(*at));
                let record = &self.incoming[*at];
                let written = self.scope.doing(doing, || {
                    let form = StoredForm::of(record).map_err(misfit::<T>)?;
                    self.scope.write_columns(key, record, &form, columns).map(drop)
                });
                match written {
                    Ok(()) => {
                        done += 1;
                        self.tell(done);
                    }
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
        let Some(table) = self.scope.inner.declared.structure.table(T::TABLE) else { return Ok(()) };
        let columns: Vec<&str> = columns.iter().map(|at| T::COLUMNS[*at]).collect();
        Ok(self.scope.stand_aside(table, KEY_COLUMN, &key.into(), &columns)?)
    }

    fn insert(&self, new: Vec<usize>, before: u64) -> Result<(), Error> {
        if new.is_empty() {
            return Ok(());
        }
        let mut statement = self.scope.connection.prepare(&T::statements().insert)?;
        for (done, at) in (before + 1..).zip(new) {
            let moment = self.scope.moment_of::<T>();
            self.scope.doing(|| one::<T>(at), || self.scope.insert_row(&mut statement, &self.incoming[at], moment))?;
            self.tell(done);
        }
        Ok(())
    }
}

fn doing<T: Record>() -> String {
    format!("cannot refresh {}", T::TABLE)
}

/// One of the incoming records, at fault.
fn one<T: Record>(at: usize) -> String {
    format!("{}: record {} of those that came", doing::<T>(), at + 1)
}
