//! The file as a whole: where it is, making it, the space that it takes, the facts that it keeps about itself.

pub(crate) mod facts;
pub(crate) mod new_file;
pub mod place;
pub(crate) mod space;
