//! Counting the rows that a connection writes, table by table, as the engine tells of each.

use super::Connection;
use rusqlite::hooks::Action;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// How many rows of one table were written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Written {
    pub(crate) table: String,
    pub(crate) inserted: u64,
    pub(crate) changed: u64,
    pub(crate) removed: u64,
}

impl Written {
    fn of(table: &str) -> Written {
        Written { table: table.to_owned(), ..Written::default() }
    }

    fn forget(&mut self) {
        (self.inserted, self.changed, self.removed) = (0, 0, 0);
    }

    fn is_nothing(&self) -> bool {
        self.inserted == 0 && self.changed == 0 && self.removed == 0
    }
}

/// Adds what was written to what was written before.
pub(crate) fn add(all: &mut Vec<Written>, more: &[Written]) {
    for more in more.iter().filter(|w| !w.is_nothing()) {
        let known = position(all, &more.table);
        all[known].inserted += more.inserted;
        all[known].changed += more.changed;
        all[known].removed += more.removed;
    }
}

fn position(all: &mut Vec<Written>, table: &str) -> usize {
    all.iter().position(|w| w.table == table).unwrap_or_else(|| {
        all.push(Written::of(table));
        all.len() - 1
    })
}

/// What a connection has written and not told of yet.
#[derive(Default)]
struct Counts {
    /// In the transaction that is open.
    pending: Vec<Written>,
    /// The same, before the statement that is running: of each table inserted, changed and removed.
    before: Vec<[u64; 3]>,
}

/// Counts what one connection writes, and tells it once it is kept.
pub(super) struct Counting {
    counts: Arc<Mutex<Counts>>,
    kept: Box<dyn Fn(&[Written]) + Send>,
}

impl Counting {
    fn counts(&self) -> MutexGuard<'_, Counts> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A statement begins that may write.
    #[inline]
    pub(super) fn begin_statement(&self) {
        let Counts { pending, before } = &mut *self.counts();
        before.clear();
        before.extend(pending.iter().map(|w| [w.inserted, w.changed, w.removed]));
    }

    /// The statement failed, so what it wrote is undone.
    #[cold]
    pub(super) fn undo_statement(&self) {
        let Counts { pending, before } = &mut *self.counts();
        for (at, written) in pending.iter_mut().enumerate() {
            [written.inserted, written.changed, written.removed] = before.get(at).copied().unwrap_or_default();
        }
    }
}

impl Connection {
    /// Counts the rows that are written from now on, but not those of the file's own bookkeeping. `kept` hears of them once
    /// they cannot be rolled back any more.
    pub(crate) fn count_writes(&mut self, kept: impl Fn(&[Written]) + Send + 'static) {
        let counts = Arc::<Mutex<Counts>>::default();
        let hears = Arc::clone(&counts);
        let hook = move |action: Action, _: &str, table: &str, _: i64| {
            if table.starts_with("velvet_") {
                return;
            }
            let counts = &mut *hears.lock().unwrap_or_else(PoisonError::into_inner);
            let at = position(&mut counts.pending, table);
            let written = &mut counts.pending[at];
            match action {
                Action::SQLITE_INSERT => written.inserted += 1,
                Action::SQLITE_UPDATE => written.changed += 1,
                Action::SQLITE_DELETE => written.removed += 1,
                _ => {}
            }
        };
        // Where the engine does not tell, nothing is counted.
        if self.engine.update_hook(Some(hook)).is_ok() {
            self.counting = Some(Counting { counts, kept: Box::new(kept) });
        }
    }

    /// The engine removes all rows of a table at once without telling of each; says how many there were.
    pub(crate) fn removed_at_once(&self, table: &str, rows: u64) {
        let Some(counting) = &self.counting else { return };
        let counts = &mut *counting.counts();
        let at = position(&mut counts.pending, table);
        if counts.pending[at].removed == counts.before.get(at).map_or(0, |[_, _, removed]| *removed) {
            counts.pending[at].removed += rows;
        }
    }

    /// Tells of what was written, when no transaction is open any more.
    #[inline]
    pub(crate) fn settle_counts(&self) {
        let Some(counting) = self.counting.as_ref().filter(|_| self.engine.is_autocommit()) else { return };
        let counts = &mut *counting.counts();
        if counts.pending.iter().any(|w| !w.is_nothing()) {
            (counting.kept)(&counts.pending);
            // The names stay, so that the next transaction finds them.
            counts.pending.iter_mut().for_each(Written::forget);
        }
    }

    /// What was counted in the transaction that is open, to be brought back when a part of it is rolled back.
    pub(crate) fn counted(&self) -> Vec<Written> {
        self.counting.as_ref().map(|c| c.counts().pending.clone()).unwrap_or_default()
    }

    /// Brings back what was counted before something was rolled back.
    pub(crate) fn count_again_from(&self, counted: Vec<Written>) {
        if let Some(counting) = &self.counting {
            counting.counts().pending = counted;
        }
    }
}
