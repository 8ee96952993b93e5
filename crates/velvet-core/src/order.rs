//! The order of records.

use std::marker::PhantomData;

/// An order of records by one column.
pub struct Order<T> {
    column: String,
    descending: bool,
    missing: &'static str,
    of: PhantomData<fn() -> T>,
}

impl<T> Order<T> {
    pub(crate) fn new(column: String, descending: bool) -> Order<T> {
        Order { column, descending, missing: "", of: PhantomData }
    }

    /// Puts records whose value is missing before all others.
    #[must_use]
    pub fn missing_first(mut self) -> Order<T> {
        self.missing = " NULLS FIRST";
        self
    }

    /// Puts records whose value is missing after all others.
    #[must_use]
    pub fn missing_last(mut self) -> Order<T> {
        self.missing = " NULLS LAST";
        self
    }
}

/// One order or several: a tuple sorts by its first, among equals by its second, and so on.
pub trait Ordering<T> {
    /// Hands each order to `take`, the most important first.
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Order<T>));
}

impl<T> Ordering<T> for Order<T> {
    fn each(self, take: &mut dyn FnMut(Order<T>)) {
        take(self);
    }
}

macro_rules! tuple_of_orders {
    ($($name:ident),+) => {
        impl<T, $($name: Ordering<T>),+> Ordering<T> for ($($name,)+) {
            #[allow(non_snake_case)]
            fn each(self, take: &mut dyn FnMut(Order<T>)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }
        }
    };
}

tuple_of_orders!(A, B);
tuple_of_orders!(A, B, C);
tuple_of_orders!(A, B, C, D);

/// The orders of a selection, as the text after `ORDER BY`.
///
/// Records that are equal in all of them, and all records where no order is given, come in the order in which they were
/// stored, so that a list is the same each time it is read.
#[derive(Clone, Debug, Default)]
pub struct Sorting {
    text: String,
    descending: bool,
}

impl Sorting {
    /// Adds an order that counts among records that are equal in those before.
    pub fn then<T>(&mut self, order: Order<T>) {
        let direction = if order.descending { " DESC" } else { "" };
        self.text.push_str(&format!("{}{direction}{}, ", order.column, order.missing));
        self.descending = order.descending;
    }

    /// The text after `ORDER BY` without the row number; empty where no order is given.
    pub fn text_alone(&self) -> &str {
        self.text.trim_end_matches(", ")
    }

    /// The text after `ORDER BY`, ended by the row number, in the direction that an index on the last column serves.
    pub fn text(&self, key: &str) -> String {
        let direction = if self.descending { " DESC" } else { "" };
        format!("{}{key}{direction}", self.text)
    }
}
