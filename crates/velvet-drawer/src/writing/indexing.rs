//! Telling the search index of many writes at once, and seeing that it is right.
//!
//! The index writes to the file at the end of each statement. So where a loop writes many records, its triggers pause, and it is
//! told of all of them in one statement.

use crate::drawer::Drawer;
use crate::engine::{Fault, FaultKind};
use crate::error::Error;
use crate::reading::Open;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::statement::{self, PAUSE_SEARCH, RESUME_SEARCH};
use velvet_core::{Record, Searchable, ValueRef};

impl Drawer {
    /// Whether the search index of these records says what is in them. A program that replaces rows without telling it can
    /// make it wrong; [`Drawer::remake_search_index`] makes it right.
    ///
    /// # Errors
    /// When the file cannot be read or is locked.
    pub fn search_index_is_sound<T: Searchable>(&self) -> Result<bool, Error> {
        let doing = || format!("cannot check the search index of {}", T::TABLE);
        self.writing(|connection| match connection.run(&statement::check_search(T::TABLE)) {
            Ok(()) => Ok(true),
            Err(Fault { kind: FaultKind::Damaged, .. }) => Ok(false),
            Err(fault) => Err(self.inner.fault(&doing(), fault)),
        })
    }

    /// Makes the search index of these records anew.
    ///
    /// # Errors
    /// When the file cannot be written.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(searchable)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// if !drawer.search_index_is_sound::<Glaze>()? {
    ///     drawer.remake_search_index::<Glaze>()?;
    /// }
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn remake_search_index<T: Searchable>(&self) -> Result<(), Error> {
        let doing = || format!("cannot make the search index of {} anew", T::TABLE);
        self.write(|tx| {
            tx.connection().run(&statement::remake_search(T::TABLE)).map_err(|f| self.inner.fault(&doing(), f))
        })
    }
}

impl Open<'_> {
    /// Runs `insert`, which inserts many records of `T`, and tells their search index of all of them at its end, also when it
    /// fails in the middle: what was inserted before may be kept.
    pub(super) fn indexed_together<T: Record, R>(self, insert: impl FnOnce() -> Result<R, Error>) -> Result<R, Error> {
        if T::SEARCHABLE.is_empty() {
            return insert();
        }
        let engine = |fault| self.inner.fault(&format!("cannot tell the search index of {}", T::TABLE), fault);
        let last = format!("SELECT coalesce(max({}), 0) FROM {}", quoted(KEY_COLUMN), quoted(T::TABLE));
        let last = self.connection.number(&last).map_err(engine)?;
        self.connection.execute(PAUSE_SEARCH).map_err(engine)?;
        let result = insert();
        let learn = statement::learn_above(T::TABLE, T::SEARCHABLE);
        let told = self.tell(&learn, ValueRef::Integer(last));
        self.connection.execute(RESUME_SEARCH).map_err(engine)?;
        told.map_err(engine)?;
        result
    }

    /// Runs `update`, which changes the records with these keys and no others, and tells the search index before and after.
    pub(super) fn reindexed_together<T: Record, R>(
        self,
        keys: &str,
        update: impl FnOnce() -> Result<R, Error>,
    ) -> Result<R, Error> {
        if T::SEARCHABLE.is_empty() {
            return update();
        }
        let engine = |fault| self.inner.fault(&format!("cannot tell the search index of {}", T::TABLE), fault);
        let (forget, learn) =
            (statement::forget_keys(T::TABLE, T::SEARCHABLE), statement::learn_keys(T::TABLE, T::SEARCHABLE));
        self.tell(&forget, ValueRef::Text(keys)).map_err(engine)?;
        self.connection.execute(PAUSE_SEARCH).map_err(engine)?;
        let result = update();
        let told = self.tell(&learn, ValueRef::Text(keys));
        self.connection.execute(RESUME_SEARCH).map_err(engine)?;
        told.map_err(engine)?;
        result
    }

    fn tell(self, text: &str, argument: ValueRef<'_>) -> Result<(), Fault> {
        let mut statement = self.connection.prepare(text)?;
        statement.bind(1, argument)?;
        statement.execute().map(drop)
    }
}
