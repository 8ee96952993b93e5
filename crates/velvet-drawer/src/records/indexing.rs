//! Seeing that a search index is right, and making it anew.

use crate::drawer::{Drawer, Mode, Scope};
use crate::error::{Cause, Error};
use crate::search;
use velvet_core::Searchable;
use velvet_core::schema::structure::Table;

impl Drawer {
    /// Whether the search index of these records says what is in them. Nothing that writes to the file makes it wrong, but for a program
    /// that writes to the index itself; [`Drawer::remake_search_index`] makes it right.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn search_index_is_sound<T: Searchable>(&self) -> Result<bool, Error> {
        self.inner.reading(|scope| {
            scope.doing(
                || format!("cannot check the search index of {}", T::TABLE),
                || Ok(search::is_sound(scope.connection, scope.declared_table::<T>()?)?),
            )
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
        self.inner.transaction(|scope| {
            scope.doing(
                || format!("cannot rebuild the full-text search index of {}", T::TABLE),
                || {
                    scope.declared_table::<T>()?;
                    Ok(search::remake(scope.connection, &self.inner.declared.structure, T::TABLE)?)
                },
            )
        })
    }
}

impl<'a, M: Mode> Scope<'a, M> {
    fn declared_table<T: Searchable>(self) -> Result<&'a Table, Error> {
        self.inner.declared.structure.table(T::TABLE).ok_or_else(|| {
            let error = Error::bare(Cause::Schema, "it is not in the schema");
            error.advise("Add its record to the schema with `.record::<…>()`")
        })
    }
}
