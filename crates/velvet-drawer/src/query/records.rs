//! A selection of records: conditions, order, range.

use super::{Gather, of, reading, stored};
use crate::drawer::{Access, Alone, Drawer, Inner, MayWrite, Mode, Scope, Writes};
use crate::engine::Rows;
use crate::error::{Cause, Error};
use crate::live::{ByRow, Live, LiveRows, Show};
use crate::work::progress;
use std::marker::PhantomData;
use std::sync::Arc;
use velvet_core::live::List;
use velvet_core::query::column::{key_column, own_key_column};
use velvet_core::query::list_place::ListPlace;
use velvet_core::records::record::stored_values;
use velvet_core::statement::Select;
use velvet_core::{ColumnType, Condition, Fragment, Key, Keyed, Orders, Record, Stored, Value};

/// A selection of records of type `T`. Nothing is read until it is collected, counted or asked for its first.
///
/// Records come in the order in which they were inserted, unless sorted.
///
/// ```
/// # use velvet_drawer::{Drawer, Record, Schema};
/// #[derive(Record)]
/// struct Piece { mark: String, grams: Option<u32> }
///
/// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
/// # for n in 0..9 { drawer.insert(Piece { mark: format!("K-{n}"), grams: Some(n * 200) })?; }
/// let heavy = drawer
///     .records::<Piece>()
///     .filter(|p| p.grams.at_least(500) & !p.mark.starts_with("X"))
///     .sort_by(|p| p.grams.descending())
///     .limit(20)
///     .collect()?;
/// assert_eq!(heavy[0].grams, Some(1600));
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[must_use = "a selection reads nothing until it is collected, counted or asked for its first"]
pub struct Records<T, A = Alone> {
    pub(super) at: A,
    pub(super) select: Select,
    pub(super) after: Option<After>,
    of: PhantomData<fn() -> T>,
}

/// Where a selection begins.
#[derive(Clone)]
pub(super) enum After {
    Seen(Seen),
    /// What was given as text.
    Place(String),
    /// The record with this key, as it is stored.
    Key(i64),
}

/// The record after which a selection begins, as it was seen.
#[derive(Clone)]
pub(super) struct Seen {
    key: i64,
    columns: Fragment,
}

impl<T, A: Clone> Clone for Records<T, A> {
    fn clone(&self) -> Self {
        Records { at: self.at.clone(), select: self.select.clone(), after: self.after.clone(), of: PhantomData }
    }
}

impl Drawer {
    /// The records of type `T`, to be filtered, sorted and collected.
    pub fn records<T: Record>(&self) -> Records<T> {
        Records::at(self.alone())
    }

    /// How many records of type `T` there are.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn count<T: Record>(&self) -> Result<u64, Error> {
        self.records::<T>().count()
    }
}

impl<T: Record, A: Access> Records<T, A> {
    pub(crate) fn at(at: A) -> Self {
        Records { at, select: Select::default(), after: None, of: PhantomData }
    }

    /// Keeps the records that satisfy the condition. Several filters must all be satisfied.
    pub fn filter(mut self, condition: impl FnOnce(T::Columns) -> Condition<T>) -> Self {
        self.select.and(condition(T::columns()).into_fragment());
        self
    }

    /// Sorts the records: by one order, a tuple of them, or a list made at run time. Another call adds an order that counts
    /// among equals. Records that are equal in all of them come in the order in which they were stored; where the last order is
    /// descending, the newest first.
    pub fn sort_by<O: Orders<T>>(mut self, order: impl FnOnce(T::Columns) -> O) -> Self {
        order(T::columns()).each(&mut |order| self.select.sorting.then(order));
        self
    }

    /// At most this many records.
    pub fn limit(mut self, count: u64) -> Self {
        self.select.limit = Some(count);
        self
    }

    /// The first record of the selection, if its range has any.
    pub(super) fn only_first(mut self) -> Self {
        self.select.limit = Some(self.select.limit.map_or(1, |limit| limit.min(1)));
        self
    }

    /// Leaves out this many records at the start.
    pub fn offset(mut self, count: u64) -> Self {
        self.select.offset = count;
        self
    }

    /// Begins after a record that was seen before, in the order of the selection: the next page of a list. Records that were
    /// added or removed meanwhile, also that one, neither shift it nor make it skip one, and a late page costs no more than
    /// the first when an index serves the order.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, #[record(indexed)] grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for n in 0..9 { drawer.insert(Piece { mark: format!("K-{n}"), grams: 300 + n % 4 })?; }
    /// let heaviest = || drawer.records::<Piece>().sort_by(|p| p.grams.descending()).limit(4);
    /// let page = heaviest().collect()?;
    /// let next = heaviest().after(&page[3]).collect()?;
    /// # let all = heaviest().limit(8).collect()?;
    /// # assert_eq!(next.iter().map(|p| p.key()).collect::<Vec<_>>(), all[4..].iter().map(|p| p.key()).collect::<Vec<_>>());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn after(mut self, last: &Stored<T>) -> Self {
        self.after = Some(After::Seen(Seen::of(last)));
        self
    }

    /// The place of a record in this list as text, with which [`Records::after_place`] goes on after it: also once the app was started again, or on a
    /// server that it is handed to. It has what the list is sorted by.
    ///
    /// # Errors
    /// As [`Records::count`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, #[record(indexed)] grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for n in 0..9 { drawer.insert(Piece { mark: format!("K-{n}"), grams: 300 + n % 4 })?; }
    /// let heaviest = || drawer.records::<Piece>().sort_by(|p| p.grams.descending()).limit(4);
    /// let page = heaviest().collect()?;
    /// let place: String = heaviest().place_of(&page[3])?;
    /// let next = heaviest().after_place(&place).collect()?;
    /// # assert_eq!(next.len(), 4);
    /// # assert_eq!(next[0].key(), heaviest().after(&page[3]).collect()?[0].key());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn place_of(self, record: &Stored<T>) -> Result<String, Error> {
        let Records { at, select, .. } = self;
        let seen = Seen::of(record);
        at.reading(|scope| {
            scope.doing(reading::<T>, || {
                scope.connection.add_collations(select.sorting.collations())?;
                let key = seen.key;
                let values = values_of::<T, _>(scope, &select, seen)?;
                Ok(ListPlace { values, key }.to_text(&select.sorting, &scope.inner.declared.structure))
            })
        })
    }

    /// Begins after a place that [`Records::place_of`] gave for a list with the same orders. One of other orders, or from before an upgrade that gave the columns of the
    /// orders other types, is an error when the list is read ([`Error::is_bad_query`]).
    pub fn after_place(mut self, place: &str) -> Self {
        self.after = Some(After::Place(place.to_owned()));
        self
    }

    /// Begins after the record with this key, as it is stored when the list is read: for a page of which no record can be read
    /// ([`Records::collect_readable`] has their keys). If it does not exist any more, reading the list is an error ([`Error::is_not_found`]).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # let keys: Vec<_> = drawer.insert_all((0..4).map(|n| Piece { mark: format!("K-{n}"), grams: n % 2 }))?.iter().map(|p| p.key()).collect();
    /// let lightest = || drawer.records::<Piece>().sort_by(|p| p.grams.ascending());
    /// assert_eq!(lightest().after_key(keys[2]).only(|p| p.mark).collect()?, ["K-1", "K-3"]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn after_key(mut self, key: Key<T>) -> Self {
        self.after = Some(After::Key(key.number()));
        self
    }

    /// The records as a list.
    ///
    /// # Errors
    /// When the file cannot be read, a condition's value has no stored form, or a stored value is not one of its
    /// field's type.
    pub fn collect(self) -> Result<Vec<Stored<T>>, Error> {
        self.collect_into()
    }

    /// The records as any collection that can [`Gather`] them: a list, a set, a map from keys.
    ///
    /// # Errors
    /// As [`Records::collect`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Key, Record, Schema};
    /// # use std::collections::BTreeMap;
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let glazes: BTreeMap<Key<Glaze>, Glaze> = drawer.records().collect_into()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn collect_into<C: Gather<T>>(self) -> Result<C, Error> {
        let mut all = C::default();
        self.run(Select::rows::<T>, |_, rows| {
            let mut read = 0;
            while let Some(row) = rows.next()? {
                progress::tell_rows(|| format!("reading records of {}", T::TABLE), read, None);
                read += 1;
                all.add(stored(row)?);
            }
            Ok(())
        })?;
        Ok(all)
    }

    /// The first record, or nothing when there is none.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn first(self) -> Result<Option<Stored<T>>, Error> {
        self.only_first().run(Select::rows::<T>, |_, rows| rows.next()?.map(stored).transpose())
    }

    /// How many records there are.
    ///
    /// # Errors
    /// When the file cannot be read, or a condition's value has no stored form.
    pub fn count(self) -> Result<u64, Error> {
        progress::tell(|| format!("counting records of {}", T::TABLE), 0, None);
        self.run(Select::count::<T>, |_, rows| Ok(rows.next()?.map_or(0, |row| row.integer(0).unsigned_abs())))
    }

    /// Whether there is any record.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn any(self) -> Result<bool, Error> {
        Ok(self.only_first().count()? > 0)
    }

    /// Runs the statement that `text` makes of the selection, and `work` with its rows.
    pub(crate) fn run<R>(
        self,
        text: impl FnOnce(Select) -> Fragment,
        work: impl FnOnce(Scope<'_>, &mut Rows<'_>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        let Records { at, select, after, .. } = self;
        at.reading(|scope| {
            let select = scope.doing(reading::<T>, || begun::<T, _>(scope, select, after))?;
            scope.ask::<T, R>(text(select), work)
        })
    }

    /// The statement that `text` makes of the selection.
    pub(super) fn statement(self, scope: Scope<'_>, text: impl FnOnce(Select) -> Fragment) -> Result<Fragment, Error> {
        Ok(text(begun::<T, _>(scope, self.select, self.after)?))
    }

    /// Runs `work` in one consistent state of the file, with the same selection there.
    pub(super) fn in_one_state<R>(
        self,
        work: impl FnOnce(Scope<'_>, Records<T, Scope<'_>>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        let Records { at, select, after, .. } = self;
        at.viewing(|scope| work(scope, Records { at: scope, select, after, of: PhantomData }))
    }
}

impl<T: Record + Send + Sync> Records<T> {
    /// Follows the selection: the list now, and again after each commit that changes it, with what changed; see [`Live`].
    ///
    /// Where conditions and order are about the record alone, only the records that a commit wrote are looked at, however many there are. Those
    /// about linked records make it read the selection anew.
    ///
    /// # Errors
    /// When the drawer is closed, or no thread can be started. That the file cannot be read is told as a failure.
    pub fn watch(self) -> Result<Live<List<Stored<T>>>, Error> {
        let (inner, select) = self.into_followed()?;
        LiveRows::follow(&inner, of::<T>(), select.followed::<T>(None), (ByRow::Number, None), stored::<T>, Show::LIST)
    }

    pub(crate) fn watch_one(self) -> Result<Live<Option<Arc<Stored<T>>>>, Error> {
        let (inner, select) = self.into_followed()?;
        LiveRows::follow(&inner, of::<T>(), select.followed::<T>(None), (ByRow::Number, None), stored::<T>, Show::ONE)
    }
}

impl Drawer {
    /// Follows the record with this key, which need not be there yet: nothing while it is not; see [`Live`].
    ///
    /// # Errors
    /// As [`Records::watch`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let bowl = drawer.insert(Piece { mark: "K-1".into(), grams: 300 })?;
    /// let mut bowl = drawer.watch_record(bowl.key())?;
    /// let update = bowl.next().expect("the drawer is open").expect("the file can be read");
    /// assert_eq!(update.result.map(|bowl| bowl.grams), Some(300));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn watch_record<T: Record + Send + Sync>(&self, key: Key<T>) -> Result<Live<Option<Arc<Stored<T>>>>, Error> {
        self.records::<T>().filter(|_| key_column::<T>().is(key)).watch_one()
    }

    /// Follows the record with this own key, which need not be there yet; see [`Drawer::watch_record`].
    ///
    /// # Errors
    /// As [`Records::watch`].
    pub fn watch_by_own_key<T: Keyed + Send + Sync>(
        &self,
        own_key: <T::OwnKey as ColumnType>::Arg<'_>,
    ) -> Result<Live<Option<Arc<Stored<T>>>>, Error> {
        self.records::<T>().filter(|_| own_key_column::<T>().is(own_key)).watch_one()
    }
}

impl<T: Record> Records<T> {
    /// The open drawer, and the selection as it is followed there.
    pub(super) fn into_followed(self) -> Result<(Arc<Inner>, Select), Error> {
        let Records { at, select, after, .. } = self;
        let inner = at.open()?;
        let select = match after {
            None => select,
            after => inner.reading(|scope| scope.doing(reading::<T>, || begun::<T, _>(scope, select, after)))?,
        };
        Ok((inner, select))
    }
}

impl<T: Record, A: MayWrite> Records<T, A> {
    /// Runs `work` with the selection where it may be written to.
    pub(crate) fn run_writing(
        self,
        work: impl FnOnce(Scope<'_, Writes>, Select) -> Result<u64, Error>,
    ) -> Result<u64, Error> {
        let Records { at, select, after, .. } = self;
        at.writing(|scope| work(scope, begun::<T, _>(scope, select, after)?))
    }
}

/// The selection with the condition that it begins after a record, where it does; the engine knows its orders then.
fn begun<T: Record, M: Mode>(scope: Scope<'_, M>, mut select: Select, after: Option<After>) -> Result<Select, Error> {
    scope.connection.add_collations(select.sorting.collations())?;
    let (values, key) = match after {
        None => return Ok(select),
        Some(After::Seen(seen)) => {
            let key = seen.key;
            (values_of::<T, M>(scope, &select, seen)?, key)
        }
        Some(After::Place(text)) => {
            let ListPlace { values, key } = ListPlace::of_text(&text, &select.sorting, &scope.inner.declared.structure)
                .map_err(|why| {
                    Error::bare(Cause::BadQuery, format!("{text:?} {why}"))
                        .advise("Give what `place_of` returned for the same orders, or start the list again")
                })?;
            (values, key)
        }
        Some(After::Key(key)) => {
            let statement = select.sorting.stored_values_of::<T>().bind(key);
            let values = scope.ask::<T, _>(statement, |_, rows| {
                let row = rows.next()?;
                Ok(row.map(|row| (1..row.count()).map(|at| row.value(at).to_value()).collect()))
            })?;
            let Some(values) = values else {
                let problem =
                    format!("{} does not exist any more, so no list goes on after it", Key::<T>::from_number(key));
                return Err(Error::bare(Cause::NotFound, problem).advise("Start the list again"));
            };
            (values, key)
        }
    };
    select.after::<T>(values, key);
    Ok(select)
}

/// What the orders of a selection are for a record.
fn values_of<T: Record, M: Mode>(scope: Scope<'_, M>, select: &Select, seen: Seen) -> Result<Vec<Value>, Error> {
    let Seen { key, columns } = seen;
    match select.sorting.values_among(&columns.values) {
        Some(values) if columns.misfit.is_none() => Ok(values),
        // What is computed of the columns, the engine computes.
        _ => scope.ask::<T, _>(select.sorting.values_of::<T>().bind(key).and(columns), |_, rows| {
            let row = rows.next()?;
            Ok(row.map_or_else(Vec::new, |row| (0..row.count()).map(|at| row.value(at).to_value()).collect()))
        }),
    }
}

impl Seen {
    fn of<T: Record>(record: &Stored<T>) -> Seen {
        let columns = match stored_values(&**record) {
            Ok(values) => Fragment { values, ..Fragment::default() },
            Err(misfit) => Fragment::impossible(misfit),
        };
        Seen { key: record.key().number(), columns }
    }
}
