//! Names in statements and messages: quoting, and the nearest one to a word that was mistyped.

/// The column that holds every record's row number.
pub const KEY_COLUMN: &str = "key";

/// `name` in double quotes, so that it is a name in a statement whatever it contains.
pub fn quoted(name: &str) -> String {
    let mut out = String::with_capacity(name.len() + 2);
    push_quoted(&mut out, name);
    out
}

/// Appends `name` to a statement as [`quoted`] writes it.
pub(crate) fn push_quoted(out: &mut String, name: &str) {
    out.push('"');
    for c in name.chars() {
        if c == '"' {
            out.push('"');
        }
        out.push(c);
    }
    out.push('"');
}

/// The candidate that `word` was most likely meant to be, if one is near enough to suggest.
///
/// ```
/// use velvet_core::value::name::nearest;
/// assert_eq!(nearest("peice", ["glaze", "piece"]), Some("piece"));
/// assert_eq!(nearest("zebra", ["glaze", "piece"]), None);
/// ```
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let word = word.to_lowercase();
    candidates
        .into_iter()
        .map(|c| (strsim::damerau_levenshtein(&word, &c.to_lowercase()), c))
        .filter(|(distance, c)| *distance * 3 <= c.chars().count().max(3))
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, c)| c)
}
