//! Columns whose values are sealed.

use crate::column_type::{ColumnType, Misfit, Optional, Sealed, stored_arg};
use crate::query::assignment::Assignment;
use crate::query::column::Column;
use crate::query::condition::Condition;
use crate::query::fragment::Fragment;
use crate::query::pick::{Pick, Picked};
use crate::records::record::{Record, Source};
use crate::sealing::{sealing, unsealing};

/// A column of `T` whose values are sealed (`#[record(sealed)]`). The file cannot compare, sort or search what it cannot read, so a
/// condition can only ask whether a value is missing; it is read with its record, or by `only`.
pub struct SealedColumn<T, C> {
    column: Column<T, C>,
    label: &'static str,
}

impl<T, C> Clone for SealedColumn<T, C> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, C> Copy for SealedColumn<T, C> {}

impl<T, C> SealedColumn<T, C> {
    /// The column of this table with this name, at this position, sealed under this label.
    #[doc(hidden)]
    pub const fn named(table: &'static str, name: &'static str, position: usize, label: &'static str) -> Self {
        SealedColumn { column: Column::named(table, name, position), label }
    }
}

impl<T: Record, C: ColumnType> SealedColumn<T, C> {
    /// Missing.
    pub fn is_none(self) -> Condition<T>
    where
        C: Optional,
    {
        self.column.is_none()
    }

    /// Present.
    pub fn is_some(self) -> Condition<T>
    where
        C: Optional,
    {
        self.column.is_some()
    }

    /// Gives this column the value `arg` in every record of a selection, sealed for each; see `Records::update`.
    pub fn set(self, arg: C::Arg<'_>) -> Assignment<T> {
        let seal = |plain| Fragment::text(sealing("?", self.label, &T::LAYOUT.place())).bind(plain);
        Assignment::new(self.column.name(), stored_arg::<Sealed<C>>(arg).map(seal).map_err(|m| self.here(m)), false)
    }

    /// Makes this column missing in every record of a selection; see `Records::update`.
    pub fn clear(self) -> Assignment<T>
    where
        C: Optional,
    {
        self.column.clear()
    }

    fn here(self, misfit: Misfit) -> Misfit {
        self.column.position().map_or(misfit.clone(), |position| misfit.at(position))
    }
}

impl<T: Record, C: ColumnType> Pick<T> for SealedColumn<T, C> {
    type Output = C::Value;

    fn each(self, take: &mut dyn FnMut(Picked)) {
        let what = Fragment::text(unsealing(&self.column.write().text, self.label, &T::LAYOUT.place()));
        take(Picked { what, position: self.column.position() });
    }

    fn read<S: Source>(source: &mut S, at: &mut usize) -> Result<C::Value, Misfit> {
        let here = *at;
        *at += 1;
        source.take::<Sealed<C>>(here)
    }
}

/// Hands one sealed column to `take`; the types say which one is expected.
pub fn pick_sealed_column<T: Record, C: ColumnType>(column: SealedColumn<T, C>, take: &mut dyn FnMut(Picked)) {
    column.each(take);
}
