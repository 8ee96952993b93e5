//! Following the rows of a statement.
//!
//! Where a row alone says whether it is selected and where it stands, the rows that a commit wrote are asked for, and nothing else. Otherwise all are
//! read anew, and those that are as before are kept.

use super::Live;
use super::slot::Slot;
use crate::drawer::{Changes, Inner, Scope, Subscriber};
use crate::engine::{Connection, Row};
use crate::error::Error;
use parking_lot::Mutex;
use std::any::TypeId;
use std::collections::{BTreeSet, HashMap};
use std::hash::{DefaultHasher, Hasher};
use std::sync::{Arc, Weak};
use velvet_core::live::{self, List, Listing};
use velvet_core::statement::{Followed, SPARE_ROWS, SomeRows};
use velvet_core::{Misfit, Value};

/// Reads what a row is shown as.
type Read<R> = dyn Fn(Row<'_, '_>) -> Result<R, Error> + Send + Sync;

/// What tells the rows of a statement apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ByRow {
    /// The number that each begins with.
    Number,
    /// The values of this many columns at its beginning.
    Values(usize),
}

/// What the rows of a statement are of, for messages.
#[derive(Clone, Copy)]
pub(crate) struct Of {
    pub(crate) table: &'static str,
    /// How many of its columns ignore case.
    pub(crate) ignore_case: usize,
    pub(crate) doing: fn() -> String,
    pub(crate) misfit: fn(Misfit) -> Error,
}

/// What is made of the rows, and whether two such are the same.
pub(crate) struct Show<R, S> {
    show: fn(List<R>) -> S,
    is_same: fn(&S, &S) -> bool,
    /// Whether what is shown is compared by which items it has, not by their hashes.
    by_item: bool,
}

impl<R> Show<R, List<R>> {
    /// The list as it is.
    pub(crate) const LIST: Show<R, List<R>> = Show { show: |list| list, is_same: List::is_same, by_item: false };
}

impl<R> Show<R, Option<Arc<R>>> {
    /// The only row, if there is one.
    pub(crate) const ONE: Show<R, Option<Arc<R>>> = Show {
        show: |list| list.shared(0).cloned(),
        is_same: |a, b| match (a, b) {
            (Some(a), Some(b)) => Arc::ptr_eq(a, b),
            (a, b) => a.is_none() && b.is_none(),
        },
        by_item: true,
    };
}

/// Follows the rows of a statement, and shows them as an `S`.
pub(crate) struct LiveRows<R, S> {
    of: Of,
    statements: Followed,
    told_apart_by: ByRow,
    read: Box<Read<R>>,
    show: fn(List<R>) -> S,
    by_item: bool,
    held: Mutex<HeldRows<R>>,
    slot: Arc<Slot<S>>,
}

struct HeldRows<R> {
    listing: Listing<R>,
    /// The tables that the statement reads; nothing before it was read.
    tables: Option<BTreeSet<String>>,
    /// Whether rows can be asked for one by one.
    by_row: bool,
    /// Whether all rows of the selection are held, or those up to a few behind the range.
    is_whole: bool,
    /// Items that somebody may have still, each with its number and hash: a row that is again what it was is the same item.
    given: Vec<(i64, u64, Weak<R>)>,
}

impl<R: Send + Sync + 'static, S: Clone + Send + Sync + 'static> LiveRows<R, S> {
    /// Follows them. With others that show the same, the work is shared; `more` is what that depends on beside the statement.
    pub(crate) fn follow(
        inner: &Arc<Inner>,
        of: Of,
        statements: Followed,
        (told_apart_by, more): (ByRow, Option<Value>),
        read: impl Fn(Row<'_, '_>) -> Result<R, Error> + Send + Sync + 'static,
        show: Show<R, S>,
    ) -> Result<Live<S>, Error> {
        // Of two ranges that end at the same row the statement is the same.
        let range = statements.range.map(|(offset, limit)| {
            [Some(offset), limit].map(|n| n.map_or(Value::Missing, |n| Value::Integer(n.cast_signed())))
        });
        let values = statements.all.values.iter().cloned().chain(more).chain(range.into_iter().flatten()).collect();
        let share = (TypeId::of::<LiveRows<R, S>>(), statements.all.text.clone(), values);
        let make = || {
            let listing = Listing::new(statements.keys.clone());
            let held = Mutex::new(HeldRows { listing, tables: None, by_row: false, is_whole: true, given: Vec::new() });
            let slot = Arc::new(Slot::new(show.is_same));
            LiveRows {
                of,
                statements,
                told_apart_by,
                read: Box::new(read),
                show: show.show,
                by_item: show.by_item,
                held,
                slot,
            }
        };
        Live::follow(inner, Some(share), make, |rows| Arc::clone(&rows.slot))
    }

    fn number(&self, row: Row<'_, '_>) -> i64 {
        match self.told_apart_by {
            ByRow::Number => row.key(),
            ByRow::Values(columns) => hash(row, 0, columns).cast_signed(),
        }
    }

    /// What a row is read as.
    fn item(
        &self,
        row: Row<'_, '_>,
        number: i64,
        hash: u64,
        given: &mut Vec<(i64, u64, Weak<R>)>,
    ) -> Result<Arc<R>, Error> {
        if !self.by_item {
            return Ok(Arc::new((self.read)(row)?));
        }
        given.retain(|(.., item)| item.strong_count() > 0);
        let same = given.iter().find(|(n, h, _)| (*n, *h) == (number, hash)).and_then(|(.., item)| item.upgrade());
        if let Some(same) = same {
            return Ok(same);
        }
        let item = Arc::new((self.read)(row)?);
        given.push((number, hash, Arc::downgrade(&item)));
        Ok(item)
    }

    fn key(&self, row: Row<'_, '_>, key: &mut Vec<u8>) {
        key.clear();
        let Followed { keys, columns, .. } = &self.statements;
        keys.write((0..keys.len()).map(|at| row.value(columns + at)), key);
    }

    /// Reads all rows anew; what is as before is kept.
    fn read_all(&self, connection: &Connection, held: &mut HeldRows<R>) -> Result<(), Error> {
        let mut known: HashMap<i64, (u64, Arc<R>)> =
            held.listing.rows().map(|(n, hash, item)| (n, (hash, Arc::clone(item)))).collect();
        let mut listing = Listing::new(self.statements.keys.clone());
        let mut key = Vec::new();
        connection.rows(&self.statements.all.text, self.statements.all.values.iter().map(Value::as_ref), |row| {
            let (number, hash) = (self.number(row), hash(row, 0, self.statements.columns));
            self.key(row, &mut key);
            let item = match known.remove(&number).filter(|(before, _)| *before == hash) {
                Some((_, item)) => item,
                None => self.item(row, number, hash, &mut held.given)?,
            };
            listing.push(number, hash, &key, item);
            Ok::<_, Error>(())
        })?;
        let wanted = self
            .statements
            .range
            .and_then(|(offset, limit)| Some(offset.saturating_add(limit?).saturating_add(SPARE_ROWS)));
        held.is_whole = wanted.is_none_or(|wanted| (listing.list().len() as u64) < wanted);
        held.listing = listing;
        Ok(())
    }

    /// Asks for the rows that were written, and puts them where they belong. Says whether what is held is enough for the range.
    fn ask(
        &self,
        connection: &Connection,
        some: &SomeRows,
        numbers: &BTreeSet<i64>,
        held: &mut HeldRows<R>,
    ) -> Result<bool, Error> {
        let numbers: Vec<i64> = numbers.iter().copied().collect();
        let before = held.listing.held(&numbers);
        let mut values: Vec<Value> = some.statement.values.clone();
        let list = numbers.iter().map(i64::to_string).collect::<Vec<_>>().join(",");
        values.insert(some.list_at, Value::Text(format!("[{list}]")));
        let mut now: HashMap<i64, (u64, Vec<u8>, Arc<R>)> = HashMap::new();
        connection.rows(&some.statement.text, values.iter().map(Value::as_ref), |row| {
            let (number, hash, mut key) = (row.key(), hash(row, 0, self.statements.columns), Vec::new());
            self.key(row, &mut key);
            let same = before.get(&number).filter(|before| before.hash == hash);
            let item = match same.and_then(|before| held.listing.item(number, &before.key)) {
                Some(item) => Arc::clone(item),
                None => self.item(row, number, hash, &mut held.given)?,
            };
            now.insert(number, (hash, key, item));
            Ok::<_, Error>(())
        })?;
        // Behind the last that is held there may be others, so what would come there is left to them.
        let is_held =
            |listing: &Listing<R>, number: i64, key: &[u8]| held.is_whole || listing.is_before_last(number, key);
        let comes_in: Vec<bool> =
            numbers.iter().map(|n| now.get(n).is_some_and(|(_, key, _)| is_held(&held.listing, *n, key))).collect();
        for (number, comes_in) in numbers.into_iter().zip(comes_in) {
            let (was, is) = (before.get(&number), now.remove(&number));
            match (was, is) {
                (Some(was), Some((hash, key, item))) if was.key == key => {
                    if was.hash != hash {
                        held.listing.replace(live::Row { number, hash, key: &key, item });
                    }
                }
                (was, is) => {
                    if let Some(was) = was {
                        held.listing.remove(number, &was.key);
                    }
                    if let Some((hash, key, item)) = is.filter(|_| comes_in) {
                        held.listing.insert(live::Row { number, hash, key: &key, item });
                    }
                }
            }
        }
        let Some(wanted) = self.statements.range.and_then(|(offset, limit)| Some(offset.saturating_add(limit?))) else {
            return Ok(true);
        };
        let length = held.listing.list().len() as u64;
        if length > wanted.saturating_add(2 * SPARE_ROWS) {
            held.listing.truncate(usize::try_from(wanted.saturating_add(SPARE_ROWS)).unwrap_or(usize::MAX));
            held.is_whole = false;
        }
        Ok(held.is_whole || length >= wanted)
    }

    fn shown(&self, list: &List<R>) -> List<R> {
        let Some((offset, limit)) = self.statements.range else { return list.clone() };
        let begin = usize::try_from(offset).unwrap_or(usize::MAX);
        let end = limit.map_or(usize::MAX, |limit| usize::try_from(offset.saturating_add(limit)).unwrap_or(usize::MAX));
        list.part(begin..end)
    }
}

impl<R: Send + Sync + 'static, S: Clone + Send + Sync + 'static> Subscriber for LiveRows<R, S> {
    fn step(&self, scope: Scope<'_>, news: &Changes) -> Result<BTreeSet<String>, Error> {
        let connection = scope.connection;
        let mut held = self.held.lock();
        let held = &mut *held;
        let tables = scope.doing(self.of.doing, || {
            if let Some(misfit) = &self.statements.all.misfit {
                return Err((self.of.misfit)(misfit.clone()));
            }
            connection.add_collations(self.statements.collations.iter())?;
            let by_row = held.by_row.then_some(self.statements.some.as_ref()).flatten();
            if let (Some(some), Changes::Rows(numbers)) = (by_row, news)
                && let Some(tables) = &held.tables
            {
                let tables = tables.clone();
                if self.ask(connection, some, numbers, held)? {
                    return Ok(tables);
                }
            }
            let (read, tables) = connection.noticing(|| self.read_all(connection, held));
            read?;
            if held.tables.is_none() {
                let is_alone = tables.len() == 1 && tables.contains(self.of.table);
                held.by_row = is_alone
                    && self.statements.some.is_some()
                    && connection.sorts_plainly(self.of.table, self.of.ignore_case)?;
                held.tables = Some(tables.clone());
            }
            Ok(tables)
        });
        if tables.is_err() {
            // It may have been left in the middle.
            held.by_row = false;
            held.tables = None;
        }
        let tables = tables?;
        let shown = self.shown(held.listing.list());
        self.slot.put((self.show)(shown));
        Ok(tables)
    }

    fn may_read_others(&self) -> bool {
        false
    }

    fn failed(&self, error: Error) {
        self.slot.fail(error);
    }

    fn end(&self) {
        self.slot.end();
    }
}

fn hash(row: Row<'_, '_>, from: usize, to: usize) -> u64 {
    let mut hash = DefaultHasher::new();
    (from..to).for_each(|at| row.value(at).add_to(&mut hash));
    hash.finish()
}
