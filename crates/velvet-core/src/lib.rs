//! The pure core of Velvet Drawer: what a record looks like as a table, how its values are stored, what a condition
//! says and what the statements read. Nothing here opens a file, reads a clock, starts a thread or knows the engine, so
//! all of it is tested by calling it.
//!
//! Apps depend on `velvet-drawer`, which re-exports what they need from here.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod argument;
pub mod assignment;
pub mod b_tree;
pub mod collation;
pub mod column;
pub mod column_type;
pub mod compare;
pub mod condition;
pub mod draft;
pub mod edit;
pub mod evolution;
pub mod excerpt;
pub mod exchange;
pub mod expansion;
pub mod field;
#[cfg(feature = "encryption")]
pub mod file_cipher;
pub mod fingerprint;
pub mod fits;
pub mod fragment;
pub mod header;
pub mod hex;
pub mod hints;
pub mod key;
pub mod keys;
mod letters;
pub mod list;
pub mod list_place;
pub mod marked;
pub mod name;
pub mod named_value;
pub mod nul;
pub mod order;
pub mod outside_file;
pub mod physical;
pub mod pick;
pub mod record;
pub mod record_statements;
pub mod sealed_column;
pub mod sealing;
pub mod search;
pub mod settings;
pub mod show;
pub mod sort_key;
pub mod sql_text;
pub mod stamp;
pub mod statement;
pub mod stored;
pub mod stored_form;
pub mod structure;
pub mod suggest;
pub mod value;
pub mod wal;

pub use argument::Argument;
pub use assignment::{Assignment, Assignments};
pub use collation::{Collation, TextOrder};
pub use column::{Column, Computed, Group, InJson, Inside, LinkOf, LinkedFrom, Links, Named, Nested, Nesting, Term};
pub use column_type::{
    Choice, ColumnType, Comparable, Json, Misfit, Optional, Output, Shape, StoredAs, Summed, Textual,
};
pub use condition::Condition;
pub use edit::Edit;
pub use excerpt::{Excerpt, ExcerptOf};
pub use fragment::Fragment;
pub use key::Key;
pub use marked::Marked;
pub use named_value::NamedValue;
pub use order::{Order, Orders};
pub use outside_file::OutsideFile;
pub use pick::{Pick, Picked};
pub use record::{Keyed, Record, Searchable, Shared, Sink, Source};
pub use sealed_column::SealedColumn;
pub use settings::Settings;
pub use stored::Stored;
pub use value::{Value, ValueRef};
