//! Suggestions while somebody types: texts that begin with what was typed, then texts in which a word begins with it, then
//! texts that contain it. Large and small letters and accents make no difference.

use crate::search::letters::{FoundAt, find_ascii, plain};
use crate::search::marked::Marked;
use std::cmp::Ordering;
use std::ops::Range;

/// Collects the best suggestions for what was typed from any number of texts.
///
/// ```
/// use velvet_core::search::suggest::Suggestions;
/// let mut best = Suggestions::new("cob", 3);
/// for text in ["Acobi", "Iron, cobalt", "Cobalt blue", "Céladon", "COB"] {
///     best.offer(text);
/// }
/// let best: Vec<String> = best.into_list().iter().map(|s| s.wrapped("<", ">")).collect();
/// assert_eq!(best, ["<COB>", "<Cob>alt blue", "Iron, <cob>alt"]);
/// ```
pub struct Suggestions {
    typed: Vec<char>,
    /// The same, where it is plain ASCII: most texts are, and need no more than comparing bytes.
    ascii: Option<Vec<u8>>,
    count: usize,
    /// The best so far, best first.
    best: Vec<Suggestion>,
    /// A text that is not ASCII, while it is looked through: its letters without what makes no difference, and where each stands.
    letters: Vec<(char, usize)>,
}

struct Suggestion {
    place: FoundAt,
    text: String,
    range: Range<usize>,
}

impl Suggestions {
    /// Starts collecting the best `count` suggestions for what was `typed`.
    pub fn new(typed: &str, count: usize) -> Suggestions {
        let typed: Vec<char> = typed.trim().chars().flat_map(plain).collect();
        let ascii = typed.iter().all(char::is_ascii).then(|| typed.iter().map(|c| *c as u8).collect());
        Suggestions { typed, ascii, count, best: Vec::new(), letters: Vec::new() }
    }

    /// Whether nothing was typed, so that nothing is suggested.
    pub fn is_empty(&self) -> bool {
        self.typed.is_empty()
    }

    /// Takes a text into account. A text that was offered before is suggested once.
    pub fn offer(&mut self, text: &str) {
        if self.typed.is_empty() {
            return;
        }
        let found = match &self.ascii {
            Some(typed) if text.is_ascii() => find_ascii(text.as_bytes(), typed),
            _ => self.find(text),
        };
        let Some((place, range)) = found else { return };
        let better = |other: &Suggestion| compare((place, text), (other.place, &other.text));
        if self.best.len() == self.count && self.best.last().is_none_or(|worst| better(worst).is_ge()) {
            return;
        }
        if let Err(at) = self.best.binary_search_by(|other| better(other).reverse()) {
            self.best.insert(at, Suggestion { place, text: text.to_owned(), range });
            self.best.truncate(self.count);
        }
    }

    /// The best suggestions, best first, with what was typed marked.
    pub fn into_list(self) -> Vec<Marked> {
        let marked = |s: Suggestion| Marked::new(s.text, std::iter::once(s.range).collect());
        self.best.into_iter().map(marked).collect()
    }

    /// As [`find_ascii`], in any script.
    fn find(&mut self, text: &str) -> Option<(FoundAt, Range<usize>)> {
        self.letters.clear();
        self.letters.extend(text.char_indices().flat_map(|(at, c)| plain(c).map(move |plain| (plain, at))));
        let letters = &self.letters;
        let mut found: Option<(FoundAt, Range<usize>)> = None;
        for from in 0..(letters.len() + 1).saturating_sub(self.typed.len()) {
            let here = letters[from..].iter().zip(&self.typed).all(|((letter, _), typed)| letter == typed);
            if !here {
                continue;
            }
            let place = match from.checked_sub(1).map(|before| letters[before].0) {
                None => FoundAt::Beginning,
                Some(before) if !before.is_alphanumeric() => FoundAt::WordBeginning,
                Some(_) => FoundAt::Inside,
            };
            if found.as_ref().is_none_or(|(best, _)| place < *best) {
                // Up to the next letter, so that the marks that go with the last one are in it.
                let end = letters.get(from + self.typed.len()).map_or(text.len(), |(_, at)| *at);
                found = Some((place, letters[from].1..end));
            }
            if place != FoundAt::Inside {
                break;
            }
        }
        found
    }
}

fn compare(a: (FoundAt, &str), b: (FoundAt, &str)) -> Ordering {
    (a.0, a.1.len(), a.1).cmp(&(b.0, b.1.len(), b.1))
}
