//! Transactions, snapshots and savepoints, each of which ends itself.

use super::commits::Mark;
use super::{Connection, Fault, FaultKind};
use std::cell::{Cell, RefCell};

/// What a connection knows of the transaction that is open on it.
#[derive(Default)]
pub(super) struct Open {
    is_open: Cell<bool>,
    /// The fault after which the engine rolled the whole transaction back by itself.
    rolled_back_by: RefCell<Option<(FaultKind, String)>>,
    is_rolled_back: Cell<bool>,
}

/// A transaction that is rolled back when dropped, unless it was committed.
pub(crate) struct Transaction<'c> {
    connection: &'c Connection,
}

/// A part of a transaction that is rolled back alone when dropped, unless it was kept.
pub(crate) struct Savepoint<'c> {
    connection: &'c Connection,
    before: Vec<Mark>,
    is_kept: bool,
}

impl Connection {
    /// Begins to write: a transaction that holds the lock to write from now on.
    pub(crate) fn transaction(&self) -> Result<Transaction<'_>, Fault> {
        self.waiting_in_turns(|| self.begin("BEGIN IMMEDIATE"))
    }

    /// Begins to read from one state of the file.
    pub(crate) fn snapshot(&self) -> Result<Transaction<'_>, Fault> {
        self.begin("BEGIN")
    }

    fn begin(&self, text: &'static str) -> Result<Transaction<'_>, Fault> {
        self.execute(text, [])?;
        self.open.is_open.set(true);
        Ok(Transaction { connection: self })
    }

    /// Begins a part of the transaction that is open.
    pub(crate) fn savepoint(&self) -> Result<Savepoint<'_>, Fault> {
        self.execute("SAVEPOINT velvet_part", [])?;
        Ok(Savepoint { connection: self, before: self.mark(), is_kept: false })
    }

    /// Whether a transaction or snapshot is open.
    pub(crate) fn is_in_transaction(&self) -> bool {
        !self.engine.is_autocommit()
    }

    /// Refuses to go on where the engine has rolled back the transaction that this would be a part of: the statement would
    /// be kept alone.
    #[inline]
    pub(super) fn refuse_if_rolled_back(&self) -> Result<(), Fault> {
        if self.open.is_rolled_back.get() { Err(self.rolled_back()) } else { Ok(()) }
    }

    #[cold]
    fn rolled_back(&self) -> Fault {
        let (kind, message) = self.open.rolled_back_by.borrow().clone().unwrap_or((FaultKind::Other, String::new()));
        Fault { kind: FaultKind::RolledBack(Box::new(kind)), message }
    }

    /// The engine's refusal as a fault. After some, it rolls back the whole transaction by itself.
    #[cold]
    pub(super) fn failed(&self, error: rusqlite::Error) -> Fault {
        let mut fault = Fault::from(error);
        if self.cipher.is_some() && fault.kind == FaultKind::NotADatabase {
            // Whoever gave the key has seen that it is that of the file.
            fault.kind = FaultKind::Damaged;
        }
        if let Some(bounds) = &self.bounds {
            fault.kind = bounds.told(fault.kind);
        }
        if self.open.is_open.get() && !self.is_in_transaction() && !self.open.is_rolled_back.replace(true) {
            *self.open.rolled_back_by.borrow_mut() = Some((fault.kind.clone(), fault.message.clone()));
        }
        fault
    }
}

impl Transaction<'_> {
    /// Keeps what was written.
    pub(crate) fn commit(self) -> Result<(), Fault> {
        self.connection.execute("COMMIT", []).map(drop)
    }
}

impl Drop for Transaction<'_> {
    fn drop(&mut self) {
        let Connection { open, .. } = self.connection;
        open.is_open.set(false);
        open.rolled_back_by.take();
        let was_rolled_back = open.is_rolled_back.replace(false);
        if self.connection.is_in_transaction() {
            // Where the engine cannot roll back, the file is not readable any more, which the next statement says.
            let _ = self.connection.run("ROLLBACK");
            self.connection.back_to(&[]);
        } else if was_rolled_back {
            self.connection.back_to(&[]);
        }
    }
}

impl Savepoint<'_> {
    /// Keeps what was written in this part, as far as the transaction is kept.
    pub(crate) fn keep(mut self) -> Result<(), Fault> {
        self.connection.execute("RELEASE velvet_part", [])?;
        self.is_kept = true;
        Ok(())
    }
}

impl Drop for Savepoint<'_> {
    fn drop(&mut self) {
        if !self.is_kept && self.connection.is_in_transaction() {
            // Where this fails, the engine has rolled back the whole transaction, and nothing more can be done in it.
            let _ = self.connection.run("ROLLBACK TO velvet_part; RELEASE velvet_part");
            self.connection.back_to(&self.before);
        }
    }
}
