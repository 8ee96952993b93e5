//! One consistent state of the drawer.

use super::Records;
use super::by_key::found_by;
use crate::drawer::{Access, Drawer, Reads, Scope};
use crate::engine::Statement;
use crate::error::Error;
use crate::live::{Live, LiveValue};
use std::any::TypeId;
use std::cell::RefCell;
use std::panic::Location;
use velvet_core::{ColumnType, Key, Keyed, Record, Stored};

/// One consistent state of the drawer: what others write meanwhile is not seen.
///
/// It holds the statements that read by key, so that many reads through one view are the shortest way to a record.
pub struct View<'a> {
    scope: Scope<'a, Reads>,
    /// The statement that gets a record by its key, for each type that was asked for.
    gets: RefCell<Vec<(TypeId, Statement<'a>)>>,
}

impl Drawer {
    /// Reads from one consistent state, while others may write. What they write stays in the write-ahead log until this has ended, so
    /// do not hold it for long: [`Drawer::space`] says how large the log is, and which reads are open.
    ///
    /// # Errors
    /// When the file cannot be read, and what `work` returns.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let (all, first) = drawer.read(|view| {
    ///     Ok((view.count::<Glaze>()?, view.records::<Glaze>().first()?))
    /// })?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "snapshot")]
    #[doc(alias = "transaction")]
    #[track_caller]
    pub fn read<R>(&self, work: impl FnOnce(&View<'_>) -> Result<R, Error>) -> Result<R, Error> {
        let _open = self.alone().held_open(Location::caller())?;
        self.inner.viewing(|scope| work(&View { scope, gets: RefCell::default() }))
    }
}

impl Drawer {
    /// Follows whatever `ask` reads: how many records there are, sums, groups, one record or several, plain SQL. It is read now, and again after
    /// each commit to a table that it was read from; where that gives the same, nothing is told.
    ///
    /// What `ask` captures must not be a handle of this drawer, which would never be closed then; and it should only read, because closing the drawer waits
    /// until it has returned. For lists of records, [`Records::watch`] does less
    /// work and says what changed.
    ///
    /// # Errors
    /// When no thread can be started for it. What `ask` returns is told as a failure, and it is tried again.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { clay: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let mut by_clay = drawer.watch(|view| view.records::<Piece>().group_by(|p| p.clay).count())?;
    /// # assert!(by_clay.next().unwrap().unwrap().result.is_empty());
    /// drawer.insert(Piece { clay: "grey".into(), grams: 300 })?;
    /// let update = by_clay.next().expect("the drawer is open").expect("the file can be read");
    /// assert_eq!(update.result, [("grey".to_owned(), 1)]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn watch<R: Clone + PartialEq + Send + Sync + 'static>(
        &self,
        mut ask: impl FnMut(&View<'_>) -> Result<R, Error> + Send + 'static,
    ) -> Result<Live<R>, Error> {
        LiveValue::follow(&self.inner, move |scope| ask(&View { scope, gets: RefCell::default() }))
    }
}

impl<'a> View<'a> {
    pub(crate) fn scope(&self) -> Scope<'a> {
        self.scope
    }

    /// The record with this key, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        self.scope.doing(
            || format!("cannot read {key}"),
            || {
                let mut gets = self.gets.borrow_mut();
                let held = match gets.iter().position(|(of, _)| *of == TypeId::of::<T>()) {
                    Some(held) => held,
                    None => {
                        gets.push((TypeId::of::<T>(), self.scope.connection.prepare(&T::statements().get)?));
                        gets.len() - 1
                    }
                };
                found_by(&mut gets[held].1, key.number().into())
            },
        )
    }

    /// The record whose own key is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get_by_own_key<T: Keyed>(
        &self,
        own_key: <T::OwnKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.scope.get_by_own_key(own_key)
    }

    /// The records of type `T`, to be filtered, sorted and collected.
    pub fn records<T: Record>(&self) -> Records<T, Scope<'_>> {
        Records::at(self.scope)
    }

    /// How many records of type `T` there are.
    ///
    /// # Errors
    /// As [`Drawer::count`].
    pub fn count<T: Record>(&self) -> Result<u64, Error> {
        self.records::<T>().count()
    }
}
