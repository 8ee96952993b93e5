//! Some columns of a record, read without the rest.

use crate::column_type::{ColumnType, Misfit};
use crate::query::column::{Column, Term};
use crate::query::fragment::Fragment;
use crate::records::record::Source;

/// A column that is read.
pub struct Picked {
    /// Its text in a statement, and the values bound there.
    pub what: Fragment,
    /// Its position among the record's columns, where it is one of them.
    pub position: Option<usize>,
}

/// One column, or a tuple of columns, that is read without the rest of the record.
pub trait Pick<T> {
    /// What is read: the column's value, or a tuple of values.
    type Output;

    /// Hands each column to `take`, in order.
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Picked));

    /// Reads the values from `source`, from the column at `at` on, which is counted up.
    ///
    /// # Errors
    /// When a stored value is not one of its column's type.
    #[doc(hidden)]
    fn read<S: Source>(source: &mut S, at: &mut usize) -> Result<Self::Output, Misfit>;
}

impl<T, C: ColumnType, E: Term> Pick<T> for Column<T, C, E> {
    type Output = C::Value;

    fn each(self, take: &mut dyn FnMut(Picked)) {
        let position = self.position();
        take(Picked { what: self.write(), position });
    }

    fn read<S: Source>(source: &mut S, at: &mut usize) -> Result<C::Value, Misfit> {
        let here = *at;
        *at += 1;
        source.take::<C>(here)
    }
}

/// Hands one column to `take`; the types say which one is expected.
pub fn pick_column<T, C: ColumnType>(column: Column<T, C>, take: &mut dyn FnMut(Picked)) {
    column.each(take);
}

macro_rules! tuple_of_picks {
    ($($name:ident),+) => {
        impl<T, $($name: Pick<T>),+> Pick<T> for ($($name,)+) {
            type Output = ($($name::Output,)+);

            #[allow(non_snake_case)]
            fn each(self, take: &mut dyn FnMut(Picked)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }

            fn read<S: Source>(source: &mut S, at: &mut usize) -> Result<Self::Output, Misfit> {
                Ok(($($name::read(source, at)?,)+))
            }
        }
    };
}

tuple_of_picks!(A);
tuple_of_picks!(A, B);
tuple_of_picks!(A, B, C);
tuple_of_picks!(A, B, C, D);
tuple_of_picks!(A, B, C, D, E);
tuple_of_picks!(A, B, C, D, E, F);
tuple_of_picks!(A, B, C, D, E, F, G);
tuple_of_picks!(A, B, C, D, E, F, G, H);
