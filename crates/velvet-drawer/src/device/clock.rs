//! The clock of an open drawer: the system's, or one of the app's own in its tests.

use jiff::Timestamp;
use std::fmt;
use std::sync::Arc;

/// Tells the time.
#[derive(Clone, Default)]
pub(crate) struct Clock(pub(crate) Option<Arc<dyn Fn() -> Timestamp + Send + Sync>>);

impl Clock {
    pub(crate) fn now(&self) -> Timestamp {
        self.0.as_ref().map_or_else(Timestamp::now, |now| now())
    }
}

impl fmt::Debug for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.0.is_some() { "one of the app's" } else { "the system's" })
    }
}
