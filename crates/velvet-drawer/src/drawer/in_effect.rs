//! The options that hold for the whole time that a file is open, for all handles to it.

use crate::device::clock::Clock;
use std::path::PathBuf;
use std::time::Duration;

/// The options that hold for the whole time that a file is open, for all handles to it.
#[derive(Clone, Debug, Default)]
pub(crate) struct InEffect {
    /// Which trails are kept, in words; empty where none are.
    pub(crate) trails: String,
    pub(crate) relaxed: bool,
    /// Whether the whole file is encrypted.
    pub(crate) encrypted: bool,
    /// Whether nothing is written through it.
    pub(crate) read_only: bool,
    pub(crate) files_root: Option<PathBuf>,
    pub(crate) without_sessions: bool,
    /// How many bytes the write-ahead log may have before writing is refused.
    pub(crate) log_at_most: Option<u64>,
    /// Within which time what others commit is noticed.
    pub(crate) others_within: Option<Duration>,
    /// What fills the columns that hold the moment of a write.
    pub(crate) clock: Clock,
}

impl InEffect {
    /// The options that were asked for, and that are not in effect for a file that is open already.
    pub(crate) fn lacks(&self, asked: &InEffect) -> Vec<&'static str> {
        let root = asked.files_root.is_some() && asked.files_root != self.files_root;
        [
            (!asked.trails.is_empty() && asked.trails != self.trails, "trail"),
            (asked.relaxed && !self.relaxed, "relaxed"),
            (asked.encrypted != self.encrypted, "encrypted"),
            (asked.read_only != self.read_only, "read_only"),
            (root, "files_root"),
            (asked.without_sessions && !self.without_sessions, "without_sessions"),
            (asked.log_at_most.is_some() && asked.log_at_most != self.log_at_most, "wal_at_most"),
            (asked.others_within.is_some() && asked.others_within != self.others_within, "others_noticed_within"),
        ]
        .into_iter()
        .filter_map(|(lacks, name)| lacks.then_some(name))
        .collect()
    }
}
