//! The pure core of Velvet Drawer: what a record looks like as a table, how its values are stored, what a condition
//! says and what the statements read. Nothing here opens a file, reads a clock, starts a thread or knows the engine, so
//! all of it is tested by calling it.
//!
//! Apps depend on `velvet-drawer`, which re-exports what they need from here.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod column_type;
pub mod evolve;
pub mod exchange;
pub mod file;
pub mod live;
pub mod named;
pub mod query;
pub mod records;
pub mod schema;
pub mod sealing;
pub mod search;
pub mod statement;
pub mod value;

pub use column_type::{
    Choice, ColumnType, Comparable, Json, Misfit, Optional, Output, Shape, StoredAs, Summed, Textual,
};
pub use named::named_value::NamedValue;
pub use named::settings::Settings;
pub use query::argument::Argument;
pub use query::assignment::{Assignment, Assignments};
pub use query::collation::{Collation, TextOrder};
pub use query::column::{
    Column, Computed, Group, InJson, Inside, LinkOf, LinkedFrom, Links, Named, Nested, Nesting, Term,
};
pub use query::condition::Condition;
pub use query::excerpt::{Excerpt, ExcerptOf};
pub use query::fragment::Fragment;
pub use query::order::{Order, Orders};
pub use query::pick::{Pick, Picked};
pub use query::sealed_column::SealedColumn;
pub use records::edit::Edit;
pub use records::key::Key;
pub use records::outside_file::OutsideFile;
pub use records::record::{Keyed, Record, Searchable, Shared, Sink, Source};
pub use records::stored::Stored;
pub use search::marked::Marked;
pub use value::{Value, ValueRef};
