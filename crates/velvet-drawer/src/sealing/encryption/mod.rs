//! Encrypted files: their keys, where those are had from, and whether one is that of a file.

mod file_key;
mod pass_phrase;
mod unlocked;

pub use file_key::FileKey;
pub(crate) use file_key::of_all;
pub use pass_phrase::PassPhrase;
pub use unlocked::Unlocked;

pub(crate) use unlocked::{is_empty, is_plain};
