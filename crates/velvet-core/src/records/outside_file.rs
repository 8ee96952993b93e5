//! The place of a file that is kept outside the drawer.

use crate::column_type::{ColumnType, Misfit, Output};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use std::fmt;
use std::path::{Component, Path, PathBuf};

/// The place of a file outside the drawer, relative to the drawer's folder of files, so that it survives when the
/// phone moves the app's sandbox. Stored as text with `/` between the parts.
///
/// ```
/// use velvet_drawer::OutsideFile;
/// let photo = OutsideFile::new("photos/bowl.jpg")?;
/// assert_eq!(photo.as_str(), "photos/bowl.jpg");
/// assert!(OutsideFile::new("../elsewhere.jpg").is_err());
/// # Ok::<(), velvet_drawer::Misfit>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct OutsideFile(String);

impl OutsideFile {
    /// The place `relative` to the folder of files.
    ///
    /// # Errors
    /// When it is empty, absolute, leaves the folder by `..`, or is not UTF-8.
    pub fn new(relative: impl AsRef<Path>) -> Result<OutsideFile, Misfit> {
        let path = relative.as_ref();
        let refuse = |why: &str| {
            Err(Misfit::new(format!("{:?}", path.display().to_string()), why)
                .advise("Give the place below the drawer's folder of files, such as `photos/bowl.jpg`"))
        };
        let mut parts = Vec::new();
        for part in path.components() {
            match part {
                Component::Normal(name) => match name.to_str() {
                    Some(name) => parts.push(name),
                    None => return refuse("is not UTF-8"),
                },
                Component::CurDir => {}
                Component::ParentDir => return refuse("leaves its folder by `..`"),
                Component::RootDir | Component::Prefix(_) => {
                    return refuse("is an absolute place, which ends to exist when the phone moves the app");
                }
            }
        }
        if parts.is_empty() {
            return refuse("names no file");
        }
        Ok(OutsideFile(parts.join("/")))
    }

    /// The place as it is stored: relative, with `/` between the parts.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The place below `folder`, as this system writes paths.
    pub fn below(&self, folder: &Path) -> PathBuf {
        self.0.split('/').fold(folder.to_owned(), |path, part| path.join(part))
    }
}

impl fmt::Display for OutsideFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl ColumnType for OutsideFile {
    type Value = OutsideFile;
    type Inner = OutsideFile;
    type Arg<'a> = &'a str;

    fn kind() -> Kind {
        Kind::File
    }

    fn store<O: Output>(value: &OutsideFile, out: O) -> Result<(), Misfit> {
        out.text(&value.0);
        Ok(())
    }

    fn store_arg<O: Output>(arg: &str, out: O) -> Result<(), Misfit> {
        Self::store(&OutsideFile::new(arg)?, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<OutsideFile, Misfit> {
        match stored {
            ValueRef::Text(text) => OutsideFile::new(text),
            other => Err(Misfit::kind(other, "the place of a file as text")),
        }
    }
}
