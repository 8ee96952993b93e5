//! Sessions: what each start of the app did to a file, from open to close or kill.

mod recorder;
mod running;

pub(crate) use recorder::{Recorder, Start};
pub(crate) use running::began as process_began;

/// How many sessions a file keeps unless said otherwise.
pub(crate) const KEPT: u32 = 200;
