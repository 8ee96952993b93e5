//! Finding the table or column that somebody means by a word.

use crate::error::{Cause, Error};
use velvet_core::value::name::nearest;

/// The one of `names` that `word` means: the same, the same but for large and small letters, or the only one that
/// begins with it. `what` names what is looked for, `all` where it is looked for.
pub(super) fn meant<'n>(word: &str, names: &'n [String], what: &str, place: &str) -> Result<&'n String, Error> {
    if let Some(name) = names.iter().find(|n| *n == word) {
        return Ok(name);
    }
    let lower = word.to_lowercase();
    let same: Vec<&String> = names.iter().filter(|n| n.to_lowercase() == lower).collect();
    let beginning: Vec<&String> =
        names.iter().filter(|n| !word.is_empty() && n.to_lowercase().starts_with(&lower)).collect();
    match (same.as_slice(), beginning.as_slice()) {
        ([name], _) | ([], [name]) => return Ok(name),
        ([], []) => {}
        ([], several) | (several, _) => {
            let list = several.iter().map(|n| n.as_str()).collect::<Vec<_>>().join(", ");
            return Err(Error::new(
                Cause::BadQuery,
                format!("`{word}` could be several of the {what}s of {place}: {list}"),
            )
            .advise("Write more of the name"));
        }
    }
    let error = Error::new(Cause::BadQuery, format!("there is no {what} `{word}` in {place}"));
    Err(match nearest(word, names.iter().map(String::as_str)) {
        Some(near) => error.advise(format!("Did you mean `{near}`?")),
        None if names.is_empty() => error.advise(format!("It has no {what}s")),
        None => error.advise(format!("It has: {}", names.join(", "))),
    })
}
