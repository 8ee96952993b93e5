//! What the engine says when it cannot do something.

use super::Displaced;
use super::seals::{DOES_NOT_OPEN, FAILS};
use rusqlite::ffi::{self, ErrorCode};
use std::io;
use std::time::Duration;

/// A refusal of the engine.
#[derive(Debug)]
pub(crate) struct Fault {
    pub(crate) kind: FaultKind,
    /// The engine's own words.
    pub(crate) message: String,
}

/// Why the engine refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum FaultKind {
    /// Another connection holds a lock for longer than the waiting time.
    Locked,
    /// The device has no space left.
    NoSpace,
    /// The file or its folder cannot be written.
    ReadOnly,
    /// The write-ahead log next to the file belongs to another state of it.
    ForeignLog,
    /// The file that was opened is not the one at its path any more.
    Displaced(Displaced),
    /// The file cannot be opened.
    CannotOpen,
    /// There is no folder for temporary files.
    NoTemporaryFolder,
    /// The file is no database, or an encrypted one.
    NotADatabase,
    /// The file is a database, but damaged.
    Damaged,
    /// These columns (`table.column`) would hold a value twice.
    Clash(Vec<String>),
    /// A link would lead nowhere.
    Link,
    /// A trigger of the file's raised an error of its own.
    Trigger,
    /// A column does not take a value: nothing where something must be, text where a number must be.
    Unfit,
    /// What must be a whole number, such as a row number or a limit, is none.
    NotWhole,
    /// This table is not in the file.
    NoTable(String),
    /// This column is not in the table.
    NoColumn(String),
    /// A value is larger than the engine takes.
    TooBig,
    /// A sum of whole numbers is larger than the engine counts.
    SumTooBig,
    /// The statement has too many conditions or values in it.
    TooLong,
    /// The device failed to read or write.
    Device,
    /// The statement is not allowed here.
    Forbidden,
    /// The transaction is over: the engine rolled it back after an earlier fault of this kind.
    RolledBack(Box<FaultKind>),
    /// It was asked to stop, or what the file defines took longer than this.
    Interrupted(Option<Duration>),
    /// With its views replaced by what they stand for, the statement has this many parts.
    Endless(u64),
    /// What is sealed cannot be opened, or nothing can be sealed, without the key.
    Shut,
    /// What is sealed is not what was sealed there.
    Altered,
    /// A computed value is larger than the whole file.
    OutOfProportion,
    /// Anything else.
    Other,
}

impl Fault {
    /// A refusal of the device.
    pub(super) fn device(error: &io::Error) -> Fault {
        let kind = match error.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => FaultKind::NoSpace,
            _ => FaultKind::Device,
        };
        Fault { kind, message: error.to_string() }
    }
}

impl From<rusqlite::Error> for Fault {
    fn from(error: rusqlite::Error) -> Fault {
        let message = match &error {
            rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            other => other.to_string(),
        };
        let code = match &error {
            rusqlite::Error::SqlInputError { error, .. } => Some(error),
            other => other.sqlite_error(),
        };
        let kind = code.map_or(FaultKind::Other, |code| kind(*code, &message));
        let message = match kind {
            FaultKind::NoTemporaryFolder => "no folder for temporary files can be written".into(),
            _ => message,
        };
        Fault { kind, message }
    }
}

fn kind(code: ffi::Error, message: &str) -> FaultKind {
    match (code.code, code.extended_code) {
        (_, ffi::SQLITE_CONSTRAINT_UNIQUE | ffi::SQLITE_CONSTRAINT_PRIMARYKEY) => {
            let columns = message.split_once(": ").map_or("", |(_, list)| list);
            FaultKind::Clash(columns.split(", ").map(str::to_owned).collect())
        }
        (_, ffi::SQLITE_CONSTRAINT_FOREIGNKEY) => FaultKind::Link,
        // What the engine itself raises for a link that refuses at once.
        (_, ffi::SQLITE_CONSTRAINT_TRIGGER) if message == "FOREIGN KEY constraint failed" => FaultKind::Link,
        (_, ffi::SQLITE_CONSTRAINT_TRIGGER) => FaultKind::Trigger,
        (ErrorCode::ConstraintViolation, _) => FaultKind::Unfit,
        (ErrorCode::TypeMismatch, _) => FaultKind::NotWhole,
        (_, ffi::SQLITE_IOERR_NOMEM) => FaultKind::Other,
        (_, ffi::SQLITE_IOERR_GETTEMPPATH) => FaultKind::NoTemporaryFolder,
        (ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked, _) => FaultKind::Locked,
        (ErrorCode::DiskFull, _) => FaultKind::NoSpace,
        // The engine's own look at whether the file is still at its path.
        (_, ffi::SQLITE_READONLY_DBMOVED) => FaultKind::Displaced(Displaced::Replaced),
        (ErrorCode::ReadOnly, _) => FaultKind::ReadOnly,
        (ErrorCode::CannotOpen | ErrorCode::PermissionDenied, _) => FaultKind::CannotOpen,
        (ErrorCode::NotADatabase, _) => FaultKind::NotADatabase,
        (ErrorCode::DatabaseCorrupt, _) => FaultKind::Damaged,
        (ErrorCode::TooBig, _) => FaultKind::TooBig,
        (ErrorCode::SystemIoFailure, _) => FaultKind::Device,
        (ErrorCode::OperationInterrupted, _) => FaultKind::Interrupted(None),
        (ErrorCode::AuthorizationForStatementDenied, _) => FaultKind::Forbidden,
        _ if message.contains(FAILS) => FaultKind::Shut,
        _ if message.contains(DOES_NOT_OPEN) => FaultKind::Altered,
        _ if message == "integer overflow" => FaultKind::SumTooBig,
        _ if message.starts_with("Expression tree is too large")
            || message.starts_with("too many SQL variables")
            || message == "parser stack overflow" =>
        {
            FaultKind::TooLong
        }
        _ => match message.split_once(": ") {
            Some(("no such table", name)) => FaultKind::NoTable(name.trim_start_matches("main.").to_owned()),
            Some(("no such column", name)) => FaultKind::NoColumn(name.to_owned()),
            _ => FaultKind::Other,
        },
    }
}
