//! Searching by words: what a person typed as an expression of the search index, and text with its matching parts.

use std::fmt;
use std::ops::Range;

/// The expression of the search index for what somebody typed: every word must be there, the last one may go on. Nothing
/// when no word was typed.
///
/// Whatever is typed is a list of words: quotes, operators and signs are none of them.
///
/// ```
/// use velvet_core::search::expression;
/// assert_eq!(expression("cob mat").as_deref(), Some(r#""cob" "mat"*"#));
/// assert_eq!(expression("cob OR \"mat\" ").as_deref(), Some(r#""cob" "OR" "mat""#));
/// assert_eq!(expression(" * ( 🏺"), None);
/// ```
pub fn expression(typed: &str) -> Option<String> {
    let mut out = String::new();
    let words = typed.split(|c: char| !is_part_of_word(c)).filter(|word| word.chars().any(char::is_alphanumeric));
    for word in words {
        out.push_str(if out.is_empty() { "\"" } else { " \"" });
        out.push_str(word);
        out.push('"');
    }
    if out.is_empty() {
        return None;
    }
    // A word that is followed by something is finished.
    if typed.ends_with(is_part_of_word) {
        out.push('*');
    }
    Some(out)
}

/// Letters and digits, and the marks that go with letters.
fn is_part_of_word(c: char) -> bool {
    c.is_alphanumeric() || ('\u{300}'..='\u{36f}').contains(&c)
}

/// What stands before a matching part in the engine's snippets.
pub const MATCH_BEGINS: char = '\u{2}';

/// What stands after it.
pub const MATCH_ENDS: char = '\u{3}';

/// Text with its matching parts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Marked {
    text: String,
    matches: Vec<Range<usize>>,
}

impl Marked {
    /// A text, and the ranges of bytes in it that match.
    pub fn new(text: String, matches: Vec<Range<usize>>) -> Marked {
        Marked { text, matches }
    }

    /// A text in which [`MATCH_BEGINS`] and [`MATCH_ENDS`] stand around what matches.
    pub fn from_snippet(snippet: &str) -> Marked {
        let mut marked = Marked::default();
        let mut begun = None;
        for c in snippet.chars() {
            match c {
                MATCH_BEGINS => begun = Some(marked.text.len()),
                MATCH_ENDS => marked.matches.extend(begun.take().map(|from| from..marked.text.len())),
                c => marked.text.push(c),
            }
        }
        marked
    }

    /// The text without marks.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The ranges of bytes that match, in order.
    pub fn matches(&self) -> &[Range<usize>] {
        &self.matches
    }

    /// The text in parts, and whether each of them matches.
    ///
    /// ```
    /// use velvet_core::search::Marked;
    /// let marked = Marked::new("matt cobalt".into(), vec![5..8]);
    /// assert_eq!(marked.parts().collect::<Vec<_>>(), [("matt ", false), ("cob", true), ("alt", false)]);
    /// assert_eq!(marked.with("<b>", "</b>"), "matt <b>cob</b>alt");
    /// ```
    pub fn parts(&self) -> impl Iterator<Item = (&str, bool)> {
        let mut at = 0;
        let mut parts = Vec::with_capacity(self.matches.len() * 2 + 1);
        for range in &self.matches {
            parts.push((self.text.get(at..range.start).unwrap_or_default(), false));
            parts.push((self.text.get(range.clone()).unwrap_or_default(), true));
            at = range.end;
        }
        parts.push((self.text.get(at..).unwrap_or_default(), false));
        parts.into_iter().filter(|(part, _)| !part.is_empty())
    }

    /// The text with these words around each part that matches.
    pub fn with(&self, before: &str, after: &str) -> String {
        self.parts().fold(String::new(), |mut out, (part, matches)| {
            out.push_str(if matches { before } else { "" });
            out.push_str(part);
            out.push_str(if matches { after } else { "" });
            out
        })
    }
}

/// The text with brackets around each part that matches.
impl fmt::Display for Marked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.with("[", "]"))
    }
}
