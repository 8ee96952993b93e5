//! Which tables the statements read that run while somebody wants to know.

use super::{Connection, Fault};
use std::cell::{Cell, RefCell};
use std::collections::{BTreeSet, HashMap};

/// What a connection notices of its statements.
#[derive(Default)]
pub(super) struct Noticed {
    is_on: Cell<bool>,
    tables: RefCell<BTreeSet<String>>,
    /// The tables of each statement that was asked about: the engine only tells while it prepares one, and keeps it prepared.
    known: RefCell<HashMap<String, BTreeSet<String>>>,
}

impl Connection {
    /// Runs `work`, and says which tables its statements read, also by views, but not the file's own bookkeeping.
    pub(crate) fn noticing<R>(&self, work: impl FnOnce() -> R) -> (R, BTreeSet<String>) {
        self.noticed.tables.borrow_mut().clear();
        self.noticed.is_on.set(true);
        let _off = Off(&self.noticed.is_on);
        let result = work();
        (result, self.noticed.tables.take())
    }

    /// Notices a statement that is about to be prepared.
    #[inline]
    pub(super) fn notice(&self, text: &str) -> Result<(), Fault> {
        if self.noticed.is_on.get() { self.notice_tables(text) } else { Ok(()) }
    }

    #[cold]
    fn notice_tables(&self, text: &str) -> Result<(), Fault> {
        let Noticed { tables, known, .. } = &self.noticed;
        if !known.borrow().contains_key(text) {
            let mut read = self.tables_read(text)?;
            read.retain(|table| !table.starts_with("velvet_") && !table.starts_with("sqlite_"));
            known.borrow_mut().insert(text.to_owned(), read);
        }
        tables.borrow_mut().extend(known.borrow().get(text).into_iter().flatten().cloned());
        Ok(())
    }
}

/// Switches it off, also when the work panics.
struct Off<'c>(&'c Cell<bool>);

impl Drop for Off<'_> {
    fn drop(&mut self) {
        self.0.set(false);
    }
}
