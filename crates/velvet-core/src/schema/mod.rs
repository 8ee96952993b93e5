//! The structure of a drawer as data, and what tells two structures apart.

pub mod draft;
pub mod fingerprint;
pub mod hints;
pub mod physical;
pub mod structure;
