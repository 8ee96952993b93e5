//! A readable table of a selection, in one call.

use super::Records;
use crate::drawer::Access;
use crate::error::Error;
use crate::query::grid::Grid;
use velvet_core::Record;
use velvet_core::exchange::show;
use velvet_core::schema::structure::Kind;
use velvet_core::statement::Select;
use velvet_core::value::name;

impl<T: Record, A: Access> Records<T, A> {
    /// The records as a readable table of text, key first; print it, or log it.
    ///
    /// Stored values are shown as they are, also those that could not be read as their field's type.
    ///
    /// # Errors
    /// When the file cannot be read, or a condition's value has no stored form.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: Option<u32> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// drawer.insert(Piece { mark: "K-1".into(), grams: Some(640) })?;
    /// drawer.insert(Piece { mark: "K-2".into(), grams: None })?;
    /// assert_eq!(
    ///     drawer.records::<Piece>().table()?.to_string(),
    ///     concat!(
    ///         "key  mark  grams\n",
    ///         "────────────────\n",
    ///         "  1  K-1     640\n",
    ///         "  2  K-2       –\n",
    ///     ),
    /// );
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn table(self) -> Result<Grid, Error> {
        let kinds: Vec<Kind> = T::table().map(|t| t.columns.into_iter().map(|c| c.kind).collect()).unwrap_or_default();
        let mut grid = Grid::new(std::iter::once(name::KEY_COLUMN).chain(T::COLUMNS.iter().copied()));
        self.run(Select::rows::<T>, |_, rows| {
            rows.each(|row| {
                let kind = |at: usize| at.checked_sub(1).and_then(|at| kinds.get(at));
                grid.row((0..=T::COLUMNS.len()).map(|at| show::shown(row.value(at), kind(at))).collect());
                Ok::<_, Error>(())
            })
        })?;
        Ok(grid)
    }
}
