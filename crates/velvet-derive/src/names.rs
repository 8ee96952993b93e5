//! Names of tables, columns and choices: how they follow from Rust names, and which are refused.

use heck::ToSnakeCase;
use syn::Ident;
use syn::ext::IdentExt;

/// The column that every table has for its row numbers.
pub(crate) const KEY_COLUMN: &str = "key";

/// The stored name of a Rust name: in snake case, without the `r#` of a raw identifier.
pub(crate) fn stored(ident: &Ident) -> String {
    ident.unraw().to_string().to_snake_case()
}

/// Says why `name` cannot be a table's or column's name, or nothing when it can.
pub(crate) fn objection(name: &str) -> Option<String> {
    let lower = name.to_ascii_lowercase();
    if name.is_empty() {
        return Some("a name cannot be empty".into());
    }
    for prefix in ["sqlite_", "velvet_"] {
        if lower.starts_with(prefix) {
            return Some(format!("`{name}` begins with `{prefix}`, which is kept for the file's own bookkeeping"));
        }
    }
    let odd = name.chars().find(|c| !(c.is_alphanumeric() || matches!(c, '_' | '-')))?;
    Some(format!("`{name}` contains {odd:?}; names are made of letters, digits, `_` and `-`"))
}

/// “did you mean …?” for a word that is near to a known one, else nothing.
pub(crate) fn suggestion<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(word, k), k))
        .filter(|(distance, k)| *distance * 3 <= k.len().max(3))
        .min()
        .map(|(_, k)| format!("; did you mean `{k}`?"))
        .unwrap_or_default()
}
