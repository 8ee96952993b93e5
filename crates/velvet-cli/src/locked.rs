//! What is said of an encrypted file whose key was not given.

use crate::clean::named;
use crate::failure::Failure;
use std::path::Path;
use velvet_core::exchange::show::count;
use velvet_drawer::Error;
use velvet_drawer::inspect::{SeemsEncrypted, seems_encrypted};

/// How the key is given, as advice.
pub(crate) const GIVE_KEY: &str = if cfg!(feature = "encryption") {
    "Give its key with --key-file FILE, or type it with --ask-key"
} else {
    "This `velvet` was built without ciphers; one that takes keys is built by `cargo build --release -p velvet-cli --features encryption`"
};

/// The file at a path, where it cannot be opened because it seems to be encrypted.
pub(crate) fn locked(path: &Path, error: &Error) -> Option<SeemsEncrypted> {
    Some(path).filter(|_| error.is_not_a_database()).and_then(|path| seems_encrypted(path).ok()?)
}

/// What is known of it, in one sentence.
pub(crate) fn known(found: &SeemsEncrypted) -> String {
    let log = match found.pages_in_log {
        0 => String::new(),
        pages => format!(", and {} of newer changes in the write-ahead log beside it", of(pages)),
    };
    format!("It seems to be encrypted: {} of 4,096 bytes that look random{log}", of(found.pages))
}

fn of(pages: u64) -> String {
    count(usize::try_from(pages).unwrap_or(usize::MAX), "page")
}

/// The failure that opening a file comes to, with what can be known where it seems to be encrypted.
pub(crate) fn failure(path: &Path, error: Error) -> Failure {
    match locked(path, &error) {
        Some(found) => Failure::new(format!("{} cannot be read. {}. {GIVE_KEY}", named(path), known(&found))),
        None => error.into(),
    }
}
