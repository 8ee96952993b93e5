//! What a drawer tells the app's log, where the feature `tracing` is on.
//!
//! The order is part of the promise: `configured`; then, as they apply, `shipped`, `set aside`, `adopted`, `created` or a
//! `step` for each version and `upgraded`; then `opened`; and at the end `closed`. Whatever goes wrong ends in `failed`.
//! In between, `not noted` tells that a session could not be written down, `log is large` that a read keeps the write-ahead log from being merged, `slow` tells of statements that took long, and `statement` of all, where that is asked.

use crate::engine::{Ran, Reporting};
use crate::error::Error;
use std::path::Path;
use std::time::Duration;

/// How long a statement takes that is told of as slow, unless said otherwise.
const SLOW: Duration = Duration::from_millis(250);

/// Tells of statements that are slow, where anybody can be told anything.
pub(crate) fn reporting() -> Reporting {
    let to: fn(&Ran<'_>) = statement;
    Reporting { to: cfg!(feature = "tracing").then_some(to), slow: Some(SLOW), ..Reporting::default() }
}

#[cfg(feature = "tracing")]
macro_rules! event {
    ($level:ident, $($part:tt)*) => {
        tracing::$level!(target: "velvet_drawer", $($part)*)
    };
}

/// Without the feature, the values are looked at by nobody.
#[cfg(not(feature = "tracing"))]
macro_rules! event {
    ($level:ident, $($name:ident = $(%)? $value:expr,)* $what:literal) => {
        {
            $(let _ = &$value;)*
        }
    };
}

/// An app asks for the drawer at a path.
pub(crate) fn configured(path: &Path, app: &str, version: u32) {
    event!(info, file = %path.display(), app = %app, version = version, "configured");
}

/// One version's part of an upgrade is done. It is kept only when the whole upgrade is.
pub(crate) fn step(path: &str, version: u32, did: &[String], rows: u64, took: Duration) {
    let (did, took) = (did.join("; "), millis(took));
    event!(info, file = %path, version = version, did = %did, rows = rows, took_ms = took, "step");
}

/// The file that ships with the app was copied to its place.
pub(crate) fn shipped(path: &Path) {
    event!(info, file = %path.display(), "shipped");
}

/// The file that was there was set aside.
pub(crate) fn set_aside(path: &Path, place: &Path) {
    event!(warn, file = %path.display(), place = %place.display(), "set aside");
}

/// A file from before was taken over.
pub(crate) fn adopted(path: &Path, version: u32) {
    event!(info, file = %path.display(), version = version, "adopted");
}

/// The file was created.
pub(crate) fn created(path: &Path, version: u32) {
    event!(info, file = %path.display(), version = version, "created");
}

/// The file was upgraded.
pub(crate) fn upgraded(path: &Path, from: u32, version: u32, backup: Option<&Path>) {
    let backup = backup.map(|b| b.display().to_string()).unwrap_or_default();
    event!(info, file = %path.display(), from = from, version = version, backup = %backup, "upgraded");
}

/// The drawer is open.
pub(crate) fn opened(path: &Path, version: u32, took: Duration) {
    event!(info, file = %path.display(), version = version, took_ms = millis(took), "opened");
}

/// The drawer is closed.
pub(crate) fn closed(path: &Path, version: u32) {
    event!(info, file = %path.display(), version = version, "closed");
}

/// Opening failed.
pub(crate) fn failed(path: &Path, error: &Error) {
    event!(error, file = %path.display(), reason = %error, "failed");
}

/// The write-ahead log has grown, and somebody keeps it from being merged.
pub(crate) fn log_is_large(path: &Path, bytes: u64, held: &str) {
    event!(warn, file = %path.display(), bytes = bytes, held = %held, "log is large");
}

/// What the session did could not be noted in the file; the app goes on.
pub(crate) fn not_noted(path: &Path, reason: &str) {
    event!(warn, file = %path.display(), reason = %reason, "not noted");
}

/// What is stored for a setting cannot be read; it is as by default.
pub(crate) fn unreadable_setting(path: &Path, error: &Error) {
    event!(warn, file = %path.display(), reason = %error, "unreadable setting");
}

/// A statement was run that was slow, or any where all are to be told.
fn statement(ran: &Ran<'_>) {
    let (file, text, rows, took) = (ran.file.display(), ran.text, ran.rows, micros(ran.took));
    match ran.is_slow {
        true => event!(warn, file = %file, statement = %text, rows = rows, took_us = took, "slow"),
        false => event!(debug, file = %file, statement = %text, rows = rows, took_us = took, "statement"),
    }
}

fn micros(took: Duration) -> u64 {
    u64::try_from(took.as_micros()).unwrap_or(u64::MAX)
}

fn millis(took: Duration) -> u64 {
    u64::try_from(took.as_millis()).unwrap_or(u64::MAX)
}
