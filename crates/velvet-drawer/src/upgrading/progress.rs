//! How far an upgrade has come, and whether it should go on.

use crate::cancel::Cancel;
use crate::error::{Cause, Error};
use crate::progress::{self, Progress};
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::Duration;

/// Follows an upgrade from outside.
#[derive(Default)]
pub(crate) struct Watch {
    progress: Mutex<Progress>,
    cancel: Cancel,
    tell: Option<Box<Tell>>,
    slow: Option<Duration>,
    fail_after: Option<usize>,
}

/// Is told of each change of progress.
type Tell = dyn Fn(&Progress) + Send + Sync;

impl Watch {
    /// Follows an upgrade by telling each change of progress, until it is cancelled.
    pub(crate) fn telling(tell: impl Fn(&Progress) + Send + Sync + 'static, cancel: Cancel) -> Watch {
        Watch { tell: Some(Box::new(tell)), cancel, ..Watch::default() }
    }

    /// Follows an upgrade that takes longer in each step, or fails after some, for a developer who wants to see that.
    pub(crate) fn new(slow: Option<Duration>, fail_after: Option<usize>) -> Watch {
        Watch { slow, fail_after, ..Watch::default() }
    }

    pub(crate) fn progress(&self) -> Progress {
        self.progress.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Asks the upgrade to end; it rolls back.
    pub(crate) fn cancel(&self) {
        self.cancel.cancel();
    }

    /// Says whether to go on.
    pub(super) fn go_on(&self) -> Result<(), Error> {
        if self.cancel.is_cancelled() {
            return Err(Error::new(Cause::Cancelled, "opening the drawer was cancelled").advise("Open it again"));
        }
        Ok(())
    }

    pub(super) fn begin(&self, version: u32, newest: u32, versions: usize, doing: &str) -> Result<(), Error> {
        self.update(|p| {
            let doing = format!("upgrading to version {version} of {newest}: {doing}");
            *p = Progress { doing, parts: versions, parts_done: p.parts_done, ..Progress::default() };
        });
        self.go_on()
    }

    pub(super) fn rows(&self, done: u64, of: u64) -> Result<(), Error> {
        self.update(|p| (p.done, p.of) = (done, Some(of)));
        self.go_on()
    }

    pub(super) fn finished_version(&self) -> Result<(), Error> {
        self.update(|p| p.parts_done += 1);
        if let Some(slow) = self.slow {
            // In short naps, so that a cancel is not kept waiting.
            let nap = Duration::from_millis(10);
            for _ in 0..slow.as_millis().div_ceil(nap.as_millis()) {
                thread::sleep(nap);
                self.go_on()?;
            }
        }
        let Progress { parts_done, parts, .. } = self.progress();
        if self.fail_after.is_some_and(|after| parts_done >= after.clamp(1, parts.max(1))) {
            return Err(Error::new(
                Cause::Own,
                "the upgrade fails because the developer asked for it (Options::fail_upgrade)",
            ));
        }
        Ok(())
    }

    fn update(&self, change: impl FnOnce(&mut Progress)) {
        let now = {
            let mut progress = self.progress.lock().unwrap_or_else(PoisonError::into_inner);
            change(&mut progress);
            progress.clone()
        };
        if let Some(tell) = &self.tell {
            tell(&now);
        }
        progress::tell_all(&now);
    }
}
