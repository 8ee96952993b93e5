//! A selection in groups of records with the same values.

use super::only::{picked, read};
use super::{Explained, Records, of};
use crate::drawer::{Access, Alone};
use crate::engine::Row;
use crate::error::Error;
use crate::live::{ByRow, Live, LiveRows, Show};
use std::marker::PhantomData;
use velvet_core::live::List;
use velvet_core::query::order::OrderBy;
use velvet_core::statement::{Followed, Select};
use velvet_core::{Condition, Group, Orders, Pick, Picked, Record};

/// A selection in groups of records with the same values.
///
/// What was said of the selection before is about its records; conditions, order and range after it are about the groups.
#[must_use = "a selection reads nothing until it is collected"]
pub struct Groups<T, P, A = Alone> {
    records: Records<T, A>,
    columns: Vec<Picked>,
    groups: Select,
    of: PhantomData<fn() -> P>,
}

impl<T: Record, A: Access> Records<T, A> {
    /// Puts records with the same values of these columns in groups.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, clay: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for (n, clay) in ["grey", "white", "grey"].into_iter().enumerate() {
    /// #     drawer.insert(Piece { mark: n.to_string(), clay: clay.into(), grams: 400 })?;
    /// # }
    /// let by_clay: Vec<(String, u64)> = drawer.records::<Piece>().group_by(|p| p.clay).count()?;
    /// assert_eq!(by_clay, [("grey".to_owned(), 2), ("white".to_owned(), 1)]);
    ///
    /// let heavy = drawer
    ///     .records::<Piece>()
    ///     .group_by(|p| p.clay)
    ///     .filter(|g| g.count().at_least(2))
    ///     .sort_by(|g| g.sum(|p| p.grams).descending())
    ///     .collect(|g| (g.sum(|p| p.grams), g.max(|p| p.mark)))?;
    /// assert_eq!(heavy, [("grey".to_owned(), (800, Some("2".to_owned())))]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn group_by<P: Pick<T>>(self, pick: impl FnOnce(T::Columns) -> P) -> Groups<T, P, A> {
        Groups { records: self, columns: picked(pick(T::columns())), groups: Select::default(), of: PhantomData }
    }
}

impl<T: Record, P: Pick<T>, A: Access> Groups<T, P, A> {
    /// Keeps the groups that satisfy the condition. Several filters must all be satisfied.
    pub fn filter(mut self, condition: impl FnOnce(Group<T>) -> Condition<Group<T>>) -> Self {
        self.groups.and(condition(Group::default()).into_fragment());
        self
    }

    /// Sorts the groups. Groups that are equal in that, and all groups where no order is given, come in the order of their
    /// values.
    pub fn sort_by<O: Orders<Group<T>>>(mut self, order: impl FnOnce(Group<T>) -> O) -> Self {
        order(Group::default()).each(&mut |order| self.groups.sorting.then(order));
        self
    }

    /// At most this many groups.
    pub fn limit(mut self, count: u64) -> Self {
        self.groups.limit = Some(count);
        self
    }

    /// Leaves out this many groups at the start.
    pub fn offset(mut self, count: u64) -> Self {
        self.groups.offset = count;
        self
    }

    /// Each group's values, and how many records it has.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn count(self) -> Result<Vec<(P::Output, u64)>, Error> {
        self.collect(|group| group.count())
    }

    /// Says how the groups would be made and counted, without running it.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn explain(self) -> Result<Explained, Error> {
        let Groups { records, columns, groups, .. } = self;
        let made = picked(Group::<T>::default().count());
        records.explain_as(|select| select.groups::<T>(columns, made, groups))
    }

    /// Each group's values, and what is made of its records: a count, a sum, an extreme, or a tuple of these.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn collect<Q: Pick<Group<T>>>(
        self,
        make: impl FnOnce(Group<T>) -> Q,
    ) -> Result<Vec<(P::Output, Q::Output)>, Error> {
        let Groups { records, columns, groups, .. } = self;
        let made = picked(make(Group::default()));
        let positions: Vec<Option<usize>> = columns.iter().map(|c| c.position).collect();
        let count = columns.len();
        records.run(
            |select: Select| select.groups::<T>(columns, made, groups),
            |_, rows| {
                let mut all = Vec::new();
                rows.each(|row| {
                    let values = read::<T, T, P>(row, 0, &positions)?;
                    all.push((values, read::<T, Group<T>, Q>(row, count, &[])?));
                    Ok::<_, Error>(())
                })?;
                Ok(all)
            },
        )
    }
}

impl<T: Record, P: Pick<T>> Groups<T, P> {
    /// Follows the groups: the list now, and again after each commit that changes it; see [`Live`].
    ///
    /// # Errors
    /// As [`Records::watch`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { clay: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # drawer.insert(Piece { clay: "grey".into(), grams: 300 })?;
    /// let mut by_clay = drawer.records::<Piece>().group_by(|p| p.clay).watch(|g| (g.count(), g.sum(|p| p.grams)))?;
    /// let update = by_clay.next().expect("the drawer is open").expect("the file can be read");
    /// assert_eq!(update.result[0], ("grey".to_owned(), (1, 300)));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn watch<Q: Pick<Group<T>> + 'static>(
        self,
        make: impl FnOnce(Group<T>) -> Q,
    ) -> Result<Live<List<(P::Output, Q::Output)>>, Error>
    where
        P: 'static,
        P::Output: Send + Sync + 'static,
        Q::Output: Send + Sync + 'static,
    {
        let Groups { records, columns, groups, .. } = self;
        let made = picked(make(Group::default()));
        let positions: Vec<Option<usize>> = columns.iter().map(|c| c.position).collect();
        let (count, all) = (columns.len(), columns.len() + made.len());
        let (inner, select) = records.into_followed()?;
        let orders = [&select.sorting, &groups.sorting];
        let collations = orders.into_iter().flat_map(OrderBy::collations).cloned().collect();
        let whole = Followed::whole(select.groups::<T>(columns, made, groups), all, collations);
        let read = move |row: Row<'_, '_>| {
            Ok((read::<T, T, P>(row, 0, &positions)?, read::<T, Group<T>, Q>(row, count, &[])?))
        };
        LiveRows::follow(&inner, of::<T>(), whole, (ByRow::Values(count), None), read, Show::LIST)
    }
}
