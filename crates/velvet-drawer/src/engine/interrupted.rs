//! Ending statements in the middle.

use super::{Connection, Fault, FaultKind};
use crate::work::cancel::{Cancel, Cancelled, in_turns};
use parking_lot::Mutex;
use std::cell::Cell;
use std::sync::Arc;

/// After how many of the engine's steps to look whether work is to end: so few that it ends at once, so many that it costs nothing.
const BETWEEN_LOOKS: i32 = 10_000;

/// What may ask the statements of a connection to end.
#[derive(Default)]
pub(super) struct Asking {
    /// Whether something may.
    is_on: Cell<bool>,
    asks: Asks,
}

type Asks = Arc<Mutex<Option<Cancel>>>;

fn is_asked(asks: &Asks) -> bool {
    asks.lock().as_ref().is_some_and(Cancel::is_cancelled)
}

impl Asking {
    fn set(&self, cancel: Option<Cancel>) -> Option<Cancel> {
        self.is_on.set(cancel.is_some());
        std::mem::replace(&mut *self.asks.lock(), cancel)
    }
}

impl Connection {
    /// Lets the statements of this connection end where they are asked to.
    pub(super) fn look_whether_to_end(&mut self) -> Result<(), Fault> {
        let asks = Arc::clone(&self.asking.asks);
        Ok(self.engine.progress_handler(BETWEEN_LOOKS, Some(move || is_asked(&asks)))?)
    }

    /// Runs `work`, whose statements end, also in the middle, where the work of this thread is asked to.
    #[inline]
    pub(crate) fn until_cancelled_here<R>(&self, work: impl FnOnce() -> R) -> R {
        match Cancel::here() {
            None => work(),
            Some(cancel) => self.until_cancelled(&cancel, work),
        }
    }

    /// Runs `work`, whose statements end, also in the middle, once `cancel` asks them to. One that writes takes its whole transaction with it.
    pub(crate) fn until_cancelled<R>(&self, cancel: &Cancel, work: impl FnOnce() -> R) -> R {
        let _before = Before(self, self.asking.set(Some(cancel.clone())));
        work()
    }

    /// Runs `work`, which may wait for other processes, so that also the waiting ends where it is asked to.
    pub(super) fn waiting_in_turns<R>(&self, work: impl Fn() -> Result<R, Fault>) -> Result<R, Fault> {
        if Cancel::here().is_none() {
            return work();
        }
        let mut locked = None;
        let done = in_turns(self.wait.get(), |turn| {
            if let Err(error) = self.engine.busy_timeout(turn) {
                return Some(Err(error.into()));
            }
            match work() {
                Err(fault) if fault.kind == FaultKind::Locked => {
                    locked = Some(fault);
                    None
                }
                result => Some(result),
            }
        });
        self.engine.busy_timeout(self.wait.get())?;
        done?.unwrap_or_else(|| Err(locked.unwrap_or_else(|| unreachable!("only a lock is waited for"))))
    }

    /// Refuses to go on where it was asked to stop: what is short never meets the engine's own look.
    #[inline]
    pub(super) fn refuse_if_cancelled(&self) -> Result<(), Fault> {
        if self.asking.is_on.get() { self.refuse_if_asked() } else { Ok(()) }
    }

    #[cold]
    fn refuse_if_asked(&self) -> Result<(), Fault> {
        if !is_asked(&self.asking.asks) {
            return Ok(());
        }
        Err(Cancelled.into())
    }

    /// What is asked for from now on ends once `cancel` asks it to.
    pub(super) fn ends_with(&self, cancel: &Cancel) {
        self.asking.set(Some(cancel.clone()));
    }
}

impl From<Cancelled> for Fault {
    fn from(_: Cancelled) -> Fault {
        Fault { kind: FaultKind::Interrupted(None), message: "interrupted".into() }
    }
}

/// Puts back what asked before, also when the work panics.
struct Before<'c>(&'c Connection, Option<Cancel>);

impl Drop for Before<'_> {
    fn drop(&mut self) {
        self.0.asking.set(self.1.take());
    }
}
