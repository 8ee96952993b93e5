//! Seeing that a search index is right, and making it anew.

use crate::drawer::Drawer;
use crate::error::{Cause, Error};
use crate::searching;
use velvet_core::Searchable;
use velvet_core::structure::Table;

impl Drawer {
    /// Whether the search index of these records says what is in them. Nothing that writes to the file makes it wrong, but for a program
    /// that writes to the index itself; [`Drawer::remake_search_index`] makes it right.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn search_index_is_sound<T: Searchable>(&self) -> Result<bool, Error> {
        let doing = format!("cannot check the search index of {}", T::TABLE);
        let table = self.declared_table::<T>(&doing)?;
        self.reading(|connection| {
            searching::is_sound(connection, table).map_err(|fault| self.inner.fault(&doing, fault))
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
        let doing = format!("cannot make the search index of {} anew", T::TABLE);
        self.declared_table::<T>(&doing)?;
        self.write(|tx| {
            searching::remake(tx.connection(), &self.inner.declared.structure, T::TABLE)
                .map_err(|fault| self.inner.fault(&doing, fault))
        })
    }

    fn declared_table<T: Searchable>(&self, doing: &str) -> Result<&Table, Error> {
        self.inner.declared.structure.table(T::TABLE).ok_or_else(|| {
            let error = Error::new(Cause::Schema, format!("{doing}: it is not in the schema"));
            self.inner.place.name(error.advise("Add its record to the schema with `.record::<…>()`"))
        })
    }
}
