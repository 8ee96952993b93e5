//! The activities of a thread, so that it never waits for itself.

use std::cell::RefCell;
use std::path::PathBuf;

/// What is under way.
#[derive(Clone, PartialEq, Eq)]
pub(crate) enum Activity {
    /// A transaction or a view of the drawer at this address.
    Using(usize),
    /// Opening the file at this path.
    Opening(PathBuf),
    /// A call that the thread which draws the screen waits for, of which others are parts.
    Waiting,
}

thread_local! {
    static HERE: RefCell<Vec<Activity>> = const { RefCell::new(Vec::new()) };
}

/// It is under way on this thread until this is dropped.
pub(crate) struct UnderWay(Activity);

impl Activity {
    /// Whether it is under way on this thread.
    #[inline]
    pub(crate) fn is_under_way(&self) -> bool {
        HERE.with_borrow(|here| here.contains(self))
    }

    pub(crate) fn begin(self) -> UnderWay {
        HERE.with_borrow_mut(|here| here.push(self.clone()));
        UnderWay(self)
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        HERE.with_borrow_mut(|here| here.iter().rposition(|activity| *activity == self.0).map(|at| here.remove(at)));
    }
}
