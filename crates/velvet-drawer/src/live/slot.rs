//! Where the newest result lies, and whoever waits for it.

use super::State;
use crate::error::Error;
use parking_lot::{Condvar, Mutex, MutexGuard};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::task::Waker;
use std::time::Instant;

/// Where the newest result lies.
pub(crate) struct Slot<R> {
    held: Mutex<Latest<R>>,
    /// Whether two results are the same.
    is_same: fn(&R, &R) -> bool,
    changed: Condvar,
}

struct Latest<R> {
    /// Counts the states.
    number: u64,
    result: Option<R>,
    failed: Option<Arc<Error>>,
    is_over: bool,
    /// Whoever is to be woken.
    wakers: BTreeMap<usize, Waker>,
}

/// A slot of whatever result.
pub(super) trait Wake: Send + Sync {
    /// Wakes whoever waits, to look again.
    fn wake_all(&self);
}

impl<R> Slot<R> {
    pub(super) fn new(is_same: fn(&R, &R) -> bool) -> Slot<R> {
        let held = Latest { number: 0, result: None, failed: None, is_over: false, wakers: BTreeMap::new() };
        Slot { held: Mutex::new(held), is_same, changed: Condvar::new() }
    }

    pub(super) fn is_same(&self, a: &R, b: &R) -> bool {
        (self.is_same)(a, b)
    }

    fn held(&self) -> MutexGuard<'_, Latest<R>> {
        self.held.lock()
    }

    fn change(&self, change: impl FnOnce(&mut Latest<R>) -> bool) {
        let mut held = self.held();
        let wakers = if change(&mut held) { std::mem::take(&mut held.wakers) } else { return };
        drop(held);
        self.changed.notify_all();
        wakers.into_values().for_each(Waker::wake);
    }

    /// Puts a result there, unless it is there already.
    pub(super) fn put(&self, result: R) {
        self.change(|held| {
            let is_there = held.result.as_ref().is_some_and(|before| self.is_same(before, &result));
            let is_news = held.failed.take().is_some() || !is_there;
            if is_news {
                held.number += 1;
                held.result = Some(result);
            }
            is_news
        });
    }

    /// It cannot be worked out.
    pub(super) fn fail(&self, error: Error) {
        self.change(|held| {
            held.number += 1;
            held.failed = Some(Arc::new(error));
            true
        });
    }

    /// Nothing more will come.
    pub(super) fn end(&self) {
        self.change(|held| {
            held.is_over = true;
            true
        });
    }

    pub(super) fn is_over(&self) -> bool {
        self.held().is_over
    }

    /// Wakes this one no more.
    pub(super) fn forget(&self, who: usize) {
        self.held().wakers.remove(&who);
    }

    /// Wakes this one with the next change.
    pub(super) fn wake_later(&self, who: usize, waker: &Waker) {
        self.held().wakers.insert(who, waker.clone());
    }
}

impl<R: Clone> Slot<R> {
    pub(super) fn now(&self) -> State<R> {
        let held = self.held();
        match (&held.failed, held.result.clone()) {
            (Some(error), last) => State::Failed { error: Arc::clone(error), last },
            (None, Some(result)) => State::Loaded(result),
            (None, None) => State::Loading,
        }
    }

    /// The newest state, where it is another than the one of this number.
    pub(super) fn after(&self, number: u64) -> Option<(u64, Result<R, Arc<Error>>)> {
        self.held().after(number)
    }

    /// As [`Slot::after`], once there is one; nothing after `until`, or when it is over. `switched` says whether it is paused, and whether it is over.
    pub(super) fn wait(
        &self,
        number: u64,
        until: Option<Instant>,
        switched: impl Fn() -> (bool, bool),
    ) -> Option<(u64, Result<R, Arc<Error>>)> {
        let mut held = self.held();
        loop {
            let (is_paused, is_stopped) = switched();
            if let Some(news) = held.after(number).filter(|_| !is_paused && !is_stopped) {
                return Some(news);
            }
            if held.is_over || is_stopped {
                return None;
            }
            match until {
                None => self.changed.wait(&mut held),
                Some(until) => {
                    let left = until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero())?;
                    self.changed.wait_for(&mut held, left);
                }
            }
        }
    }
}

impl<R: Clone> Latest<R> {
    fn after(&self, number: u64) -> Option<(u64, Result<R, Arc<Error>>)> {
        if self.number == number {
            return None;
        }
        match (&self.failed, &self.result) {
            (Some(error), _) => Some((self.number, Err(Arc::clone(error)))),
            (None, Some(result)) => Some((self.number, Ok(result.clone()))),
            (None, None) => None,
        }
    }
}

impl<R: Send + Sync> Wake for Slot<R> {
    fn wake_all(&self) {
        // Whoever looks at the switch does so with the slot in hand, so it is not missed.
        self.change(|_| true);
    }
}
