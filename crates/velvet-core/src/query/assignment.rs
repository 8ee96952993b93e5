//! New values for the columns of a whole selection.

use crate::column_type::Misfit;
use crate::query::fragment::Fragment;
use std::marker::PhantomData;

/// A new value for one column, made with the column's `set`, `clear`, `increase`, `decrease` or `append`.
pub struct Assignment<T> {
    new: Result<New, Misfit>,
    of: PhantomData<fn() -> T>,
}

/// What a column gets.
pub struct New {
    /// The column.
    pub column: &'static str,
    /// Its new value, as an expression over the row as it was.
    pub value: Fragment,
    /// Whether that follows from what is stored, so that it may be none of the column's type.
    pub is_computed: bool,
}

impl<T> Assignment<T> {
    pub(crate) fn new(column: &'static str, value: Result<Fragment, Misfit>, is_computed: bool) -> Assignment<T> {
        Assignment { new: value.map(|value| New { column, value, is_computed }), of: PhantomData }
    }
}

/// One assignment or several: a tuple sets each of its columns.
#[diagnostic::on_unimplemented(
    message = "`{Self}` gives no column of `{T}` a new value",
    label = "not an assignment",
    note = "write `|p| p.grams.set(640)`, or a tuple of several such; `=` assigns nothing here"
)]
pub trait Assignments<T> {
    /// Hands each column and its value to `take`.
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Result<New, Misfit>));
}

impl<T> Assignments<T> for Assignment<T> {
    fn each(self, take: &mut dyn FnMut(Result<New, Misfit>)) {
        take(self.new);
    }
}

macro_rules! tuple_of_assignments {
    ($($name:ident),+) => {
        impl<T, $($name: Assignments<T>),+> Assignments<T> for ($($name,)+) {
            #[allow(non_snake_case)]
            fn each(self, take: &mut dyn FnMut(Result<New, Misfit>)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }
        }
    };
}

tuple_of_assignments!(A, B);
tuple_of_assignments!(A, B, C);
tuple_of_assignments!(A, B, C, D);
