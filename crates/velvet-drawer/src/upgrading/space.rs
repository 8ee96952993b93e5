//! Whether the device has the space that an upgrade takes.

use crate::error::{Cause, Error};
use std::fs;
use std::path::Path;
use velvet_core::evolution::{Operation, Step};

/// Says before anything is written that the space will not do.
///
/// A rebuilt table is written twice, to the log and to the main file, and so is what code may write. A backup is a third
/// copy. Where the system does not say how much space there is, the upgrade goes on, and is rolled back if it must be.
pub(super) fn check(path: &Path, steps: &[Step], lossy: bool) -> Result<(), Error> {
    let size = fs::metadata(path).map_or(0, |m| m.len());
    let heavy = |o: &Operation| matches!(o, Operation::Rebuild(_) | Operation::Code(_));
    let rebuilds = steps.iter().flat_map(|s| &s.operations).filter(|o| heavy(o)).count().min(2) as u64;
    let needed = size * rebuilds * 2 + if lossy { size } else { 0 };
    let free = match path.parent().map(fs4::available_space) {
        Some(Ok(free)) => free,
        _ => return Ok(()),
    };
    if needed <= free {
        return Ok(());
    }
    Err(Error::new(
        Cause::NoSpace,
        format!("the upgrade may need {} MB, but the device has {} MB left", megabytes(needed), megabytes(free)),
    )
    .advise("Free some space and open the drawer again"))
}

fn megabytes(bytes: u64) -> u64 {
    bytes.div_ceil(1_000_000)
}
