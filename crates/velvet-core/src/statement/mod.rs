//! The text of statements. Names are quoted, values are always bound.

mod attachments;
mod create;
pub mod linked;
mod search;
mod select;
mod sessions;
mod shared;
mod trail;
mod unlinked;

pub use attachments::{
    CONTENT_WITH_HASH, CONTENTS_OF_NONE, GET_PART, INSERT_ATTACHMENT, INSERT_PART, PART, PARTS_BETWEEN, REMOVE_PARTS,
    part_key, part_keys,
};
pub(crate) use attachments::{create_attachments, drop_attachments};
pub(crate) use create::column_definition;
pub use create::{create_index, create_table};
pub use search::{
    SEARCH_INDEX, UNINDEXED, forget_missing, forget_notes, index_row, indexed_rows, noted_rows, remake_search,
};
pub(crate) use search::{create_search, drop_search, search_index};
pub use select::{Followed, SPARE_ROWS, Select, SomeRows};
pub use sessions::{CREATE_SESSIONS, SESSIONS};
pub use shared::{CHANGES, moment_upon};
pub(crate) use shared::{create_shared, drop_shared, fill_shared, forget_shared, rename_shared, told_by_key_of};
pub use trail::{SPANS, TRAIL, Trail, WRITES, WRITING, create_trail_tables};
pub(crate) use trail::{create_trail, drop_trail, rename_trail};
pub(crate) use unlinked::{create_unlinked, drop_unlinked};

use crate::records::record::Record;
use crate::value::name::{KEY_COLUMN, quoted};

/// The moment, with the digits that all moments in a file have.
const NOW: &str = "strftime('%Y-%m-%dT%H:%M:%f', 'now') || '000000Z'";

/// A text as a literal.
fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Removes the records of `T` whose keys are in a list, which is bound as JSON.
pub fn remove_listed<T: Record>() -> String {
    let (table, key) = (quoted(T::TABLE), quoted(KEY_COLUMN));
    format!("DELETE FROM {table} WHERE {key} IN (SELECT value FROM json_each(?1))")
}
