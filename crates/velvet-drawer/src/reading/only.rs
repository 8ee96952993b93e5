//! Some columns of a selection, single values made of a column, and counts by groups.

use super::Records;
use crate::engine::{Cells, Row};
use crate::error::{Cause, Error};
use crate::reading::Open;
use std::marker::PhantomData;
use velvet_core::statement::Select;
use velvet_core::{Column, ColumnType, Misfit, Ordered, Pick, Record, Summed, ValueRef};

/// Some columns of a selection.
#[must_use = "a selection reads nothing until it is collected"]
pub struct Only<'a, T, P> {
    records: Records<'a, T>,
    columns: Vec<String>,
    distinct: bool,
    of: PhantomData<fn() -> P>,
}

/// A selection in groups of records with the same values.
#[must_use = "a selection reads nothing until it is counted"]
pub struct Groups<'a, T, P> {
    records: Records<'a, T>,
    columns: Vec<String>,
    of: PhantomData<fn() -> P>,
}

fn names<T, P: Pick<T>>(pick: &P) -> Vec<String> {
    let mut names = Vec::new();
    pick.each(&mut |name| names.push(name));
    names
}

impl<'a, T: Record> Records<'a, T> {
    /// Reads only these columns: one, or a tuple of them.
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
    pub fn only<P: Pick<T>>(self, pick: impl FnOnce(T::Columns) -> P) -> Only<'a, T, P> {
        let columns = names(&pick(T::columns()));
        Only { records: self, columns, distinct: false, of: PhantomData }
    }

    /// Puts records with the same values of these columns in groups.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, clay: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for (n, clay) in ["grey", "white", "grey"].into_iter().enumerate() {
    /// #     drawer.insert(Piece { mark: n.to_string(), clay: clay.into() })?;
    /// # }
    /// let by_clay: Vec<(String, u64)> = drawer.records::<Piece>().group_by(|p| p.clay).count()?;
    /// assert_eq!(by_clay, [("grey".to_owned(), 2), ("white".to_owned(), 1)]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn group_by<P: Pick<T>>(self, pick: impl FnOnce(T::Columns) -> P) -> Groups<'a, T, P> {
        let columns = names(&pick(T::columns()));
        Groups { records: self, columns, of: PhantomData }
    }

    /// The sum of a column; missing values do not count, and the sum of nothing is 0.
    ///
    /// # Errors
    /// When the sum is larger than the file's largest whole number, and as [`Records::count`].
    pub fn sum<C: Summed>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C>,
    ) -> Result<<C::Sum as ColumnType>::Value, Error> {
        self.fold::<C, C::Sum>("sum", column(T::columns()))
    }

    /// The mean of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn average<C: Summed>(self, column: impl FnOnce(T::Columns) -> Column<T, C>) -> Result<Option<f64>, Error> {
        self.fold::<C, Option<f64>>("avg", column(T::columns()))
    }

    /// The smallest value of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn min<C: Ordered>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C>,
    ) -> Result<Option<<C::Inner as ColumnType>::Value>, Error> {
        self.fold::<C, Option<C::Inner>>("min", column(T::columns()))
    }

    /// The largest value of a column; nothing when no record has a value there.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn max<C: Ordered>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C>,
    ) -> Result<Option<<C::Inner as ColumnType>::Value>, Error> {
        self.fold::<C, Option<C::Inner>>("max", column(T::columns()))
    }

    fn fold<C: ColumnType, Out: ColumnType>(self, function: &str, column: Column<T, C>) -> Result<Out::Value, Error> {
        let name = column.text();
        self.run(
            |select| select.folded::<T>(function, &name),
            |open, rows| {
                let row = rows.next().map_err(open.fault(|| format!("cannot make the {function} of {name}")))?;
                let value = row.as_ref().map_or(ValueRef::Missing, |row| row.value(0));
                let read = Out::load(value).or_else(|misfit| match value {
                    // A sum of decimals that is nothing comes as a whole number; every other misfit stays one.
                    ValueRef::Integer(0) => Out::load(ValueRef::Real(0.0)).map_err(|_| misfit),
                    _ => Err(misfit),
                });
                read.map_err(|misfit| unreadable::<T>(open, std::slice::from_ref(&name), misfit))
            },
        )
    }
}

impl<T: Record, P: Pick<T>> Only<'_, T, P> {
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
        let mut all = Out::default();
        records.run(
            |select: Select| select.columns::<T>(&columns, distinct),
            |open, rows| {
                while let Some(row) =
                    rows.next().map_err(open.fault(|| format!("cannot read columns of {}", T::TABLE)))?
                {
                    all.extend([read::<T, P>(open, row, &columns)?]);
                }
                Ok(())
            },
        )?;
        Ok(all)
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

impl<T: Record, P: Pick<T>> Groups<'_, T, P> {
    /// How many records each group has, in the order of the values. A `limit` or `offset` counts groups.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn count(self) -> Result<Vec<(P::Output, u64)>, Error> {
        let Groups { records, columns, .. } = self;
        records.run(
            |select: Select| select.counted_by::<T>(&columns),
            |open, rows| {
                let mut all = Vec::new();
                while let Some(row) =
                    rows.next().map_err(open.fault(|| format!("cannot group records of {}", T::TABLE)))?
                {
                    let count = row.integer(columns.len()).unsigned_abs();
                    all.push((read::<T, P>(open, row, &columns)?, count));
                }
                Ok(all)
            },
        )
    }
}

fn read<T: Record, P: Pick<T>>(open: Open<'_>, row: Row<'_, '_>, columns: &[String]) -> Result<P::Output, Error> {
    P::read(&mut Cells(row), &mut 0).map_err(|misfit| unreadable::<T>(open, columns, misfit))
}

#[cold]
fn unreadable<T: Record>(open: Open<'_>, columns: &[String], misfit: Misfit) -> Error {
    let name =
        misfit.column.and_then(|at| columns.get(at)).map_or("", |text| text.rsplit('"').nth(1).unwrap_or_default());
    let misfit =
        T::COLUMNS.iter().position(|c| *c == name).map_or(misfit.clone(), |at| Misfit { column: Some(at), ..misfit });
    let doing = format!("cannot read columns of {}", T::TABLE);
    open.inner.place.name(Error::misfit(Cause::Unreadable, &doing, T::TABLE, T::COLUMNS, misfit))
}
