//! The storage engine, SQLite, behind the few words the rest of the library says to it. No other module names it.

mod add_column;
mod address;
mod bound;
mod catalogue;
#[cfg(feature = "encryption")]
mod ciphers;
#[cfg(not(feature = "encryption"))]
#[path = "without_ciphers.rs"]
mod ciphers;
mod commits;
mod compacting;
mod connection;
mod facts;
mod fault;
mod guard;
mod in_place;
mod interrupted;
mod log_beside;
mod memory;
mod noticed;
mod open_here;
mod opener;
mod participant;
mod physical;
mod pool;
mod report;
#[cfg(feature = "encryption")]
mod rewriting;
mod seals;
mod statement;
mod traceless;
mod transaction;
mod whole_copy;

pub(crate) use catalogue::{ColumnEntry, Entry, EntryKind, IndexEntry};
#[cfg(not(feature = "encryption"))]
pub(crate) use ciphers::pour_encrypted;
pub(crate) use ciphers::{FileCipher, PAGE, RESERVED, known};
#[cfg(feature = "encryption")]
pub(crate) use ciphers::{SALT, always, as_text, fits, key_of_all, learn};
pub(crate) use commits::{WhichRows, Written};
pub(crate) use connection::Connection;
pub(crate) use facts::{MADE, Pages, marking};
pub(crate) use fault::{Fault, FaultKind};
pub(crate) use in_place::{Displaced, InPlace, Seen, identity, seen};
#[cfg(feature = "inspect")]
pub(crate) use log_beside::{Encrypted, LogBeside, log_beside};
pub(crate) use log_beside::{alone_with_log, fits_its_log, hold_empty, transactions_in};
#[cfg(feature = "encryption")]
pub(crate) use memory::pour_encrypted;
pub(crate) use memory::{bytes_of, memory_place, pour_bytes};
pub(crate) use open_here::{PastEngine, is_open_here};
pub(crate) use opener::{Opener, Settings};
pub(crate) use participant::{Course, Moment, Participant};
pub(crate) use pool::{Pool, SharedWriter, Writer};
pub(crate) use report::{Ran, Reporting};
#[cfg(feature = "encryption")]
pub(crate) use rewriting::HeldFile;
pub(crate) use seals::{Find, Seals};
pub(crate) use statement::{Placed, Row, Rows, Statement, WithoutKey};
pub(crate) use traceless::Traceless;
pub(crate) use transaction::Transaction;
pub(crate) use whole_copy::{copy_from, copy_whole};

/// The version of the engine, for messages.
pub(crate) fn version() -> &'static str {
    rusqlite::version()
}
