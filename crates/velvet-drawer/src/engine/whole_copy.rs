//! A complete copy of a file, also of one that is open.

use super::{Connection, Fault, Opener};
use rusqlite::backup::Backup;
use std::path::Path;
use std::time::Duration;

const WAIT: Duration = Duration::from_secs(5);

/// How many pages to copy before others get a turn.
const PAGES: i32 = 4096;

/// Copies what the file at `path` holds, what stands in the write-ahead log beside it included, to a new file at `to`. The copy is one
/// file, on the device when this returns.
pub(crate) fn copy_whole(path: &Path, to: &Path) -> Result<(), Fault> {
    copy_from(&Opener::new(path).waiting(WAIT).reader()?, to)
}

/// As [`copy_whole`], of the file behind a connection.
pub(crate) fn copy_from(source: &Connection, to: &Path) -> Result<(), Fault> {
    let mut target = Opener::new(to).waiting(WAIT).writer()?;
    Backup::new(&source.engine, &mut target.engine)?.run_to_completion(PAGES, Duration::ZERO, None)?;
    target.leave_wal()?;
    target.close()
}
