//! The forms that parts of reports have when they are serialized, where those are not the plain ones.

use super::{FoundColumn, FoundTable, WrittenColumn};
use serde::{Serialize, Serializer};
use std::path::Path;
use velvet_core::exchange::Exported;
use velvet_core::{Marked, Value};

/// Columns and their values, as an object.
#[derive(Serialize)]
#[serde(transparent)]
struct AsObject<'a, K: Serialize, V: Serialize>(#[serde(serialize_with = "cells")] &'a [(K, V)]);

/// Columns and their values, as an object.
pub(super) fn cells<K: Serialize, V: Serialize, S: Serializer>(cells: &[(K, V)], to: S) -> Result<S::Ok, S::Error> {
    to.collect_map(cells.iter().map(|(name, value)| (name, value)))
}

/// As [`cells`], where there may be none.
pub(super) fn cells_if_any<S: Serializer>(cells: &Option<Vec<(String, Value)>>, to: S) -> Result<S::Ok, S::Error> {
    cells.as_deref().map(AsObject).serialize(to)
}

/// A list of what [`cells`] makes.
pub(super) fn list_of_cells<S: Serializer>(all: &[Vec<(String, Value)>], to: S) -> Result<S::Ok, S::Error> {
    to.collect_seq(all.iter().map(|cells| AsObject(cells)))
}

/// Columns, and their values before and after, as an object.
pub(super) fn both<V: Serialize, S: Serializer>(cells: &[(&str, V, V)], to: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Both<'a, V> {
        before: &'a V,
        after: &'a V,
    }
    to.collect_map(cells.iter().map(|(name, before, after)| (name, Both { before, after })))
}

/// The columns of a row and their values, by what the columns hold.
pub(super) fn row<S: Serializer>(columns: &[(FoundColumn, Value)], to: S) -> Result<S::Ok, S::Error> {
    to.collect_map(columns.iter().map(|(c, v)| (&c.name, Exported(v.as_ref(), c.kind.as_ref()))))
}

/// The columns that were written, as an object.
pub(super) fn written<S: Serializer>(columns: &[WrittenColumn], to: S) -> Result<S::Ok, S::Error> {
    to.collect_map(columns.iter().map(|column| (&column.name, column)))
}

/// The columns in which words were found, each with its text in parts.
pub(super) fn marked<S: Serializer>(columns: &[(String, Marked)], to: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Part<'a> {
        text: &'a str,
        matches: bool,
    }
    #[derive(Serialize)]
    struct Column<'a> {
        name: &'a str,
        parts: Vec<Part<'a>>,
    }
    to.collect_seq(columns.iter().map(|(name, marked)| {
        let parts = marked.parts().map(|(text, matches)| Part { text, matches }).collect();
        Column { name, parts }
    }))
}

/// A path as text, with a sign in the place of what is not Unicode.
pub(super) fn path<S: Serializer>(path: &Path, to: S) -> Result<S::Ok, S::Error> {
    to.collect_str(&path.display())
}

/// A table by its name.
pub(super) fn table<S: Serializer>(table: &FoundTable, to: S) -> Result<S::Ok, S::Error> {
    table.name.serialize(to)
}
