//! The order of records.

use crate::query::collation::Collation;
use crate::query::fragment::Fragment;
use crate::query::sort_key::{SortKeys, SortTerm};
use crate::records::record::Record;
use crate::value::Value;
use crate::value::name::quoted;
use std::marker::PhantomData;

/// An order of records by one column.
#[derive(Clone)]
pub struct Order<T> {
    term: OrderTerm,
    of: PhantomData<fn() -> T>,
}

/// One term of an order.
#[derive(Clone, Debug)]
struct OrderTerm {
    what: Fragment,
    collation: Option<Collation>,
    /// The position of the record's column whose value it is, where it is that of one.
    column: Option<usize>,
    /// Whether texts are the same where only large and small letters A to Z differ.
    ignores_case: bool,
    optional: bool,
    descending: bool,
    missing_last: bool,
}

impl<T> Order<T> {
    pub(crate) fn new(what: Fragment, optional: bool) -> Order<T> {
        let term = OrderTerm {
            what,
            collation: None,
            column: None,
            ignores_case: false,
            optional,
            descending: false,
            missing_last: false,
        };
        Order { term, of: PhantomData }
    }

    pub(crate) fn by(mut self, collation: Collation) -> Order<T> {
        self.term.what = self.term.what.then(" COLLATE ").then(&quoted(&collation.name));
        self.term.collation = Some(collation);
        self
    }

    /// It is the order of the record's column at this position, where there is one.
    pub(crate) fn of_column(mut self, column: Option<usize>) -> Order<T> {
        self.term.column = column;
        self
    }

    pub(crate) fn ignoring_case(mut self, ignores_case: bool) -> Order<T> {
        self.term.ignores_case = ignores_case;
        self
    }

    /// The other way round, missing values too.
    #[must_use]
    pub fn reversed(mut self) -> Order<T> {
        self.term.descending = !self.term.descending;
        self.term.missing_last = !self.term.missing_last;
        self
    }

    /// Puts records whose value is missing before all others.
    #[must_use]
    pub fn missing_first(mut self) -> Order<T> {
        self.term.missing_last = false;
        self
    }

    /// Puts records whose value is missing after all others.
    #[must_use]
    pub fn missing_last(mut self) -> Order<T> {
        self.term.missing_last = true;
        self
    }
}

/// One order or several: a tuple, or a list made at run time, sorts by its first, among equals by its second, and so on.
pub trait Orders<T> {
    /// Hands each order to `take`, the most important first.
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Order<T>));
}

impl<T> Orders<T> for Order<T> {
    fn each(self, take: &mut dyn FnMut(Order<T>)) {
        take(self);
    }
}

impl<T> Orders<T> for Vec<Order<T>> {
    fn each(self, take: &mut dyn FnMut(Order<T>)) {
        self.into_iter().for_each(take);
    }
}

macro_rules! tuple_of_orders {
    ($($name:ident),+) => {
        impl<T, $($name: Orders<T>),+> Orders<T> for ($($name,)+) {
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

/// The orders of a selection.
///
/// Records that are equal in all of them, and all records where no order is given, come in the order in which they were
/// stored, or the other way round where the last order is descending, so that a list is the same each time it is read.
#[derive(Clone, Debug, Default)]
pub struct OrderBy {
    terms: Vec<OrderTerm>,
}

impl OrderBy {
    /// Adds an order that counts among records that are equal in those before.
    pub fn then<T>(&mut self, order: Order<T>) {
        self.terms.push(order.term);
    }

    /// Whether there is no order but the stored one.
    pub fn is_empty(&self) -> bool {
        self.terms.is_empty()
    }

    /// The collations that the engine has to be told of.
    pub fn collations(&self) -> impl Iterator<Item = &Collation> {
        self.terms.iter().filter_map(|term| term.collation.as_ref())
    }

    /// What each order sorts by.
    pub(crate) fn terms(&self) -> impl Iterator<Item = &Fragment> {
        self.terms.iter().map(|term| &term.what)
    }

    /// How the rows compare, once each has its values of the orders.
    pub fn sort_keys(&self) -> SortKeys {
        let term = |term: &OrderTerm| SortTerm {
            descending: term.descending,
            missing_last: term.missing_last,
            ignores_case: term.ignores_case,
            collation: term.collation.clone(),
        };
        SortKeys::new(self.terms.iter().map(term).collect(), self.is_descending())
    }

    /// What follows `ORDER BY`. It is ended by `last`, such as the row number, in the direction that an index on the last
    /// column serves.
    pub fn write(self, last: &str) -> Fragment {
        let is_descending = self.is_descending();
        let mut out = Fragment::default();
        for term in self.terms {
            if out.text.is_empty() {
                out = term.what;
            } else {
                out.text.push_str(", ");
                out.push(term.what);
            }
            out.text.push_str(if term.descending { " DESC" } else { "" });
            if term.missing_last != term.descending {
                out.text.push_str(if term.missing_last { " NULLS LAST" } else { " NULLS FIRST" });
            }
        }
        if last.is_empty() {
            return out;
        }
        if !out.text.is_empty() {
            out.text.push_str(", ");
        }
        out.then(last).then(if is_descending { " DESC" } else { "" })
    }

    fn is_descending(&self) -> bool {
        self.terms.last().is_some_and(|term| term.descending)
    }

    /// The value of each order for a record with these columns, where each is that of a column.
    pub fn values_among(&self, columns: &[Value]) -> Option<Vec<Value>> {
        self.terms.iter().map(|term| columns.get(term.column?).cloned()).collect()
    }

    /// The statement that makes the value of each order for a record as it was seen, without its being there any more: it
    /// binds the record's key and its columns in order, after the values of the fragment.
    pub fn values_of<T: Record>(&self) -> Fragment {
        let mut out = Fragment::text("SELECT ");
        for (at, term) in self.terms.iter().enumerate() {
            out.text.push_str(if at > 0 { ", " } else { "" });
            out.push(term.what.clone());
        }
        let names = std::iter::once(crate::value::name::KEY_COLUMN).chain(T::COLUMNS.iter().copied());
        let columns: Vec<String> = names.map(|name| format!("? AS {}", quoted(name))).collect();
        out.then(&format!(" FROM (SELECT {}) AS {}", columns.join(", "), quoted(T::TABLE)))
    }

    /// The statement that reads the values of the orders for the record with a key, which is bound.
    pub fn stored_values_of<T: Record>(&self) -> Fragment {
        let mut out = Fragment::text(format!("SELECT {}", quoted(crate::value::name::KEY_COLUMN)));
        for term in &self.terms {
            out = out.then(", ").and(term.what.clone());
        }
        out.then(&format!(" FROM {0} WHERE {0}.{1} = ?", quoted(T::TABLE), quoted(crate::value::name::KEY_COLUMN)))
    }

    /// The condition that a record comes after one whose orders have these values, and whose `last` is this.
    pub fn after(&self, last: &str, values: Vec<Value>, last_value: Value) -> Fragment {
        // All in one direction and never missing: the engine follows an index on the whole of it.
        let descending = self.is_descending();
        let plain = self.terms.iter().zip(&values).all(|(term, value)| {
            let rows_left_out = term.missing_last && term.optional;
            term.descending == descending && !rows_left_out && *value != Value::Missing
        });
        if plain {
            let mut left = Fragment::text("(");
            let mut right = Fragment::text("(");
            for (term, value) in self.terms.iter().zip(values) {
                left = left.and(term.what.clone()).then(", ");
                right = right.then("?, ").bind(value);
            }
            let sign = if descending { ") < " } else { ") > " };
            return left.then(last).then(sign).and(right.then("?)").bind(last_value));
        }
        let sign = if descending { " < ?" } else { " > ?" };
        let mut out = Fragment::text(last).then(sign).bind(last_value);
        for (term, value) in self.terms.iter().zip(values).rev() {
            let same = term.what.clone().then(" IS ?").bind(value.clone());
            out = Fragment::text("(").and(term.beyond(value)).then(" OR (").and(same).then(" AND ").and(out).then("))");
        }
        out
    }
}

impl OrderTerm {
    /// The condition that a record's value comes after this one.
    fn beyond(&self, value: Value) -> Fragment {
        match (value, self.missing_last) {
            (Value::Missing, true) => Fragment::text("FALSE"),
            (Value::Missing, false) => self.what.clone().then(" IS NOT NULL"),
            (value, missing_last) => {
                let sign = if self.descending { " < ?" } else { " > ?" };
                let beyond = self.what.clone().then(sign).bind(value);
                if !missing_last {
                    return beyond;
                }
                Fragment::text("(").and(beyond).then(" OR ").and(self.what.clone()).then(" IS NULL)")
            }
        }
    }
}
