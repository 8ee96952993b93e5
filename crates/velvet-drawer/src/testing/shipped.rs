//! The file that ships with the app opens.

use crate::drawer::Drawer;
use crate::schema::Schema;
use std::path::Path;

/// Opens a copy of a file that is shipped with the app, and sees that it fits.
///
/// # Panics
/// When it is missing, or does not open with `schema`, with the reason.
#[track_caller]
pub fn shipped_file_fits(schema: &Schema, path: impl AsRef<Path>) {
    let path = path.as_ref();
    let fits = std::fs::read(path)
        .map_err(|e| format!("it cannot be read: {e}"))
        .and_then(|bytes| Drawer::from_bytes(&bytes, schema.clone()).map_err(|e| e.to_string()));
    if let Err(why) = fits {
        panic!("\n\nThe shipped file {} does not fit: {why}\n", path.display());
    }
}
