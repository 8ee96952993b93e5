//! The file as bytes, as the documentation of the open format describes it.

pub mod b_tree;
pub mod header;
pub mod wal;
