//! Who takes part in each transaction of a drawer.

use super::{Connection, Fault};
use std::time::Duration;

/// Takes part in each transaction. Participants are called in order, and in reverse order before the commit. If one fails, the transaction fails.
pub(crate) trait Participant: Send + Sync {
    /// What it does at a moment, to follow “cannot”.
    fn doing(&self, _: Moment) -> &'static str {
        "take part in a write"
    }

    /// Before a transaction, for what is kept whatever becomes of that.
    fn prepares(&self, _: &Connection) -> Result<(), Fault> {
        Ok(())
    }

    /// The transaction has begun.
    fn begins(&self, _: &Connection) -> Result<(), Fault> {
        Ok(())
    }

    /// The transaction is about to be committed.
    fn ends(&self, _: &Connection) -> Result<(), Fault> {
        Ok(())
    }

    /// The transaction is over, also by a panic.
    fn is_over(&self, _: &Course) {}
}

/// When a participant is asked.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Moment {
    Prepares,
    Begins,
    Ends,
}

/// How a transaction went.
pub(crate) struct Course {
    /// How long it waited for the lock.
    pub(crate) waited: Duration,
    pub(crate) took: Duration,
    pub(crate) is_kept: bool,
}
