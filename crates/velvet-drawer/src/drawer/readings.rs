//! The reads that the app's code holds open, and the write-ahead log that grows while it does.
//!
//! What is written goes to the log, and is merged into the file as far as nobody reads an older state. So one read that never ends keeps
//! the log from being merged, and it grows with every write.

use super::Inner;
use crate::engine::Connection;
use crate::error::{Cause, Error};
use crate::events;
use jiff::Timestamp;
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::fmt;
use std::panic::Location;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A read that the app's code holds open: a [`Drawer::read`](crate::Drawer::read), or records that are handed over one after the other. What is
/// written meanwhile stays in the write-ahead log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OpenRead {
    /// Where in the app's code it began.
    pub at: &'static Location<'static>,
    /// When it began.
    pub since: Timestamp,
}

impl fmt::Display for OpenRead {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let OpenRead { at, since } = self;
        write!(f, "the read that began at {}:{} ({since:.0})", at.file(), at.line())
    }
}

/// The reads that are open, and whether the log has grown large.
#[derive(Default)]
pub(super) struct Readings {
    open: Mutex<(u64, BTreeMap<u64, OpenRead>)>,
    is_log_large: AtomicBool,
}

/// One read, until it is dropped.
pub struct HeldRead {
    inner: Arc<Inner>,
    number: u64,
}

impl HeldRead {
    pub(super) fn new(inner: Arc<Inner>, at: &'static Location<'static>) -> HeldRead {
        let mut open = inner.readings.open.lock();
        open.0 += 1;
        let number = open.0;
        open.1.insert(number, OpenRead { at, since: Timestamp::now() });
        drop(open);
        HeldRead { inner, number }
    }
}

impl Drop for HeldRead {
    fn drop(&mut self) {
        let Readings { open, is_log_large } = &self.inner.readings;
        open.lock().1.remove(&self.number);
        if is_log_large.load(Ordering::Relaxed) {
            self.inner.cut_log();
        }
    }
}

impl Inner {
    /// The reads that are open, the oldest first.
    pub(crate) fn open_reads(&self) -> Vec<OpenRead> {
        self.readings.open.lock().1.values().copied().collect()
    }

    /// Looks after the log before it grows further. The caller has the connection that writes.
    #[inline]
    pub(super) fn mind_log(&self, bytes: u64, writer: &Connection) -> Result<(), Error> {
        let most = self.in_effect().log_at_most;
        if bytes <= Connection::LARGE_LOG && most.is_none_or(|most| bytes <= most) {
            return Ok(());
        }
        self.mind_large_log(bytes, most, writer)
    }

    #[cold]
    fn mind_large_log(&self, bytes: u64, most: Option<u64>, writer: &Connection) -> Result<(), Error> {
        let held = self.open_reads().first().map_or_else(
            || "another process, or a read that is just now running, reads an older state".to_owned(),
            |read| format!("{read} still needs an older state"),
        );
        let is_news = !self.readings.is_log_large.swap(true, Ordering::Relaxed);
        if let Some(path) = self.path().filter(|_| is_news) {
            events::log_is_large(path, bytes, &held);
        }
        let Some(most) = most.filter(|most| bytes > *most) else { return Ok(()) };
        writer.without_lock_timeout(|| writer.truncate_wal());
        if self.pool().log_bytes() <= most {
            self.readings.is_log_large.store(false, Ordering::Relaxed);
            return Ok(());
        }
        let problem = format!(
            "cannot write to the drawer: its write-ahead log has {bytes} bytes, above the {most} that the app allows, because {held}"
        );
        let error = Error::new(Cause::InUse, problem).untouched("Nothing was written by this call");
        Err(self.place.name(error.advise("End that read; then the log is cut and writing goes on")))
    }

    /// Cuts the log if nobody needs it any more.
    #[cold]
    pub(crate) fn cut_log(&self) {
        // Whoever writes just now has it cut with the next write.
        let Some(writer) = self.pool().idle_writer() else { return };
        writer.without_lock_timeout(|| writer.truncate_wal());
        let is_large = self.pool().log_bytes() > Connection::LARGE_LOG;
        self.readings.is_log_large.store(is_large, Ordering::Relaxed);
    }
}
