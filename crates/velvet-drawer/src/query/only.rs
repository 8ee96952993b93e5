//! Some columns of a selection, and single values made of a column.

use super::{Explained, Records, of, reading, unreadable};
use crate::drawer::{Access, Alone};
use crate::engine::{Row, WithoutKey};
use crate::error::{Cause, Error};
use crate::live::{ByRow, Live, LiveRows, Show};
use std::marker::PhantomData;
use velvet_core::live::List;
use velvet_core::query::excerpt::PickOf;
use velvet_core::statement::{Followed, Select};
use velvet_core::{
    Column, ColumnType, Comparable, Computed, ExcerptOf, Group, Misfit, Pick, Picked, Record, Summed, Term,
};

/// Some columns of a selection.
#[must_use = "a selection reads nothing until it is collected"]
pub struct Only<T, P, A = Alone> {
    records: Records<T, A>,
    columns: Vec<Picked>,
    distinct: bool,
    of: PhantomData<fn() -> P>,
}

/// The columns of a pick, in order.
pub(super) fn picked<T, P: Pick<T>>(pick: P) -> Vec<Picked> {
    let mut columns = Vec::new();
    pick.each(&mut |column| columns.push(column));
    columns
}

impl<T: Record, A: Access> Records<T, A> {
    /// Reads only these columns: one, or a tuple of them. Columns of linked records and what is computed of columns may be
    /// among them.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: Option<u32> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// drawer.insert(Piece { mark: "K-1".into(), grams: Some(640) })?;
    /// let weights: Vec<(String, Option<u32>)> = drawer.records::<Piece>().only(|p| (p.mark, p.grams)).collect()?;
    /// assert_eq!(weights, [("K-1".to_owned(), Some(640))]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn only<P: Pick<T>>(self, pick: impl FnOnce(T::Columns) -> P) -> Only<T, P, A> {
        Only { records: self, columns: picked(pick(T::columns())), distinct: false, of: PhantomData }
    }

    /// Reads only the columns of an excerpt, as that type. The compiler sees that each of its fields is one of the record's, with
    /// the same name and type.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Excerpt, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: Option<u32>, remarks: String }
    /// #[derive(Excerpt)]
    /// #[excerpt(of = Piece)]
    /// struct Line {
    ///     mark: String,
    ///     grams: Option<u32>,
    /// }
    ///
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # drawer.insert(Piece { mark: "K-1".into(), grams: Some(640), remarks: String::new() })?;
    /// let lines: Vec<Line> = drawer.records::<Piece>().sort_by(|p| p.mark.ascending()).only_as().collect()?;
    /// assert_eq!(lines[0].mark, "K-1");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn only_as<X: ExcerptOf<T>>(self) -> Only<T, PickOf<X>, A> {
        self.only(|_| PickOf::default())
    }

    /// The sum of a column; missing values do not count, and the sum of nothing is 0.
    ///
    /// # Errors
    /// When the sum is larger than the file's largest whole number, and as [`Records::count`].
    pub fn sum<C: Summed, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Result<<C::Sum as ColumnType>::Value, Error> {
        self.make(|all| all.sum(column))
    }

    /// The mean of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn average<C: Summed, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Result<Option<f64>, Error> {
        self.make(|all| all.average(column))
    }

    /// The smallest value of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn min<C: Comparable, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Result<Option<<C::Inner as ColumnType>::Value>, Error> {
        self.make(|all| all.min(column))
    }

    /// The largest value of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn max<C: Comparable, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
    ) -> Result<Option<<C::Inner as ColumnType>::Value>, Error> {
        self.make(|all| all.max(column))
    }

    fn make<C: ColumnType>(
        self,
        make: impl FnOnce(Group<T>) -> Column<Group<T>, C, Computed>,
    ) -> Result<C::Value, Error> {
        let what = make(Group::default()).write();
        self.run(
            |select: Select| select.made::<T>(what),
            |_, rows| match rows.next()? {
                Some(row) => C::load(row.value(0)).map_err(|misfit| unreadable_columns::<T>(&[], misfit)),
                None => Err(Error::new(Cause::Engine, format!("{}: nothing came back", reading::<T>()))),
            },
        )
    }
}

impl<T: Record, P: Pick<T>, A: Access> Only<T, P, A> {
    /// Each combination of values once.
    pub fn distinct(mut self) -> Self {
        self.distinct = true;
        self
    }

    /// The values as a list.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn collect(self) -> Result<Vec<P::Output>, Error> {
        self.collect_into()
    }

    /// The values as any collection: a list, a set, a map from pairs.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn collect_into<Out: Default + Extend<P::Output>>(self) -> Result<Out, Error> {
        let Only { records, columns, distinct, .. } = self;
        let positions: Vec<Option<usize>> = columns.iter().map(|c| c.position).collect();
        let mut all = Out::default();
        records.run(
            |select: Select| select.columns::<T>(columns, distinct),
            |_, rows| {
                rows.each(|row| {
                    all.extend([read::<T, T, P>(row, 0, &positions)?]);
                    Ok::<_, Error>(())
                })
            },
        )?;
        Ok(all)
    }

    /// How many there are: with [`Only::distinct`], of values that differ.
    ///
    /// # Errors
    /// As [`Records::count`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { clay: String, grams: Option<u32> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for clay in ["grey", "white", "grey"] { drawer.insert(Piece { clay: clay.into(), grams: None })?; }
    /// assert_eq!(drawer.records::<Piece>().only(|p| p.clay).distinct().count()?, 2);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn count(self) -> Result<u64, Error> {
        let Only { records, columns, distinct, .. } = self;
        records.run(
            |select: Select| select.columns::<T>(columns, distinct).counted(),
            |_, rows| Ok(rows.next()?.map_or(0, |row| row.integer(0).unsigned_abs())),
        )
    }

    /// Says how this would be run, without running it.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn explain(self) -> Result<Explained, Error> {
        let Only { records, columns, distinct, .. } = self;
        records.explain_as(|select| select.columns::<T>(columns, distinct))
    }

    /// The values of the first record, or nothing when there is none.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn first(mut self) -> Result<Option<P::Output>, Error> {
        self.records = self.records.only_first();
        Ok(self.collect()?.pop())
    }
}

impl<T: Record, P: Pick<T> + 'static> Only<T, P>
where
    P::Output: Send + Sync + 'static,
{
    /// Follows the values: the list now, and again after each commit that changes it; see [`Records::watch`]. With [`Only::distinct`], values are
    /// told apart by what they are, not by a record.
    ///
    /// # Errors
    /// As [`Records::watch`].
    pub fn watch(self) -> Result<Live<List<P::Output>>, Error> {
        let Only { records, columns, distinct, .. } = self;
        let (inner, select) = records.into_followed()?;
        let positions = columns.iter().map(|c| c.position);
        if distinct {
            let (positions, count) = (positions.collect::<Vec<_>>(), columns.len());
            let collations = select.sorting.collations().cloned().collect();
            let whole = Followed::whole(select.columns::<T>(columns, true), count, collations);
            let read = move |row: Row<'_, '_>| read::<T, T, P>(row, 0, &positions);
            return LiveRows::follow(&inner, of::<T>(), whole, (ByRow::Values(count), None), read, Show::LIST);
        }
        let positions: Vec<Option<usize>> = std::iter::once(None).chain(positions).collect();
        let read = move |row: Row<'_, '_>| read::<T, T, P>(row, 1, &positions);
        let followed = select.followed::<T>(Some(columns));
        LiveRows::follow(&inner, of::<T>(), followed, (ByRow::Number, None), read, Show::LIST)
    }
}

/// The values of a pick that begins at `from` in a row, of records of `T`.
#[inline]
pub(super) fn read<T: Record, S, P: Pick<S>>(
    row: Row<'_, '_>,
    from: usize,
    positions: &[Option<usize>],
) -> Result<P::Output, Error> {
    P::read(&mut WithoutKey(row), &mut { from }).map_err(|misfit| unreadable_columns::<T>(positions, misfit))
}

/// Says which column it is about, where that is one of the record's own.
#[cold]
fn unreadable_columns<T: Record>(positions: &[Option<usize>], misfit: Misfit) -> Error {
    let column = misfit.column.and_then(|at| positions.get(at)).copied().flatten();
    unreadable::<T>(Misfit { column, ..misfit }).doing(format_args!("cannot read columns of {}", T::TABLE))
}
