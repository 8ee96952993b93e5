//! What a file keeps of who wrote what: sessions and trails.

pub(crate) mod sessions;
pub(crate) mod trails;
