//! Values that the engine computes of a record's columns.

use super::{Column, Term};
use crate::query::fragment::Fragment;
use std::marker::PhantomData;

/// A value that is computed of columns: used in conditions, orders and `only` as a column is.
#[derive(Clone)]
pub struct Computed {
    expression: Fragment,
    ignores_case: bool,
}

impl Term for Computed {
    fn write(self) -> Fragment {
        self.expression
    }

    fn position(&self) -> Option<usize> {
        None
    }

    fn ignores_case(&self) -> bool {
        self.ignores_case
    }
}

impl<T, C> Column<T, C, Computed> {
    /// The value of an expression.
    pub(crate) fn computed(expression: Fragment) -> Column<T, C, Computed> {
        Column { term: Computed { expression, ignores_case: false }, of: PhantomData }
    }

    /// The value of an expression that has the texts of another column, whose way to compare them the engine does not take over.
    pub(crate) fn taking_over(expression: Fragment, ignores_case: bool) -> Column<T, C, Computed> {
        let expression = if ignores_case { expression.then(" COLLATE NOCASE") } else { expression };
        Column { term: Computed { expression, ignores_case }, of: PhantomData }
    }
}
