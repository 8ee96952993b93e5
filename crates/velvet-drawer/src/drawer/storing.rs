//! What a drawer holds while attachments are stored and read.

use super::{Inner, Reads, Scope};
use crate::engine::Connection;
use crate::error::Error;
use parking_lot::Mutex;
use std::collections::BTreeSet;

/// The contents that are being stored by this process, and what reads those that are.
#[derive(Default)]
pub(crate) struct Storing {
    contents: Mutex<BTreeSet<i64>>,
    /// A connection of their own, so that the pages of others stay in memory.
    reader: Mutex<Option<Connection>>,
}

impl Storing {
    pub(crate) fn begin(&self, content: i64) {
        self.contents.lock().insert(content);
    }

    pub(crate) fn end(&self, content: i64) {
        self.contents.lock().remove(&content);
    }

    pub(crate) fn has(&self, content: i64) -> bool {
        self.contents.lock().contains(&content)
    }

    /// Closes what reads; it is opened again when it is needed.
    pub(super) fn close_reader(&self) -> Option<Connection> {
        self.reader.lock().take()
    }
}

impl Inner {
    /// Runs `work` where attachments are read.
    pub(crate) fn with_reader_of_attachments<R>(
        &self,
        work: impl FnOnce(Scope<'_, Reads>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        let mut reader = self.storing.reader.lock();
        let connection = match reader.take() {
            Some(connection) => connection,
            None => self.own_reader()?,
        };
        let connection = reader.insert(connection);
        connection.until_cancelled_here(|| work(Scope::new(connection, self)))
    }
}
