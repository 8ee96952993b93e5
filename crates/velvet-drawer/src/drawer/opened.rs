//! What opening a drawer came to.

use crate::evolve::{Adopted, Upgraded};
use std::path::PathBuf;

/// What opening a drawer came to.
#[derive(Clone, Debug, Default)]
pub struct Opened {
    /// Whether the file was created.
    pub created: bool,
    /// Whether the file that ships with the app was copied to its place.
    pub shipped: bool,
    /// What was taken over, when the app kept the file before it used this library.
    pub adopted: Option<Adopted>,
    /// What was upgraded, when the file had an older version.
    pub upgraded: Option<Upgraded>,
    /// Where the file that was there was set aside, before a new one was created.
    pub set_aside: Option<PathBuf>,
    /// Where a write-ahead log that belongs to a different version of the file was set aside, with [`Options::set_aside_foreign_log`](crate::Options::set_aside_foreign_log).
    pub log_set_aside: Option<PathBuf>,
}

impl Opened {
    /// What it came to, in words; nothing where the file was only opened.
    pub(crate) fn in_words(&self) -> Option<String> {
        let mut words = Vec::new();
        words.extend(self.set_aside.is_some().then(|| "the file before was set aside".to_owned()));
        words.extend(self.log_set_aside.is_some().then(|| "a foreign write-ahead log was set aside".to_owned()));
        words.extend(self.shipped.then(|| "copied from the app's own file".to_owned()));
        words.extend(self.adopted.as_ref().map(|a| format!("taken over at version {}", a.version)));
        words.extend(self.created.then(|| "created".to_owned()));
        words.extend(self.upgraded.as_ref().map(|u| format!("upgraded from version {}", u.from)));
        if words.is_empty() { None } else { Some(words.join(", ")) }
    }
}
