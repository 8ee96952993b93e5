//! The device: files beside others, processes, temporary files, the clock.

pub(crate) mod clock;
pub(crate) mod companions;
pub(crate) mod running;
pub(crate) mod temporary;
pub(crate) mod unfinished;
