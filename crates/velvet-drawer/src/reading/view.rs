//! One consistent state of the drawer.

use super::{Open, Reads, Records};
use crate::drawer::Drawer;
use crate::engine::{Connection, Statement, Transaction};
use crate::error::Error;
use crate::searching;
use std::any::TypeId;
use std::cell::RefCell;
use velvet_core::{ColumnType, Key, Keyed, Record, Stored, ValueRef};

/// One consistent state of the drawer: what others write meanwhile is not seen.
///
/// It holds the statements that read by key, so that many reads through one view are the shortest way to a record.
pub struct View<'a> {
    open: Open<'a>,
    /// The statement that gets a record by its key, for each type that was asked for.
    gets: RefCell<Vec<(TypeId, Statement<'a>)>>,
}

impl Drawer {
    /// Reads from one consistent state, while others may write.
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
    pub fn read<R>(&self, work: impl FnOnce(&View<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.reading(|connection| {
            let open = Open { connection, inner: &self.inner };
            let _state = self.state(connection)?;
            self.busy_here(|| work(&View { open, gets: RefCell::default() }))
        })
    }
}

impl Drawer {
    /// Begins to read from one state of the file, in which the search index was told of what other programs wrote.
    fn state<'c>(&self, connection: &'c Connection) -> Result<Transaction<'c>, Error> {
        let fault = |fault| self.inner.fault("cannot begin to read", fault);
        for _ in 0..ATTEMPTS {
            let state = connection.snapshot().map_err(fault)?;
            if !self.inner.is_searched || !searching::is_behind(connection).map_err(fault)? {
                return Ok(state);
            }
            drop(state);
            self.tell_the_search_index()?;
        }
        connection.snapshot().map_err(fault)
    }

    /// Tells the search index of what other programs wrote. Reading does not wait for writing: where somebody writes just now, what
    /// the index was not told of is not found yet.
    pub(super) fn tell_the_search_index(&self) -> Result<(), Error> {
        let Some(writer) = self.inner.pool().idle_writer() else { return Ok(()) };
        searching::catch_up_at_once(&writer, &self.inner.declared.structure, self.inner.pool().wait())
            .map_err(|fault| self.inner.fault("cannot tell the search index of what was written", fault))
    }
}

/// How often the search index is told of what other programs wrote, when they write all the time.
const ATTEMPTS: usize = 3;

impl<'a> View<'a> {
    pub(crate) fn open(&self) -> Open<'a> {
        self.open
    }

    /// The record with this key, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get<T: Record>(&self, key: Key<T>) -> Result<Option<Stored<T>>, Error> {
        let doing = || format!("cannot read {key}");
        let mut gets = self.gets.borrow_mut();
        let held = match gets.iter().position(|(of, _)| *of == TypeId::of::<T>()) {
            Some(held) => held,
            None => {
                let statement = self.open.connection.prepare(&T::statements().get).map_err(self.open.fault(doing))?;
                gets.push((TypeId::of::<T>(), statement));
                gets.len() - 1
            }
        };
        self.open.one_of(&mut gets[held].1, ValueRef::Integer(key.number()), doing)
    }

    /// The record whose own key is this, or nothing when it is not there.
    ///
    /// # Errors
    /// As [`Drawer::get`].
    pub fn get_by<T: Keyed>(
        &self,
        own_key: <T::NaturalKey as ColumnType>::Arg<'_>,
    ) -> Result<Option<Stored<T>>, Error> {
        self.open.get_by(own_key)
    }

    /// The records of type `T`, to be filtered, sorted and collected.
    pub fn records<T: Record>(&self) -> Records<'_, T, Reads> {
        self.open.viewed()
    }

    /// How many records of type `T` there are.
    ///
    /// # Errors
    /// As [`Drawer::count`].
    pub fn count<T: Record>(&self) -> Result<u64, Error> {
        self.records::<T>().count()
    }
}
