//! Which files this process has open through the engine, and which it reads past the engine or only looks into.
//!
//! Closing any handle of our own to a file drops the locks that the engine holds on it, and a look that may not write keeps the shared memory of the file
//! read-only for the whole process. So whoever opens a file to use it waits for those who read it past the engine, and closes the looks.

use super::{Fault, FaultKind, FileCipher};
use crate::work::cancel::in_turns;
use parking_lot::{Condvar, Mutex, ReentrantMutex};
use std::cell::RefCell;
use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Weak};
use std::time::{Duration, Instant};

/// By its resolved path, what this process does with a file.
static FILES: LazyLock<Mutex<HashMap<PathBuf, InUse>>> = LazyLock::new(Mutex::default);

/// Somebody has stopped to read a file past the engine, or has closed the looks into it.
static LEFT: Condvar = Condvar::new();

/// What this process does with one file.
#[derive(Default)]
struct InUse {
    /// How many connections there are.
    open: usize,
    key: Key,
    /// How many read it past the engine.
    past_engine: usize,
    looks: Vec<Weak<dyn GiveUp>>,
    /// Whether looks may keep the shared memory read-only: they were opened while nobody used the file.
    may_be_read_only: bool,
    /// Whether somebody closes the looks just now. A look that was opened then would keep what those keep.
    is_closing: bool,
    /// A handle of our own, which is closed only when there is no connection.
    held: Option<fs::File>,
}

type Key = Option<Arc<FileCipher>>;

/// What a look has open, as long as it may; locked while it reads.
pub(super) type HeldFiles<L> = ReentrantMutex<RefCell<Option<L>>>;

/// Closes what a look has open.
pub(super) trait GiveUp: Send + Sync {
    /// Says whether it did, within a time: it may be reading.
    fn give_up(&self, within: Duration) -> bool;
}

impl<L: Send> GiveUp for HeldFiles<L> {
    fn give_up(&self, within: Duration) -> bool {
        let held = in_turns(within, |turn| self.try_lock_for(turn)).ok().flatten();
        held.is_some_and(|held| held.try_borrow_mut().map(|mut look| drop(look.take())).is_ok())
    }
}

/// Whether this process has the file at this resolved path open, to write or to read next to a writer.
pub(crate) fn is_open_here(path: &Path) -> bool {
    FILES.lock().get(path).is_some_and(|file| file.open > 0)
}

/// With which key this process has the file open, if any; `None` if it does not have it open.
#[cfg(feature = "encryption")]
pub(super) fn open_with(path: &Path) -> Option<Key> {
    FILES.lock().get(path).filter(|file| file.open > 0).map(|file| file.key.clone())
}

/// Notes a look, which is closed when somebody opens the file to use it. Says whether somebody has it open already; `None` while looks are being closed, which
/// [`looks_are_closed`] waits for. The look is locked by the caller.
pub(super) fn looks_into<L: Send + 'static>(path: &Path, look: &Arc<HeldFiles<L>>) -> Option<bool> {
    let mut files = FILES.lock();
    let file = files.entry(path.to_owned()).or_default();
    if file.is_closing {
        return None;
    }
    file.may_be_read_only |= file.open == 0;
    file.looks.retain(|look| look.strong_count() > 0);
    let look: Weak<HeldFiles<L>> = Arc::downgrade(look);
    file.looks.push(look);
    Some(file.open > 0)
}

/// Waits until nobody closes the looks into a file. Whoever closes them may wait for another look of the caller, so this gives up after a time.
pub(super) fn looks_are_closed(path: &Path) -> Result<(), Fault> {
    let mut files = FILES.lock();
    let until = Instant::now() + LONGEST_CLOSING;
    while files.get(path).is_some_and(|file| file.is_closing) {
        if LEFT.wait_until(&mut files, until).timed_out() {
            return Err(Fault { kind: FaultKind::Locked, message: "this process is opening the file".to_owned() });
        }
    }
    Ok(())
}

/// How long a look waits until others are closed.
const LONGEST_CLOSING: Duration = Duration::from_secs(1);

/// Closes the looks into a file. Says whether all of them are.
pub(super) fn close_looks(path: &Path, within: Duration) -> bool {
    let looks = FILES.lock().get_mut(path).map(|file| std::mem::take(&mut file.looks)).unwrap_or_default();
    let until = Instant::now() + within;
    let left = || until.saturating_duration_since(Instant::now());
    let busy: Vec<_> =
        looks.into_iter().filter(|look| look.upgrade().is_some_and(|look| !look.give_up(left()))).collect();
    let are_closed = busy.is_empty();
    if !are_closed {
        FILES.lock().entry(path.to_owned()).or_default().looks.extend(busy);
    }
    are_closed
}

/// Holds a handle of our own to a file that is open, until no connection is.
pub(super) fn hold(path: &Path) {
    if let Some(file) = FILES.lock().get_mut(path).filter(|file| file.open > 0 && file.held.is_none()) {
        file.held = fs::File::open(path).ok();
    }
}

/// Closes that handle, unless there are connections other than the one that its pool stands for.
pub(super) fn let_go(path: &Path) {
    if let Some(file) = FILES.lock().get_mut(path).filter(|file| file.open <= 1) {
        file.held = None;
    }
}

/// Reads through that handle.
pub(super) fn with_held<R>(path: &Path, read: impl FnOnce(&mut fs::File) -> R) -> Option<R> {
    FILES.lock().get_mut(path)?.held.as_mut().map(read)
}

fn left(files: &mut HashMap<PathBuf, InUse>, path: &Path) {
    if files.get(path).is_some_and(|file| file.open == 0 && file.past_engine == 0 && file.looks.is_empty()) {
        files.remove(path);
    }
}

/// Reads a file past the engine until it is dropped; until then, nobody in this process opens it.
pub(crate) struct PastEngine(PathBuf);

impl PastEngine {
    /// `None` if this process has the file at this resolved path open.
    pub(crate) fn begin(path: &Path) -> Option<PastEngine> {
        let mut files = FILES.lock();
        let file = files.entry(path.to_owned()).or_default();
        (file.open == 0).then(|| {
            file.past_engine += 1;
            PastEngine(path.to_owned())
        })
    }
}

impl Drop for PastEngine {
    fn drop(&mut self) {
        let mut files = FILES.lock();
        if let Some(file) = files.get_mut(&self.0) {
            file.past_engine -= 1;
        }
        left(&mut files, &self.0);
        LEFT.notify_all();
    }
}

/// Counts one connection to a file until it is dropped.
pub(super) struct OpenHere(PathBuf);

impl OpenHere {
    /// Waits for whoever reads the file past the engine, and closes the looks into it.
    ///
    /// # Errors
    /// When they take longer than the time to wait.
    pub(super) fn new(path: &Path, key: &Key, wait: Duration) -> Result<OpenHere, Fault> {
        let open_here = OpenHere::again(path, key);
        let locked = |message: &str| Err(Fault { kind: FaultKind::Locked, message: message.to_owned() });
        {
            let mut files = FILES.lock();
            let until = Instant::now() + wait;
            while files.get(path).is_some_and(|file| file.past_engine > 0 || file.is_closing) {
                if LEFT.wait_until(&mut files, until).timed_out() {
                    return locked("this process is reading the file for a report or a copy");
                }
            }
            match files.get_mut(path).filter(|file| file.may_be_read_only) {
                Some(file) => file.is_closing = true,
                None => return Ok(open_here),
            }
        }
        let are_closed = close_looks(path, wait);
        if let Some(file) = FILES.lock().get_mut(path) {
            (file.is_closing, file.may_be_read_only) = (false, !are_closed);
        }
        LEFT.notify_all();
        if are_closed { Ok(open_here) } else { locked("this process is looking into the file with inspect::File") }
    }

    /// Of a file that this process has open already.
    pub(super) fn again(path: &Path, key: &Key) -> OpenHere {
        let mut files = FILES.lock();
        let file = files.entry(path.to_owned()).or_default();
        if file.open == 0 {
            file.key.clone_from(key);
        }
        file.open += 1;
        OpenHere(path.to_owned())
    }
}

impl Drop for OpenHere {
    fn drop(&mut self) {
        let mut files = FILES.lock();
        if let Some(file) = files.get_mut(&self.0) {
            file.open -= 1;
            if file.open == 0 {
                file.held = None;
            }
        }
        left(&mut files, &self.0);
    }
}
