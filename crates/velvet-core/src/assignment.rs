//! New values for the columns of a whole selection.

use crate::column_type::Misfit;
use crate::value::Value;
use std::marker::PhantomData;

/// A new value for one column, made with the column's `set` or `clear`.
pub struct Assignment<T> {
    column: &'static str,
    value: Result<Value, Misfit>,
    of: PhantomData<fn() -> T>,
}

impl<T> Assignment<T> {
    pub(crate) fn new(column: &'static str, value: Result<Value, Misfit>) -> Assignment<T> {
        Assignment { column, value, of: PhantomData }
    }
}

/// One assignment or several: a tuple sets each of its columns.
pub trait Assignments<T> {
    /// Hands each column and its value to `take`.
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(&'static str, Result<Value, Misfit>));
}

impl<T> Assignments<T> for Assignment<T> {
    fn each(self, take: &mut dyn FnMut(&'static str, Result<Value, Misfit>)) {
        take(self.column, self.value);
    }
}

macro_rules! tuple_of_assignments {
    ($($name:ident),+) => {
        impl<T, $($name: Assignments<T>),+> Assignments<T> for ($($name,)+) {
            #[allow(non_snake_case)]
            fn each(self, take: &mut dyn FnMut(&'static str, Result<Value, Misfit>)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }
        }
    };
}

tuple_of_assignments!(A, B);
tuple_of_assignments!(A, B, C);
tuple_of_assignments!(A, B, C, D);
