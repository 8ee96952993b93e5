//! A complete copy of a file that is looked into.

use super::file::File;
use crate::engine::copy_from;
use crate::error::Error;
use crate::file::new_file;
use crate::opening::copying::blank_private;
use crate::sealing::note_copied_keys;
use std::path::Path;

impl File {
    /// Copies all that the file holds, what stands beside it included, to a new file at `path`: complete and of one moment, also
    /// while an app writes. With `without_private`, nothing of what is declared private is in the copy
    /// ([`crate::Drawer::copy_without_private_to`]).
    ///
    /// # Errors
    /// When there is a file at `path` already ([`Error::is_already_there`]), the file cannot be read, or the copy cannot be written.
    /// Nothing is left then.
    pub fn copy_to(&self, path: impl AsRef<Path>, without_private: bool) -> Result<(), Error> {
        let doing = "cannot copy the file";
        new_file::make_new(path.as_ref(), doing, |unfinished| {
            self.read(doing, |c| Ok(copy_from(c, unfinished)?))?;
            note_copied_keys(unfinished)?;
            match self.declared().filter(|_| without_private) {
                Some(structure) => Ok(blank_private(unfinished, structure)?),
                None => Ok(()),
            }
        })
    }

    /// The columns that are declared private, each as table and column.
    pub fn private_columns(&self) -> Vec<(String, String)> {
        let tables = self.declared().map_or(&[][..], |s| &s.tables);
        let private = tables.iter().flat_map(|t| t.columns.iter().filter(|c| c.private).map(move |c| (t, c)));
        private.map(|(table, column)| (table.name.clone(), column.name.clone())).collect()
    }
}
