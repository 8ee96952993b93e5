//! Following links in both directions: conditions on linked records, their columns, and what is made of dependants.

use super::{Column, Computed, Group, Named, Term, key_column};
use crate::column_type::ColumnType;
use crate::query::condition::Condition;
use crate::query::fragment::Fragment;
use crate::query::order::{OrderBy, Orders};
use crate::records::key::Key;
use crate::records::record::Record;
use crate::value::name::quoted;
use std::marker::PhantomData;

/// A column type that is a link: the key of another record, or nothing.
#[diagnostic::on_unimplemented(
    message = "a column of `{Self}` is not a link",
    note = "links are fields of type `Key<…>` and `Option<Key<…>>`"
)]
pub trait Links: ColumnType {
    /// The record that it links to.
    type To: Record;
}

impl<U: Record> Links for Key<U> {
    type To = U;
}

impl<U: Record> Links for Option<Key<U>> {
    type To = U;
}

// The bounds stand on the methods, so that the compiler's message is the bound's own.
impl<T: Record, C: ColumnType> Column<T, C> {
    /// Linked to a record that satisfies a condition.
    pub fn which(self, condition: impl FnOnce(<C::To as Record>::Columns) -> Condition<C::To>) -> Condition<T>
    where
        C: Links,
    {
        let table = quoted(C::To::TABLE);
        let inner = Fragment::text(format!(" IN (SELECT {table}.\"key\" FROM {table} WHERE "));
        let condition = condition(C::To::columns()).into_fragment();
        Condition::of(self.write().and(inner).and(condition).then(")"))
    }

    /// A column of the linked record, to sort by, to be read or compared; missing where there is no link.
    pub fn its<D: ColumnType, E: Term>(
        self,
        column: impl FnOnce(<C::To as Record>::Columns) -> Column<C::To, D, E>,
    ) -> Column<T, Option<D::Inner>, Computed>
    where
        C: Links,
    {
        let wanted = column(C::To::columns());
        let ignores_case = wanted.term.ignores_case();
        let reached = reach::<T, C::To>(wanted.write(), self.write(), key_column::<C::To>().write()).then(")");
        Column::taking_over(reached, ignores_case)
    }

    /// The link, and what is linked with the record there: `p.glaze.with(|g| g.maker)`.
    pub fn with<F>(self, more: impl FnOnce(<C::To as Record>::Columns) -> F) -> Nested<Column<T, C>, F>
    where
        C: Links,
    {
        Nested { link: self, more: more(C::To::columns()) }
    }
}

/// Something that is loaded with records, and what is loaded with that in turn.
pub struct Nested<L, F> {
    /// What is loaded.
    #[doc(hidden)]
    pub link: L,
    /// What is loaded with it.
    #[doc(hidden)]
    pub more: F,
}

/// A closure that names the link of `D` to `T`: `|photo| photo.piece`.
pub trait LinkOf<D: Record, T>: FnOnce(D::Columns) -> <Self as LinkOf<D, T>>::Link {
    /// What the closure returns: a column that is a link.
    type Link;

    /// The column.
    #[doc(hidden)]
    fn column(self) -> Named;
}

impl<D: Record, T: Record, C: Links<To = T>, F: FnOnce(D::Columns) -> Column<D, C>> LinkOf<D, T> for F {
    type Link = Column<D, C>;

    fn column(self) -> Named {
        self(D::columns()).term
    }
}

/// The records of `D` that link to a `T`: its dependants. All of them, unless filtered, or `LIMITED` to the first ones.
pub struct LinkedFrom<T, D, const LIMITED: bool = false> {
    link: Named,
    condition: Option<Condition<D>>,
    sorting: OrderBy,
    limit: Option<u64>,
    of: PhantomData<fn() -> T>,
}

impl<T: Record, D: Record> LinkedFrom<T, D> {
    /// All that link by a column.
    #[doc(hidden)]
    pub fn by(link: impl LinkOf<D, T>) -> LinkedFrom<T, D> {
        LinkedFrom { link: link.column(), condition: None, sorting: OrderBy::default(), limit: None, of: PhantomData }
    }

    /// Loads at most so many for each record, the first in their order: `.sort_by(|p| p.taken_at.descending()).limit(3)`.
    #[must_use]
    pub fn limit(self, at_most: u64) -> LinkedFrom<T, D, true> {
        let LinkedFrom { link, condition, sorting, .. } = self;
        LinkedFrom { link, condition, sorting, limit: Some(at_most), of: PhantomData }
    }

    /// Whether there is any.
    pub fn any(self) -> Condition<T> {
        Condition::of(Fragment::text("EXISTS ").and(self.reached(Fragment::text("1"))))
    }

    /// How many there are.
    pub fn count(self) -> Column<T, u64, Computed> {
        self.make(|all| all.count())
    }

    /// What is made of all of them: `.make(|all| all.sum(|p| p.grams))`.
    pub fn make<C: ColumnType>(
        self,
        make: impl FnOnce(Group<D>) -> Column<Group<D>, C, Computed>,
    ) -> Column<T, C, Computed> {
        Column::computed(self.reached(make(Group::default()).write()))
    }

    fn reached(self, wanted: Fragment) -> Fragment {
        let reached = reach::<T, D>(wanted, key_column::<T>().write(), self.link.write());
        match self.condition {
            Some(condition) => reached.then(" AND ").and(condition.into_fragment()).then(")"),
            None => reached.then(")"),
        }
    }
}

impl<T: Record, D: Record, const LIMITED: bool> LinkedFrom<T, D, LIMITED> {
    /// Keeps those that satisfy the condition. Several filters must all be satisfied.
    #[must_use]
    pub fn filter(mut self, condition: impl FnOnce(D::Columns) -> Condition<D>) -> Self {
        let condition = condition(D::columns());
        self.condition = Some(match self.condition {
            Some(before) => before & condition,
            None => condition,
        });
        self
    }

    /// Sorts them, where they are loaded; another call adds an order that counts among equals.
    #[must_use]
    pub fn sort_by<O: Orders<D>>(mut self, order: impl FnOnce(D::Columns) -> O) -> Self {
        order(D::columns()).each(&mut |order| self.sorting.then(order));
        self
    }

    /// The dependants, and what is linked with each of them.
    pub fn with<F>(self, more: impl FnOnce(D::Columns) -> F) -> Nested<Self, F> {
        Nested { link: self, more: more(D::columns()) }
    }

    /// The column that links, the condition, the order, and how many there may be for each record.
    #[doc(hidden)]
    pub fn into_parts(self) -> (Fragment, Option<Fragment>, OrderBy, Option<u64>) {
        (self.link.write(), self.condition.map(Condition::into_fragment), self.sorting, self.limit)
    }
}

/// A select in the middle of one of `T`, up to its conditions: `wanted` of the rows of `U` whose `inner` is the `outer` of the
/// row of `T`.
fn reach<T: Record, U: Record>(wanted: Fragment, outer: Fragment, inner: Fragment) -> Fragment {
    let table = quoted(U::TABLE);
    let select = Fragment::text("(SELECT ").and(wanted);
    if T::TABLE != U::TABLE {
        return select.then(&format!(" FROM {table} WHERE ")).and(inner).then(" = ").and(outer);
    }
    // Within the inner select the table's name is that of its own rows, so what the outer row has is fetched before.
    let fetched = Fragment::text(" FROM (SELECT ").and(outer).then(" AS velvet_outer)");
    select.and(fetched).then(&format!(" CROSS JOIN {table} WHERE ")).and(inner).then(" = velvet_outer")
}
