//! Giving back the unused space of a file.

use crate::error::Error;
use crate::writing::{Space, compact_file};
use std::path::Path;

/// Gives the unused space of the file at `path` back to the device, also of one that no app of ours made, and says how much space it took
/// before and takes now. An app may have it open; it goes on as it did.
///
/// # Errors
/// When it is not there or no database, another program holds it for too long, or the device has too little room. It is as it was then.
pub fn compact(path: impl AsRef<Path>) -> Result<(Space, Space), Error> {
    compact_file(path.as_ref())
}
