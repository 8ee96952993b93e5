//! Ending statements in the middle.

use super::{Connection, Fault};
use crate::cancel::Cancel;
use std::sync::{Arc, Mutex, PoisonError};

/// After how many of the engine's steps to look whether work is to end: so few that it ends at once, so many that it costs nothing.
const BETWEEN_LOOKS: i32 = 10_000;

/// What may ask the statements of a connection to end.
#[derive(Clone, Default)]
pub(super) struct Asking(Arc<Mutex<Option<Cancel>>>);

impl Asking {
    fn set(&self, cancel: Option<Cancel>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = cancel;
    }

    fn is_asked(&self) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).as_ref().is_some_and(Cancel::is_cancelled)
    }
}

impl Connection {
    /// Lets the statements of this connection end where they are asked to.
    pub(super) fn look_whether_to_end(&mut self) -> Result<(), Fault> {
        let asking = self.asking.clone();
        Ok(self.engine.progress_handler(BETWEEN_LOOKS, Some(move || asking.is_asked()))?)
    }

    /// Runs `work`, whose statements end, also in the middle, once `cancel` asks them to. One that writes takes its whole transaction with it.
    pub(crate) fn until_cancelled<R>(&self, cancel: &Cancel, work: impl FnOnce() -> R) -> R {
        self.asking.set(Some(cancel.clone()));
        let _until_it_ends = Uninterrupted(&self.asking);
        work()
    }
}

/// Lets statements run to their end again, also when the work panics.
struct Uninterrupted<'c>(&'c Asking);

impl Drop for Uninterrupted<'_> {
    fn drop(&mut self) {
        self.0.set(None);
    }
}
