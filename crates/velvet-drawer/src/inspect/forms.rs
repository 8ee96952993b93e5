//! The forms that parts of reports have when they are serialized, where those are not the plain ones.

use super::{Cell, Did, Difference, FoundColumn, FoundTable, Gap, Told, WrittenColumn};
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

/// The columns of a row and their values, by what the columns hold.
pub(super) fn row<S: Serializer>(columns: &[(FoundColumn, Value)], to: S) -> Result<S::Ok, S::Error> {
    to.collect_map(columns.iter().map(|(c, v)| (&c.name, Exported(v.as_ref(), c.kind.as_ref()))))
}

/// What was written to a column: the values before and after, each where the record was there. In the place of a value that is not told
/// stands why.
#[derive(Serialize)]
struct Written<V: Serialize> {
    #[serde(skip_serializing_if = "Option::is_none")]
    before: Option<V>,
    #[serde(skip_serializing_if = "Option::is_none")]
    before_not_told: Option<NotTold>,
    #[serde(skip_serializing_if = "Option::is_none")]
    after: Option<V>,
    #[serde(skip_serializing_if = "Option::is_none")]
    after_not_told: Option<NotTold>,
}

/// Why a value is not told.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum NotTold {
    Private,
    Sealed,
    TooLong,
    NotKept,
    TrailOff,
    Upgraded,
    Replaced,
}

/// The columns that were written, as an object.
pub(super) fn written<S: Serializer>(columns: &[WrittenColumn], to: S) -> Result<S::Ok, S::Error> {
    fn told<'a>(told: &'a Told, column: &'a WrittenColumn) -> (Option<Exported<'a>>, Option<NotTold>) {
        let not_told = match told {
            Told::Value(value) => return (Some(Exported(value.as_ref(), column.kind.as_ref())), None),
            Told::NotThere => return (None, None),
            Told::Private => NotTold::Private,
            Told::Sealed => NotTold::Sealed,
            Told::TooLong(_) => NotTold::TooLong,
            Told::Unknown => NotTold::NotKept,
            Told::NotKnown(Gap::Off) => NotTold::TrailOff,
            Told::NotKnown(Gap::Upgrade) => NotTold::Upgraded,
            Told::NotKnown(Gap::Replaced) => NotTold::Replaced,
        };
        (None, Some(not_told))
    }
    to.collect_map(columns.iter().map(|column| {
        let ((before, before_not_told), (after, after_not_told)) =
            (told(&column.before, column), told(&column.after, column));
        (&column.name, Written { before, before_not_told, after, after_not_told })
    }))
}

/// Cells by the names of their columns.
struct ByName<'a>(&'a [Cell<'a>]);

impl Serialize for ByName<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_map(self.0.iter().map(|cell| (cell.name, Exported(cell.value, cell.kind))))
    }
}

/// What differs of a row, in the form of an entry of a trail.
struct Differing<'a>(&'a Difference<'a>);

impl Serialize for Differing<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        type Column<'a> = (&'a str, Written<Exported<'a>>);
        fn written<'a>(name: &'a str, before: Option<Exported<'a>>, after: Option<Exported<'a>>) -> Column<'a> {
            (name, Written { before, after, before_not_told: None, after_not_told: None })
        }
        fn of<'a>(cell: &Cell<'a>) -> Exported<'a> {
            Exported(cell.value, cell.kind)
        }
        match self.0 {
            Difference::Added { row, .. } => to.collect_map(row.iter().map(|c| written(c.name, None, Some(of(c))))),
            Difference::Removed { row, .. } => to.collect_map(row.iter().map(|c| written(c.name, Some(of(c)), None))),
            Difference::Changed { columns, .. } => to.collect_map(
                columns
                    .iter()
                    .map(|c| written(c.name, Some(Exported(c.before, c.kind)), Some(Exported(c.after, c.kind)))),
            ),
        }
    }
}

impl Serialize for Difference<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        #[derive(Serialize)]
        struct Form<'a> {
            table: &'a str,
            row: Option<i64>,
            did: Did,
            known_by: ByName<'a>,
            columns: Differing<'a>,
        }
        let (table, row, did) = (self.table(), self.row_number(), self.did());
        Form { table, row, did, known_by: ByName(self.known_by()), columns: Differing(self) }.serialize(to)
    }
}

/// Times, as objects.
pub(super) fn times<S: Serializer>(times: &[(String, Option<String>)], to: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Time<'a> {
        from: &'a str,
        to: Option<&'a str>,
    }
    to.collect_seq(times.iter().map(|(from, to)| Time { from, to: to.as_deref() }))
}

/// Numbers from one to another, both included, as objects.
pub(super) fn ranges<S: Serializer>(ranges: &[(i64, i64)], to: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Range {
        first: i64,
        last: i64,
    }
    to.collect_seq(ranges.iter().map(|(first, last)| Range { first: *first, last: *last }))
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
