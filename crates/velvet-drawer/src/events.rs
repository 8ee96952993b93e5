//! What a drawer tells the app's log, where the feature `tracing` is on.
//!
//! The order is part of the promise: `configured`; then, as they apply, `shipped`, `set aside`, `adopted`, `created` or a
//! `step` for each version and `upgraded`; then `opened`; and at the end `closed`. Whatever goes wrong ends in `failed`.
//! In between, `not noted` tells that a session could not be written down, `slow` tells of statements that took long, and `statement` of all, where that is asked.

use crate::error::Error;
use crate::opening::Opened;
use crate::schema::Declared;
use crate::upgrading::UpgradedStep;
use std::path::Path;
use std::time::Duration;

/// Whether anybody can be told anything.
pub(crate) const ARE_ON: bool = cfg!(feature = "tracing");

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
pub(crate) fn configured(path: &Path, declared: &Declared) {
    event!(info, file = %path.display(), app = %declared.app, version = declared.version, "configured");
}

/// One version's part of an upgrade is done. It is kept only when the whole upgrade is.
pub(crate) fn step(path: &str, step: &UpgradedStep) {
    let (did, took) = (step.did.join("; "), millis(step.took));
    event!(info, file = %path, version = step.version, did = %did, rows = step.rows, took_ms = took, "step");
}

/// The drawer is open: how that came about, and that it is.
pub(crate) fn opened(path: &Path, declared: &Declared, opened: &Opened, took: Duration) {
    let file = path.display();
    if opened.shipped {
        event!(info, file = %file, "shipped");
    }
    if let Some(place) = &opened.set_aside {
        event!(warn, file = %file, place = %place.display(), "set aside");
    }
    if let Some(adopted) = &opened.adopted {
        event!(info, file = %file, version = adopted.version, "adopted");
    }
    if opened.created {
        event!(info, file = %file, version = declared.version, "created");
    }
    if let Some(upgraded) = &opened.upgraded {
        let backup = upgraded.backup.as_ref().map(|b| b.display().to_string()).unwrap_or_default();
        event!(info, file = %file, from = upgraded.from, version = declared.version, backup = %backup, "upgraded");
    }
    event!(info, file = %file, version = declared.version, took_ms = millis(took), "opened");
}

/// The drawer is closed.
pub(crate) fn closed(path: &Path, version: u32) {
    event!(info, file = %path.display(), version = version, "closed");
}

/// Opening failed.
pub(crate) fn failed(path: &Path, error: &Error) {
    event!(error, file = %path.display(), reason = %error, "failed");
}

/// What the session did could not be noted in the file; the app goes on.
pub(crate) fn not_noted(path: &Path, reason: &str) {
    event!(warn, file = %path.display(), reason = %reason, "not noted");
}

/// A statement was run, where all are to be told.
pub(crate) fn statement(path: &Path, text: &str, rows: u64, took: Duration) {
    event!(debug, file = %path.display(), statement = %text, rows = rows, took_us = micros(took), "statement");
}

/// A statement took long.
pub(crate) fn slow(path: &Path, text: &str, rows: u64, took: Duration) {
    event!(warn, file = %path.display(), statement = %text, rows = rows, took_us = micros(took), "slow");
}

fn micros(took: Duration) -> u64 {
    u64::try_from(took.as_micros()).unwrap_or(u64::MAX)
}

fn millis(took: Duration) -> u64 {
    u64::try_from(took.as_millis()).unwrap_or(u64::MAX)
}
