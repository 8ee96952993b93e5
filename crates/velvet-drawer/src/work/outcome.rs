//! What work on another thread comes to, for whoever waits for it or awaits it.

use parking_lot::{Condvar, Mutex, MutexGuard};
use std::task::{Context, Poll, Waker};

/// What work on another thread comes to.
pub(crate) struct Outcome<R> {
    state: Mutex<OutcomeState<R>>,
    finished: Condvar,
}

struct OutcomeState<R> {
    is_finished: bool,
    /// The result, until it is taken.
    result: Option<R>,
    waker: Option<Waker>,
}

impl<R> Default for Outcome<R> {
    fn default() -> Self {
        let state = OutcomeState { is_finished: false, result: None, waker: None };
        Outcome { state: Mutex::new(state), finished: Condvar::new() }
    }
}

impl<R> Outcome<R> {
    fn state(&self) -> MutexGuard<'_, OutcomeState<R>> {
        self.state.lock()
    }

    pub(crate) fn finish(&self, result: R) {
        let waker = {
            let mut state = self.state();
            (state.is_finished, state.result) = (true, Some(result));
            state.waker.take()
        };
        self.finished.notify_all();
        if let Some(waker) = waker {
            waker.wake();
        }
    }

    pub(crate) fn is_finished(&self) -> bool {
        self.state().is_finished
    }

    /// Waits for the result; nothing where it was taken before.
    pub(crate) fn wait(&self) -> Option<R> {
        let mut state = self.state();
        while !state.is_finished {
            self.finished.wait(&mut state);
        }
        state.result.take()
    }

    /// As [`Outcome::wait`], for an async runtime.
    pub(crate) fn poll(&self, context: &Context<'_>) -> Poll<Option<R>> {
        let mut state = self.state();
        if state.is_finished {
            return Poll::Ready(state.result.take());
        }
        state.waker = Some(context.waker().clone());
        Poll::Pending
    }
}
