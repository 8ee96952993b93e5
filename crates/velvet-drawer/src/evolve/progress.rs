//! How far an upgrade has come, and whether it should go on.

use crate::error::{Cause, Error};
use crate::work::cancel::Cancel;
use crate::work::progress::{self, Progress};
use std::cell::RefCell;
use std::thread;
use std::time::Duration;

/// How far an upgrade has come.
#[derive(Default)]
pub(crate) struct Watch {
    at: RefCell<Progress>,
    slow: Option<Duration>,
    fail_after: Option<usize>,
}

impl Watch {
    /// Of an upgrade that takes longer in each step, or fails after some, for a developer who wants to see that.
    pub(crate) fn new(slow: Option<Duration>, fail_after: Option<usize>) -> Watch {
        Watch { slow, fail_after, ..Watch::default() }
    }

    /// Says whether to go on.
    pub(super) fn go_on(&self) -> Result<(), Error> {
        if Cancel::here().is_some_and(|cancel| cancel.is_cancelled()) {
            return Err(Error::bare(Cause::Cancelled, "it was cancelled"));
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
        let Progress { parts_done, parts, .. } = *self.at.borrow();
        if self.fail_after.is_some_and(|after| parts_done >= after.clamp(1, parts.max(1))) {
            return Err(Error::new(
                Cause::Own,
                "the upgrade fails because the developer asked for it (Options::fail_upgrade)",
            ));
        }
        Ok(())
    }

    fn update(&self, change: impl FnOnce(&mut Progress)) {
        change(&mut self.at.borrow_mut());
        progress::tell_all(&self.at.borrow());
    }
}
