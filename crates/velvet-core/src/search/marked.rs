//! Text in which something was found, with what matches marked.

use std::fmt;
use std::ops::Range;

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
    /// use velvet_drawer::Marked;
    /// let marked = Marked::new("matt cobalt".into(), vec![5..8]);
    /// assert_eq!(marked.parts().collect::<Vec<_>>(), [("matt ", false), ("cob", true), ("alt", false)]);
    /// assert_eq!(marked.wrapped("<b>", "</b>"), "matt <b>cob</b>alt");
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
    pub fn wrapped(&self, before: &str, after: &str) -> String {
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
        f.write_str(&self.wrapped("[", "]"))
    }
}
