//! Asking work to stop.

use super::{of_job, with_job};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

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

    /// Runs `work` on this thread, where whatever it does with drawers can be stopped: also in the middle of a long statement, which
    /// fails then. A transaction that is stopped is rolled back; one that is committed stays.
    ///
    /// ```
    /// # use velvet_drawer::{Cancel, Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let cancel = Cancel::default();
    /// let stop = cancel.clone();
    /// std::thread::spawn(move || stop.cancel()).join().unwrap();
    /// let stopped = cancel.during(|| drawer.insert_all((0..100_000).map(|n| Piece { mark: format!("K-{n}") })));
    /// assert!(stopped.is_err_and(|error| error.is_cancelled()));
    /// assert_eq!(drawer.count::<Piece>()?, 0);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn during<R>(&self, work: impl FnOnce() -> R) -> R {
        with_job(|job| &mut job.cancel, self.clone(), work)
    }

    /// What asks the work of this thread to stop, where something may.
    #[inline]
    pub(crate) fn here() -> Option<Cancel> {
        of_job(|job| &mut job.cancel, |cancel| cancel.clone())
    }
}

/// How long to wait for others before looking whether work is to end.
const TURN: Duration = Duration::from_millis(25);

/// The work of this thread was asked to stop.
pub(crate) struct Cancelled;

/// Makes an attempt that waits for others at most as long as it is told: in one go for as long as `wait`, or in short turns where the work of this
/// thread may be asked to stop. Nothing where that time is over.
pub(crate) fn in_turns<R>(
    wait: Duration,
    mut attempt: impl FnMut(Duration) -> Option<R>,
) -> Result<Option<R>, Cancelled> {
    let Some(cancel) = Cancel::here() else { return Ok(attempt(wait)) };
    let until = Instant::now().checked_add(wait);
    loop {
        if cancel.is_cancelled() {
            return Err(Cancelled);
        }
        let left = until.map_or(TURN, |until| until.saturating_duration_since(Instant::now()));
        if let Some(result) = attempt(left.min(TURN)) {
            return Ok(Some(result));
        }
        if left.is_zero() {
            return Ok(None);
        }
    }
}
