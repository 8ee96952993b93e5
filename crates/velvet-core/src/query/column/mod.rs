//! A record's column, or what is computed of one, in conditions and orders.

mod computed;
mod folded;
mod inside;
mod links;
mod ordered;
mod text;

pub use computed::Computed;
pub use folded::Group;
pub use inside::{InJson, Inside, Nesting};
pub use links::{LinkOf, LinkedFrom, Links, Nested};
pub use text::{FOLD, fold};

use crate::column_type::{Choice, ColumnType, Misfit, Optional, Summed, Textual, stored_arg};
use crate::exchange::value_list;
use crate::query::assignment::Assignment;
use crate::query::condition::Condition;
use crate::query::fragment::Fragment;
use crate::query::order::Order;
use crate::records::key::Key;
use crate::records::record::{Keyed, Record};
use crate::value::Value;
use crate::value::name::{KEY_COLUMN, push_quoted};
use std::marker::PhantomData;

/// A column of `T` that holds a `C`, as a closure of `filter` or `sort_by` gets it, or a value that is computed of such
/// columns, which is used in the same way.
///
/// Every condition takes the column's own argument: a `&str` for text, a number for a number, the inner type for an
/// `Option`, so that literals just work.
pub struct Column<T, C, E = Named> {
    term: E,
    of: PhantomData<fn() -> (T, C)>,
}

impl<T, C, E: Clone> Clone for Column<T, C, E> {
    fn clone(&self) -> Self {
        Column { term: self.term.clone(), of: PhantomData }
    }
}

impl<T, C, E: Copy> Copy for Column<T, C, E> {}

/// How a column is written in a statement.
pub trait Term: Clone {
    /// Its text and values.
    #[doc(hidden)]
    fn write(self) -> Fragment;

    /// Its position among the record's columns, where it is one of them.
    #[doc(hidden)]
    fn position(&self) -> Option<usize>;

    /// Whether its texts are the same where only large and small letters A to Z differ.
    #[doc(hidden)]
    fn ignores_case(&self) -> bool;
}

/// A column that is stored.
#[derive(Clone, Copy)]
pub struct Named {
    table: &'static str,
    name: &'static str,
    position: Option<usize>,
    ignores_case: bool,
}

impl Term for Named {
    fn write(self) -> Fragment {
        let mut text = String::with_capacity(self.table.len() + self.name.len() + 32);
        push_quoted(&mut text, self.table);
        text.push('.');
        push_quoted(&mut text, self.name);
        Fragment { text, values: Vec::new(), misfit: None }
    }

    fn position(&self) -> Option<usize> {
        self.position
    }

    fn ignores_case(&self) -> bool {
        self.ignores_case
    }
}

/// The largest number of values of `one_of` that are written into the statement; more go in as one list.
const FEW: usize = 8;

impl<T, C> Column<T, C> {
    /// The column of this table with this name, at this position.
    #[doc(hidden)]
    pub const fn named(table: &'static str, name: &'static str, position: usize) -> Column<T, C> {
        Column { term: Named { table, name, position: Some(position), ignores_case: false }, of: PhantomData }
    }

    /// Its name.
    pub(crate) fn name(&self) -> &'static str {
        self.term.name
    }

    /// It, with texts that are the same where only large and small letters A to Z differ.
    #[doc(hidden)]
    #[must_use]
    pub const fn ignoring_case(mut self) -> Column<T, C> {
        self.term.ignores_case = true;
        self
    }
}

/// The column of a record's key, for conditions and orders.
pub const fn key_column<T: Record>() -> Column<T, Key<T>> {
    Column { term: Named { table: T::TABLE, name: KEY_COLUMN, position: None, ignores_case: false }, of: PhantomData }
}

/// The column of a record's own key.
pub fn own_key_column<T: Keyed>() -> Column<T, T::OwnKey> {
    let at = T::OWN_KEY_POSITION;
    let column = Column::named(T::TABLE, T::COLUMNS[at], at);
    if T::IGNORES_CASE.contains(&at) { column.ignoring_case() } else { column }
}

impl<T, C: ColumnType, E: Term> Column<T, C, E> {
    /// Its text in a statement, and the values bound there.
    #[doc(hidden)]
    pub fn write(self) -> Fragment {
        self.term.write()
    }

    /// Its position among the record's columns, where it is one of them.
    #[doc(hidden)]
    pub fn position(&self) -> Option<usize> {
        self.term.position()
    }

    fn misfit<Out>(self, misfit: Misfit) -> Condition<Out> {
        let misfit = match self.position() {
            Some(position) => misfit.at(position),
            None => misfit,
        };
        Condition::of(Fragment::impossible(misfit))
    }

    /// The condition that this column stands to `arg` as `operator` says.
    fn compare(self, operator: &str, arg: C::Arg<'_>) -> Condition<T> {
        match stored_arg::<C>(arg) {
            Ok(value) => Condition::of(self.write().then(operator).then(" ?").bind(value)),
            Err(misfit) => self.misfit(misfit),
        }
    }

    /// Equal to `arg`.
    pub fn is(self, arg: C::Arg<'_>) -> Condition<T> {
        self.compare(" =", arg)
    }

    /// Not equal to `arg`. A missing value is equal to nothing, so it is included, as `None != Some(arg)` is true in Rust; to leave it out,
    /// add `is_some()`.
    pub fn is_not(self, arg: C::Arg<'_>) -> Condition<T> {
        self.compare(if C::OPTIONAL { " IS NOT" } else { " <>" }, arg)
    }

    /// Equal to one of `args`, of which there may be thousands. Equal to none of them when there are none.
    pub fn one_of<'a>(self, args: impl IntoIterator<Item = C::Arg<'a>>) -> Condition<T> {
        let values: Result<Vec<Value>, Misfit> = args.into_iter().map(stored_arg::<C>).collect();
        match values {
            Err(misfit) => self.misfit(misfit),
            Ok(values) if values.len() <= FEW => {
                let marks = vec!["?"; values.len()].join(", ");
                let mut condition = self.write().then(&format!(" IN ({marks})"));
                condition.values.extend(values);
                Condition::of(condition)
            }
            Ok(values) => {
                let value = if matches!(values[0], Value::Bytes(_)) { "unhex(value)" } else { "value" };
                let text = format!(" IN (SELECT {value} FROM json_each(?))");
                Condition::of(self.write().then(&text).bind(value_list(&values)))
            }
        }
    }

    /// Missing.
    pub fn is_none(self) -> Condition<T>
    where
        C: Optional,
    {
        Condition::of(self.write().then(" IS NULL"))
    }

    /// Present.
    pub fn is_some(self) -> Condition<T>
    where
        C: Optional,
    {
        Condition::of(self.write().then(" IS NOT NULL"))
    }

    /// In the order of this column, smallest first.
    pub fn ascending(self) -> Order<T> {
        let (position, ignores_case) = (self.position(), self.term.ignores_case());
        Order::new(self.write(), C::OPTIONAL).of_column(position).ignoring_case(ignores_case)
    }

    /// In the order of this column, largest first.
    pub fn descending(self) -> Order<T> {
        self.ascending().reversed()
    }

    /// In an order of the app's own: records with the first of these values come first, then those with the second, and so
    /// on; all others follow.
    pub fn ranked<'a>(self, args: impl IntoIterator<Item = C::Arg<'a>>) -> Order<T> {
        let values: Result<Vec<Value>, Misfit> = args.into_iter().map(stored_arg::<C>).collect();
        match values {
            Err(misfit) => Order::new(Fragment::impossible(misfit), false),
            Ok(values) => {
                let mut rank = Fragment::text("CASE ").and(self.write());
                let count = values.len();
                for (place, value) in values.into_iter().enumerate() {
                    rank = rank.then(&format!(" WHEN ? THEN {place}")).bind(value);
                }
                let when = if count == 0 { " WHEN NULL THEN 0" } else { "" };
                Order::new(rank.then(&format!("{when} ELSE {count} END")), false)
            }
        }
    }

    /// In the order in which the variants of its choice are declared. Names that are not declared come where the fallback is, and missing
    /// values first.
    pub fn as_declared(self) -> Order<T>
    where
        C::Inner: Choice,
    {
        let names = <C::Inner as Choice>::NAMES;
        let list = serde_json::Value::from(names.to_vec()).to_string();
        // Twice the place of each name, so that a fallback without a name has a place between two.
        let other = <C::Inner as Choice>::FALLBACK_RANK.unwrap_or(2 * names.len() as u32);
        let rank = Fragment::text("CASE WHEN ")
            .and(self.clone().write())
            .then(" IS NOT NULL THEN coalesce((SELECT 2 * \"key\" + 1");
        let rank = rank.then(" FROM json_each(?) WHERE value = ").bind(list).and(self.write());
        Order::new(rank.then(&format!("), {other}) END")), true)
    }
}

impl<T, C: ColumnType> Column<T, C> {
    /// Gives this column the value `arg` in every record of a selection; see `Records::update`.
    pub fn set(self, arg: C::Arg<'_>) -> Assignment<T> {
        Assignment::new(self.term.name, self.bound::<C>(arg).map(|value| Fragment::text("?").bind(value)), false)
    }

    /// Makes this column larger by `by` in every record of a selection; what is missing stays so. See `Records::update`.
    ///
    /// Each record is compared with all others when it is written. In a unique column, numbers that follow each other are therefore in each other's way: make room
    /// first, with one update to numbers that no record has and a second one to those that are meant.
    pub fn increase(self, by: <C::Inner as ColumnType>::Arg<'_>) -> Assignment<T>
    where
        C: Summed,
    {
        self.based_on_old(" + ", by)
    }

    /// Makes this column smaller by `by` in every record of a selection; what is missing stays so. See `Records::update`, and `increase` for unique columns.
    pub fn decrease(self, by: <C::Inner as ColumnType>::Arg<'_>) -> Assignment<T>
    where
        C: Summed,
    {
        self.based_on_old(" - ", by)
    }

    /// Puts `text` behind what stands in this column in every record of a selection; what is missing stays so. See `Records::update`.
    pub fn append(self, text: &str) -> Assignment<T>
    where
        C: Textual,
        C::Inner: for<'a> ColumnType<Arg<'a> = &'a str>,
    {
        self.based_on_old(" || ", text)
    }

    fn based_on_old(self, operator: &str, by: <C::Inner as ColumnType>::Arg<'_>) -> Assignment<T> {
        let column = self.term.name;
        let value = self.bound::<C::Inner>(by).map(|by| self.write().then(&format!("{operator}?")).bind(by));
        Assignment::new(column, value, true)
    }

    fn bound<A: ColumnType>(&self, arg: A::Arg<'_>) -> Result<Value, Misfit> {
        stored_arg::<A>(arg).map_err(|misfit| match self.position() {
            Some(position) => misfit.at(position),
            None => misfit,
        })
    }

    /// Makes this column missing in every record of a selection; see `Records::update`.
    pub fn clear(self) -> Assignment<T>
    where
        C: Optional,
    {
        Assignment::new(self.term.name, Ok(Fragment::text("NULL")), false)
    }
}

impl<T, C: ColumnType<Inner = bool>, E: Term> Column<T, C, E> {
    /// True.
    pub fn is_true(self) -> Condition<T> {
        Condition::of(self.write().then(" = 1"))
    }

    /// False.
    pub fn is_false(self) -> Condition<T> {
        Condition::of(self.write().then(" = 0"))
    }
}
