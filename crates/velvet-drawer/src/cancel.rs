//! Asking work to stop.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Asks work to stop, from another thread or from a handler of signals. What is stopped leaves all as it was, and fails with
/// [`Error::is_cancelled`](crate::Error::is_cancelled). Clones ask the same.
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Asks it to stop, for good.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it was asked to stop.
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
