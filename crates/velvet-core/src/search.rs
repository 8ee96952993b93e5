//! Searching by words: what a person typed as an expression of the search index, and text with its matching parts.

use crate::suggest::{find_ascii, plain};
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

/// Words that are looked for in texts one after the other, without an index: each anywhere in a text, whatever its case and accents.
///
/// ```
/// use velvet_core::search::Words;
/// let words = Words::of("cela MATT");
/// assert_eq!(words.find("A matt Céladon"), [(1, 2..6), (0, 7..12)]);
/// assert!(words.find("iron").is_empty());
/// ```
#[derive(Clone, Debug)]
pub struct Words(Vec<Vec<char>>);

impl Words {
    /// What somebody typed.
    pub fn of(typed: &str) -> Words {
        Words(
            typed
                .split_whitespace()
                .map(|word| word.chars().flat_map(plain).collect())
                .filter(|w: &Vec<_>| !w.is_empty())
                .collect(),
        )
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// Where in a text the words stand, each at its first place, in the order of the text.
    pub fn find(&self, text: &str) -> Vec<(usize, Range<usize>)> {
        let mut letters = Vec::new();
        let mut all: Vec<(usize, Range<usize>)> = Vec::new();
        for (number, word) in self.0.iter().enumerate() {
            let found = if text.is_ascii() && word.iter().all(char::is_ascii) {
                let word: Vec<u8> = word.iter().map(|c| *c as u8).collect();
                find_ascii(text.as_bytes(), &word).map(|(_, range)| range)
            } else {
                if letters.is_empty() {
                    letters.extend(text.char_indices().flat_map(|(at, c)| plain(c).map(move |plain| (plain, at))));
                }
                let here = |from: &[(char, usize)]| from.iter().zip(word).all(|((letter, _), typed)| letter == typed);
                let from = letters.windows(word.len()).position(here);
                from.map(|from| letters[from].1..letters.get(from + word.len()).map_or(text.len(), |(_, at)| *at))
            };
            all.extend(found.map(|range| (number, range)));
        }
        all.sort_by_key(|(_, range)| range.start);
        all
    }
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

    /// The text around its first match, with `…` where it is cut: at most about this many characters.
    #[must_use]
    pub fn around(&self, most: usize) -> Marked {
        let Some(first) = self.matches.first() else {
            let cut: String = self.text.chars().take(most).collect();
            let more = if cut.len() < self.text.len() { "…" } else { "" };
            return Marked::new(cut + more, Vec::new());
        };
        let before =
            self.text[..first.start].char_indices().rev().take(most / 3).last().map_or(first.start, |(at, _)| at);
        let end = self.text[before..].char_indices().nth(most).map_or(self.text.len(), |(at, _)| before + at);
        let end = end.max(first.end);
        let (begins, ends) = (if before > 0 { "…" } else { "" }, if end < self.text.len() { "…" } else { "" });
        let moved = |range: &Range<usize>| range.start - before + begins.len()..range.end - before + begins.len();
        let matches = self.matches.iter().filter(|range| range.end <= end).map(moved).collect();
        Marked::new(format!("{begins}{}{ends}", &self.text[before..end]), matches)
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
