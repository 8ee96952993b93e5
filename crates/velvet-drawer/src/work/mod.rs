//! Work that takes a while: how far it has come, asking it to stop, what it comes to, and the thread that must not wait for it.

pub(crate) mod cancel;
pub(crate) mod outcome;
pub(crate) mod progress;
pub mod ui_thread;
