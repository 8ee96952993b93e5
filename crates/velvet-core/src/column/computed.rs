//! Values that the engine computes of a record's columns.

use super::{Column, Term};
use crate::fragment::Fragment;
use std::marker::PhantomData;

/// A value that is computed of columns: used in conditions, orders and `only` as a column is.
#[derive(Clone)]
pub struct Computed(Fragment);

impl Term for Computed {
    fn write(self) -> Fragment {
        self.0
    }

    fn position(&self) -> Option<usize> {
        None
    }
}

impl<T, C> Column<T, C, Computed> {
    /// The value of an expression.
    pub(crate) fn computed(expression: Fragment) -> Column<T, C, Computed> {
        Column { term: Computed(expression), of: PhantomData }
    }
}
