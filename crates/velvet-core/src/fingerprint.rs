//! A short text that is the same for the same structure, on every machine and in every build.

use crate::structure::Structure;
use std::hash::Hasher;

/// The fingerprint of a structure: 16 hexadecimal digits, the 64-bit FNV-1a sum of its JSON form.
///
/// It tells an unchanged structure from a changed one without reading the file's; it is no protection against forgery.
/// The order of tables, columns and indexes does not count: a column that was added later stands last in its file.
pub fn of(structure: &Structure) -> String {
    let mut structure = structure.clone();
    structure.tables.sort_by(|a, b| a.name.cmp(&b.name));
    for table in &mut structure.tables {
        table.columns.sort_by(|a, b| a.name.cmp(&b.name));
        table.indexes.sort_by(|a, b| a.columns.cmp(&b.columns));
    }
    let mut sum = fnv::FnvHasher::default();
    // A structure is strings, lists and flags, which always have a JSON form.
    sum.write(serde_json::to_string(&structure).unwrap_or_default().as_bytes());
    format!("{:016x}", sum.finish())
}
