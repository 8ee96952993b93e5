//! The storage engine, SQLite, behind the few words the rest of the library says to it. No other module names it.

mod connection;
mod counting;
mod fault;
mod guard;
mod memory;
mod pool;
mod report;
mod statement;
mod traceless;
mod transaction;
mod whole_copy;

pub(crate) use connection::{Connection, Settings};
pub(crate) use counting::{Written, add};
pub(crate) use fault::{Fault, FaultKind};
pub(crate) use memory::{bytes_of, memory_place, pour_bytes};
pub(crate) use pool::{Pool, SharedWriter};
pub(crate) use report::Reporting;
pub(crate) use statement::{Cells, Placed, Row, Rows, Statement};
pub(crate) use traceless::Traceless;
pub(crate) use transaction::Transaction;
pub(crate) use whole_copy::{copy_from, copy_whole};

/// The files that stand beside a database file and belong to it.
pub(crate) const COMPANIONS: [&str; 3] = ["-wal", "-shm", "-journal"];

/// The version of the engine, for messages.
pub(crate) fn version() -> &'static str {
    rusqlite::version()
}
