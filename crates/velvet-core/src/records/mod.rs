//! Records: a plain type as a table, the key of a stored one, and what is written of it.

pub mod edit;
pub mod fits;
pub mod key;
pub mod nul;
pub mod outside_file;
pub mod record;
pub mod record_statements;
pub mod stamp;
pub mod stored;
pub mod stored_form;
