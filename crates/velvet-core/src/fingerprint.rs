//! A short text that is the same for the same structure, on every machine and in every build.

use crate::structure::Structure;
use std::hash::Hasher;

/// The fingerprint of a structure: 16 hexadecimal digits, the 64-bit FNV-1a sum of its JSON form.
///
/// It tells an unchanged structure from a changed one without reading the file's; it is no protection against forgery.
/// The order of tables, columns and indexes does not count.
pub fn of(structure: &Structure) -> String {
    let mut sum = fnv::FnvHasher::default();
    // A structure is strings, lists and flags, which always have a JSON form.
    sum.write(serde_json::to_string(&structure.canonical()).unwrap_or_default().as_bytes());
    format!("{:016x}", sum.finish())
}
