//! Whether the device has the space that an upgrade takes.

use super::FileBefore;
use crate::error::Error;
use crate::file::space;
use std::fs;
use std::path::Path;
use velvet_core::evolve::{Operation, VersionPlan};

/// Says before anything is written that the space will not do.
///
/// A rebuilt table is written twice, to the write-ahead log and to the main file, and so is what code may write. A backup is a third
/// copy.
pub(super) fn check(path: &Path, steps: &[VersionPlan], before: FileBefore) -> Result<(), Error> {
    let size = fs::metadata(path).map_or(0, |m| m.len());
    let heavy = |o: &Operation| matches!(o, Operation::Rebuild(_) | Operation::Code(_));
    let rebuilds = steps.iter().flat_map(|s| &s.operations).filter(|o| heavy(o)).count().min(2) as u64;
    let needed = size * rebuilds * 2 + if before == FileBefore::Kept { size } else { 0 };
    space::require(path, needed, "the upgrade", "Free some space and open the drawer again")
}
