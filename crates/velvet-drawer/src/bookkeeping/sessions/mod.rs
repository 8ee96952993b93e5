//! Sessions: what each start of the app did to a file, from open to close or kill.

mod recorder;

pub(crate) use recorder::{Recorder, Start};

/// How many sessions a file keeps unless said otherwise.
pub(crate) const KEPT: u32 = 200;
