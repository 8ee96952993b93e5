//! Whether the device has the space that something takes.

use crate::error::{Cause, Error};
use std::path::Path;

/// Says before anything is written that the space beside a file will not do. Where the system does not say how much there is, the
/// work goes on, and is undone if it must be.
pub(crate) fn require(path: &Path, needed: u64, what: &str, advice: &str) -> Result<(), Error> {
    let free = match path.parent().map(fs4::available_space) {
        Some(Ok(free)) => free,
        _ => return Ok(()),
    };
    if needed <= free {
        return Ok(());
    }
    let problem = format!("{what} may need {} MB, but the device has {} MB left", megabytes(needed), megabytes(free));
    Err(Error::new(Cause::NoSpace, problem).advise(advice))
}

fn megabytes(bytes: u64) -> u64 {
    bytes.div_ceil(1_000_000)
}
