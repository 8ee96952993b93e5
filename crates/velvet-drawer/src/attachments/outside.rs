//! Files outside the drawer: where they are, and which are gone.

use crate::drawer::Drawer;
use crate::error::{Cause, Error};
use std::path::{Path, PathBuf};
use velvet_core::schema::structure::Kind;
use velvet_core::statement::Select;
use velvet_core::{Key, OutsideFile, Record, ValueRef};

/// A record that names a file which is not there.
#[derive(Debug, PartialEq)]
pub struct DanglingFile<T: Record> {
    /// The record.
    pub key: Key<T>,
    /// The column that names the file.
    pub column: &'static str,
    /// The place that is stored, relative to the folder of files.
    pub file: String,
}

impl Drawer {
    /// The whole path of a file outside the drawer, on this device and in this start of the app.
    ///
    /// # Errors
    /// For a drawer in memory that was not told its folder of files ([`Error::is_file_missing`]).
    pub fn path_of(&self, file: &OutsideFile) -> Result<PathBuf, Error> {
        Ok(file.below(self.files_root()?))
    }

    /// The place to store for a file at `path`, which must be below the drawer's folder of files.
    ///
    /// # Errors
    /// When it is not ([`Error::is_misfit`]).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// let drawer = Drawer::options().files_root("/data/app").in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// let photo = drawer.outside_file("/data/app/photos/bowl.jpg")?;
    /// assert_eq!(photo.as_str(), "photos/bowl.jpg");
    /// assert_eq!(drawer.path_of(&photo)?, std::path::Path::new("/data/app/photos/bowl.jpg"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn outside_file(&self, path: impl AsRef<Path>) -> Result<OutsideFile, Error> {
        let (path, root) = (path.as_ref(), self.files_root()?);
        let inside = path.strip_prefix(root).map_err(|_| {
            self.inner.place.name(
                Error::new(
                    Cause::Misfit,
                    format!("{} is not below the folder of files, {}", path.display(), root.display()),
                )
                .advise("Keep the file there, or open the drawer with Drawer::options().files_root(…)"),
            )
        })?;
        OutsideFile::new(inside).map_err(|misfit| self.inner.place.name(Error::new(Cause::Misfit, misfit.to_string())))
    }

    /// The records of type `T` that name a file which is not there.
    ///
    /// # Errors
    /// When the drawer cannot be read, or has no folder of files.
    pub fn dangling_files<T: Record>(&self) -> Result<Vec<DanglingFile<T>>, Error> {
        let root = self.files_root()?;
        let kinds = T::table().map(|t| t.columns).unwrap_or_default();
        let files: Vec<usize> = (0..kinds.len()).filter(|at| kinds[*at].kind == Kind::File).collect();
        let mut dangling = Vec::new();
        self.records::<T>().run(Select::rows::<T>, |_, rows| {
            rows.each(|row| {
                for at in &files {
                    let ValueRef::Text(text) = row.column(*at) else { continue };
                    if !OutsideFile::new(text).is_ok_and(|file| file.below(root).exists()) {
                        let key = Key::from_number(row.key());
                        dangling.push(DanglingFile { key, column: T::COLUMNS[*at], file: text.to_owned() });
                    }
                }
                Ok::<_, Error>(())
            })
        })?;
        Ok(dangling)
    }

    fn files_root(&self) -> Result<&Path, Error> {
        self.inner.files_root.as_deref().ok_or_else(|| {
            self.inner.place.name(
                Error::new(Cause::FileMissing, "a drawer in memory has no folder of files")
                    .advise("Name one with Drawer::options().files_root(…)"),
            )
        })
    }
}
