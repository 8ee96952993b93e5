//! What is asked of records: conditions, orders, new values, and what rows are read as.

pub mod argument;
pub mod assignment;
pub mod collation;
pub mod column;
pub mod condition;
pub mod excerpt;
pub mod field;
pub mod fragment;
pub mod list_place;
pub mod order;
pub mod pick;
pub mod sealed_column;
pub mod sort_key;
