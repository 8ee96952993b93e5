//! Asking work to stop.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Asks work to stop, from another thread or from a handler of signals. What is stopped leaves all as it was, and fails with
/// [`Error::is_cancelled`](crate::Error::is_cancelled). Clones ask the same.
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

thread_local! {
    /// What asks the work of this thread to stop.
    static HERE: RefCell<Option<Cancel>> = const { RefCell::new(None) };
}

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
        let _before = Before(HERE.replace(Some(self.clone())));
        work()
    }

    /// What asks the work of this thread to stop, where something may.
    #[inline]
    pub(crate) fn here() -> Option<Cancel> {
        HERE.with_borrow(Option::clone)
    }
}

/// Puts back what was there before, also when the work panics.
struct Before(Option<Cancel>);

impl Drop for Before {
    fn drop(&mut self) {
        HERE.set(self.0.take());
    }
}
