//! A short text that is the same for the same structure, on every machine and in every build.

use crate::schema::structure::{ColumnDefinition, Index, Structure, Table};
use serde::Serialize;
use std::hash::Hasher;
use std::io;

/// The fingerprint of a structure: 16 hexadecimal digits, the 64-bit FNV-1a sum of its JSON form.
///
/// It tells an unchanged structure from a changed one without reading the file's; it is no protection against forgery.
/// The order of tables, columns and indexes does not count. It is taken at every open, so nothing is copied for it.
pub fn of(structure: &Structure) -> String {
    let mut tables: Vec<InOrder<'_>> = structure.tables.iter().map(InOrder::of).collect();
    tables.sort_by_key(|t| t.name);
    let mut sum = Sum(fnv::FnvHasher::default());
    // A structure is strings, lists and flags, which always have a JSON form.
    let _ = serde_json::to_writer(&mut sum, &Tables { tables });
    format!("{:016x}", sum.0.finish())
}

/// A structure with tables, columns and indexes in the order of their names.
#[derive(Serialize)]
struct Tables<'s> {
    tables: Vec<InOrder<'s>>,
}

/// The members are those of a table, in the same order.
#[derive(Serialize)]
struct InOrder<'s> {
    name: &'s str,
    columns: Vec<&'s ColumnDefinition>,
    #[serde(skip_serializing_if = "Option::is_none")]
    own_key: Option<&'s str>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    indexes: Vec<&'s Index>,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    searchable: &'s [String],
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    shared: bool,
}

impl InOrder<'_> {
    fn of(table: &Table) -> InOrder<'_> {
        let mut columns: Vec<&ColumnDefinition> = table.columns.iter().collect();
        columns.sort_by_key(|c| c.name.as_str());
        let mut indexes: Vec<&Index> = table.indexes.iter().collect();
        indexes.sort_by_key(|i| i.columns.as_slice());
        InOrder {
            name: &table.name,
            columns,
            own_key: table.own_key.as_deref(),
            indexes,
            searchable: &table.searchable,
            shared: table.shared,
        }
    }
}

/// Sums what is written to it.
struct Sum(fnv::FnvHasher);

impl io::Write for Sum {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
