//! Records with what they link to and what links to them, in a fixed number of statements.

use super::{Hit, Records, Search, reading, stored, unreadable};
use crate::drawer::{Access, Scope};
use crate::engine::{Row, Rows};
use crate::error::{Cause, Doing, Error};
use velvet_core::exchange::key_list;
use velvet_core::query::column::Named;
use velvet_core::records::record::stored_value_at;
use velvet_core::statement::linked;
use velvet_core::{Column, ColumnType, Computed, Key, LinkedFrom, Links, Nested, Record, Searchable, Stored, Value};

/// A selection of records, or a search, each with what belongs to it.
#[must_use = "a selection reads nothing until it is collected"]
pub struct With<S, F> {
    selection: S,
    follow: F,
}

/// What can be loaded with records: a link (`p.glaze`), dependants (`p.linked_from::<Photo>(|ph| ph.piece)`, also the first few of each, by `.limit(3)`), each of them
/// with more (`.with(…)`), a computed value, or a tuple of these. Each is one statement, however many records there are.
pub trait Follow<T> {
    /// What comes with each record.
    type Output;

    /// Loads it for each of the records, in their order.
    #[doc(hidden)]
    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<Self::Output>, Error>;
}

/// The records for which something is loaded.
pub struct Of<'a, 'r, T> {
    scope: Scope<'a>,
    records: &'r [Stored<T>],
}

impl<T> Clone for Of<'_, '_, T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for Of<'_, '_, T> {}

impl<T: Record, A: Access> Records<T, A> {
    /// Loads what belongs to each record with it, in one statement more for each kind, from the same state of the file.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Key, Record, Schema, Stored};
    /// # #[derive(Record, Clone)] struct Glaze { #[record(own_key)] name: String }
    /// # #[derive(Record)] struct Piece { mark: String, glaze: Option<Key<Glaze>> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>().record::<Glaze>())?;
    /// let celadon = drawer.insert(Glaze { name: "Celadon".into() })?;
    /// drawer.insert(Piece { mark: "K-1".into(), glaze: Some(celadon.key()) })?;
    /// drawer.insert(Piece { mark: "K-2".into(), glaze: None })?;
    ///
    /// let pieces: Vec<(Stored<Piece>, Option<Stored<Glaze>>)> = drawer.records::<Piece>().with(|p| p.glaze).collect()?;
    /// assert_eq!(pieces[0].1.as_ref().unwrap().name, "Celadon");
    /// assert!(pieces[1].1.is_none());
    ///
    /// let glazes: Vec<(Stored<Glaze>, Vec<Stored<Piece>>)> =
    ///     drawer.records::<Glaze>().with(|g| g.linked_from::<Piece>(|p| p.glaze)).collect()?;
    /// assert_eq!(glazes[0].1[0].mark, "K-1");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn with<F: Follow<T>>(self, follow: impl FnOnce(T::Columns) -> F) -> With<Self, F> {
        With { selection: self, follow: follow(T::columns()) }
    }
}

impl<T: Searchable, A: Access> Search<T, A> {
    /// Loads what belongs to each record that is found with it; see [`Records::with`].
    pub fn with<F: Follow<T>>(self, follow: impl FnOnce(T::Columns) -> F) -> With<Self, F> {
        With { selection: self, follow: follow(T::columns()) }
    }
}

impl<T: Searchable, F: Follow<T>, A: Access> With<Search<T, A>, F> {
    /// Each record that was found, and what belongs to it.
    ///
    /// # Errors
    /// As [`Search::collect`], and as where it is loaded with a selection.
    pub fn collect(self) -> Result<Vec<(Hit<T>, F::Output)>, Error> {
        let With { selection, follow } = self;
        selection.in_one_state(|scope, search| {
            let (records, marked): (Vec<_>, Vec<_>) = search.collect()?.into_iter().map(Hit::into_parts).unzip();
            let more = follow.load(Of { scope, records: &records })?;
            let hits = records.into_iter().zip(marked).map(Hit::from_parts);
            Ok(hits.zip(more).collect())
        })
    }

    /// The best of them and what belongs to it, or nothing when there is none.
    ///
    /// # Errors
    /// As for all of them.
    pub fn first(mut self) -> Result<Option<(Hit<T>, F::Output)>, Error> {
        self.selection = self.selection.only_first();
        Ok(self.collect()?.pop())
    }
}

impl<T: Record, F: Follow<T>, A: Access> With<Records<T, A>, F> {
    /// Each record and what belongs to it.
    ///
    /// # Errors
    /// As [`Records::collect`], and when a link leads nowhere ([`Error::is_broken_link`]), which another program may have
    /// brought about.
    pub fn collect(self) -> Result<Vec<(Stored<T>, F::Output)>, Error> {
        let With { selection, follow } = self;
        selection.in_one_state(|scope, records| {
            let records: Vec<Stored<T>> = records.collect()?;
            let more = follow.load(Of { scope, records: &records })?;
            Ok(records.into_iter().zip(more).collect())
        })
    }

    /// The first record and what belongs to it, or nothing when there is none.
    ///
    /// # Errors
    /// As [`With::collect`].
    pub fn first(mut self) -> Result<Option<(Stored<T>, F::Output)>, Error> {
        self.selection = self.selection.only_first();
        Ok(self.collect()?.pop())
    }
}

/// A link's column type, as what comes with a record: `Stored<U>` for a `Key<U>`, an `Option` of it for an optional one.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` is not a link",
    note = "links are fields of type `Key<…>` and `Option<Key<…>>`; a value of a column comes with the record as it is"
)]
pub trait LinkedTo: Links {
    /// What comes with a record.
    type Output;

    /// What comes, of what was found.
    #[doc(hidden)]
    fn output(found: Option<Stored<Self::To>>) -> Option<Self::Output>;
}

impl<U: Record> LinkedTo for Key<U> {
    type Output = Stored<U>;

    fn output(found: Option<Stored<U>>) -> Option<Stored<U>> {
        found
    }
}

impl<U: Record> LinkedTo for Option<Key<U>> {
    type Output = Option<Stored<U>>;

    fn output(found: Option<Stored<U>>) -> Option<Option<Stored<U>>> {
        Some(found)
    }
}

impl<T: Record, C: LinkedTo> Follow<T> for Column<T, C, Named> {
    type Output = C::Output;

    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<C::Output>, Error> {
        let links = links(of, self.position())?;
        let found = linked_records::<T, C::To>(of, &links)?;
        Ok(found.into_iter().filter_map(C::output).collect())
    }
}

/// The same for what is loaded with the linked records: a link that is there, or nothing.
impl<T: Record, C: NestedLink<F>, F: Follow<C::To>> Follow<T> for Nested<Column<T, C, Named>, F> {
    type Output = C::Output;

    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<C::Output>, Error> {
        let links = links(of, self.link.position())?;
        let found = linked_records::<T, C::To>(of, &links)?;
        let is_there: Vec<bool> = found.iter().map(Option::is_some).collect();
        let records: Vec<Stored<C::To>> = found.into_iter().flatten().collect();
        let more = self.more.load(Of { scope: of.scope, records: &records })?;
        let mut pairs = records.into_iter().zip(more);
        Ok(is_there.into_iter().filter_map(|there| C::output(if there { pairs.next() } else { None })).collect())
    }
}

/// A link's column type, as what comes with a record when more comes with that.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` is not a link",
    note = "links are fields of type `Key<…>` and `Option<Key<…>>`; a value of a column comes with the record as it is"
)]
pub trait NestedLink<F: Follow<Self::To>>: Links {
    /// What comes with a record.
    type Output;

    /// What comes, of what was found.
    #[doc(hidden)]
    fn output(found: Option<(Stored<Self::To>, F::Output)>) -> Option<Self::Output>;
}

impl<U: Record, F: Follow<U>> NestedLink<F> for Key<U> {
    type Output = (Stored<U>, F::Output);

    fn output(found: Option<Self::Output>) -> Option<Self::Output> {
        found
    }
}

impl<U: Record, F: Follow<U>> NestedLink<F> for Option<Key<U>> {
    type Output = Option<(Stored<U>, F::Output)>;

    fn output(found: Option<(Stored<U>, F::Output)>) -> Option<Self::Output> {
        Some(found)
    }
}

impl<T: Record, D: Record, const LIMITED: bool> Follow<T> for LinkedFrom<T, D, LIMITED> {
    type Output = Vec<Stored<D>>;

    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<Vec<Stored<D>>>, Error> {
        let mut all: Vec<Vec<Stored<D>>> = of.records.iter().map(|_| Vec::new()).collect();
        dependants(of, self, |place, record| {
            if let Some(list) = all.get_mut(place) {
                list.push(record);
            }
        })?;
        Ok(all)
    }
}

impl<T: Record, D: Record, F: Follow<D>, const LIMITED: bool> Follow<T> for Nested<LinkedFrom<T, D, LIMITED>, F> {
    type Output = Vec<(Stored<D>, F::Output)>;

    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<Self::Output>, Error> {
        let (mut places, mut records) = (Vec::new(), Vec::new());
        dependants(of, self.link, |place, record| {
            places.push(place);
            records.push(record);
        })?;
        let more = self.more.load(Of { scope: of.scope, records: &records })?;
        let mut all: Vec<Self::Output> = of.records.iter().map(|_| Vec::new()).collect();
        for (place, pair) in places.into_iter().zip(records.into_iter().zip(more)) {
            if let Some(list) = all.get_mut(place) {
                list.push(pair);
            }
        }
        Ok(all)
    }
}

impl<T: Record, C: ColumnType> Follow<T> for Column<T, C, Computed> {
    type Output = C::Value;

    fn load(self, of: Of<'_, '_, T>) -> Result<Vec<C::Value>, Error> {
        let mut all: Vec<Option<C::Value>> = of.records.iter().map(|_| None).collect();
        let statement =
            linked::values_by_keys::<T>(self.write(), key_list(of.records.iter().map(|r| Some(r.key().number()))));
        of.scope.ask::<T, ()>(statement, |_, rows| {
            each(rows, 1, |place, row| {
                let value = C::load(row.value(0))
                    .map_err(unreadable::<T>)
                    .doing(|| format!("cannot read what is computed of {}", T::TABLE))?;
                if let Some(there) = all.get_mut(place) {
                    *there = Some(value);
                }
                Ok(())
            })
        })?;
        // All are read from one state, so each record is still there.
        Ok(all.into_iter().flatten().collect())
    }
}

macro_rules! tuple_of_follows {
    ($($name:ident),+) => {
        impl<T, $($name: Follow<T>),+> Follow<T> for ($($name,)+) {
            type Output = ($($name::Output,)+);

            #[allow(non_snake_case)]
            fn load(self, of: Of<'_, '_, T>) -> Result<Vec<Self::Output>, Error> {
                let ($($name,)+) = self;
                $(let mut $name = $name.load(of)?.into_iter();)+
                let mut all = Vec::with_capacity(of.records.len());
                while let ($(Some($name),)+) = ($($name.next(),)+) {
                    all.push(($($name,)+));
                }
                Ok(all)
            }
        }
    };
}

tuple_of_follows!(A, B);
tuple_of_follows!(A, B, C);
tuple_of_follows!(A, B, C, D);

/// The row number that each record has in one of its columns.
fn links<T: Record>(of: Of<'_, '_, T>, position: Option<usize>) -> Result<Vec<Option<i64>>, Error> {
    of.scope.doing(reading::<T>, || {
        let position = position.unwrap_or(usize::MAX);
        let link = |record: &Stored<T>| match stored_value_at(&**record, position) {
            Ok(Value::Integer(number)) => Ok(Some(number)),
            Ok(_) => Ok(None),
            Err(misfit) => Err(Error::misfit(Cause::Misfit, T::TABLE, T::COLUMNS, misfit)),
        };
        of.records.iter().map(link).collect()
    })
}

/// The record that each of the links leads to.
fn linked_records<T: Record, U: Record>(
    of: Of<'_, '_, T>,
    links: &[Option<i64>],
) -> Result<Vec<Option<Stored<U>>>, Error> {
    let mut all: Vec<Option<Stored<U>>> = links.iter().map(|_| None).collect();
    of.scope.ask::<U, ()>(linked::by_keys::<U>(key_list(links.iter().copied())), |_, rows| {
        each(rows, U::COLUMNS.len() + 1, |place, row| {
            let record = stored(row)?;
            if let Some(there) = all.get_mut(place) {
                *there = Some(record);
            }
            Ok(())
        })
    })?;
    for ((link, found), record) in links.iter().zip(&all).zip(of.records) {
        if let (Some(number), None) = (link, found) {
            let to = Key::<U>::from_number(*number);
            let problem = format!("cannot read what {} links to: {to} does not exist", record.key());
            return Err(of.scope.inner.place.name(
                Error::new(Cause::BrokenLink, problem)
                    .advise("Another program removed it without regard to links; clear the link, or insert it again")
                    .in_table(T::TABLE, None),
            ));
        }
    }
    Ok(all)
}

/// Hands each record that links to one of these to `take`, with the place of that one.
fn dependants<T: Record, D: Record, const LIMITED: bool>(
    of: Of<'_, '_, T>,
    from: LinkedFrom<T, D, LIMITED>,
    mut take: impl FnMut(usize, Stored<D>),
) -> Result<(), Error> {
    let (link, condition, sorting, limit) = from.into_parts();
    of.scope.doing(reading::<D>, || Ok(of.scope.connection.add_collations(sorting.collations())?))?;
    let keys = key_list(of.records.iter().map(|r| Some(r.key().number())));
    of.scope.ask::<D, ()>(linked::by_links::<D>(link, condition, sorting, limit, keys), |_, rows| {
        each(rows, D::COLUMNS.len() + 1, |place, row| {
            take(place, stored(row)?);
            Ok(())
        })
    })
}

/// Hands each row to `take`, with the place in the list that stands in its column `at`.
fn each(
    rows: &mut Rows<'_>,
    at: usize,
    mut take: impl FnMut(usize, Row<'_, '_>) -> Result<(), Error>,
) -> Result<(), Error> {
    rows.each(|row| take(usize::try_from(row.integer(at)).unwrap_or(usize::MAX), row))
}
