//! The app's side of the phone: its folders, and what the phone tells it.

use crate::KeyStore;
use std::env;
use std::io::{self, BufRead};
use std::path::PathBuf;

pub(crate) const DURABLE: &str = "VELVET_PHONE_DURABLE";
pub(crate) const CACHE: &str = "VELVET_PHONE_CACHE";
pub(crate) const TEMPORARY: &str = "VELVET_PHONE_TEMPORARY";
pub(crate) const KEYS: &str = "VELVET_PHONE_KEYS";

/// The app's folders on this phone.
#[derive(Clone, Debug)]
pub struct Folders {
    /// For what must be kept.
    pub durable: PathBuf,
    /// For what can be made again.
    pub cache: PathBuf,
    /// For what is of use only while the app runs.
    pub temporary: PathBuf,
}

/// What the phone tells a running app.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Signal {
    /// It is in the background now, and may be killed at any time.
    Background,
    /// It is in the foreground again.
    Foreground,
    /// Somebody tapped the button with this name.
    Tap(String),
    /// It should end.
    Quit,
}

/// The folders of the app that this process is, when a phone started it.
pub fn folders() -> Option<Folders> {
    let folder = |name| env::var_os(name).map(PathBuf::from);
    Some(Folders { durable: folder(DURABLE)?, cache: folder(CACHE)?, temporary: folder(TEMPORARY)? })
}

/// The key store of the app that this process is, when a phone started it.
pub fn key_store() -> Option<KeyStore> {
    env::var_os(KEYS).map(|folder| KeyStore::at(folder.into()))
}

/// Waits for what the phone tells next. A phone that is gone asks its apps to end.
pub fn next_signal() -> Signal {
    let mut line = String::new();
    match io::stdin().lock().read_line(&mut line) {
        Ok(0) | Err(_) => Signal::Quit,
        Ok(_) => match line.trim_end().split_once(' ').unwrap_or((line.trim_end(), "")) {
            ("background", _) => Signal::Background,
            ("foreground", _) => Signal::Foreground,
            ("tap", name) => Signal::Tap(name.to_owned()),
            _ => Signal::Quit,
        },
    }
}
