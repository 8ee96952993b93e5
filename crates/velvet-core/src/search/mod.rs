//! Searching by words: which words a text has, what a person typed as an expression of the search index, and text with its matching
//! parts.

pub(crate) mod letters;
pub mod marked;
pub mod suggest;

use crate::search::letters::find_ascii;
use crate::search::letters::plain;
use crate::search::marked::Marked;
use std::ops::Range;

/// How many of the words that were typed are looked for; the first ones, where there are more.
pub(crate) const MOST_WORDS: usize = 32;

/// A word of a text as the search index has it, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Token {
    word: String,
    range: Range<usize>,
    kind: TokenKind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum TokenKind {
    /// A word, or a part of one that is joined by an apostrophe or a hyphen.
    Word,
    /// The parts of a joined word as one: `obrien` of O'Brien. It follows its parts, of which there are this many.
    Joined(usize),
    /// A character of a script that puts no spaces between words, or a picture. It is found within any run of such.
    Character,
}

/// What kind of character one is to the search index.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Class {
    Letter,
    /// Goes with the letter before it.
    Mark,
    /// A script without spaces, or a picture.
    Character,
    /// Joins the letters before and after it to one word.
    Joins,
    /// Has no width, and says nothing about words.
    Nothing,
    Space,
}

fn class(c: char) -> Class {
    match u32::from(c) {
        0x27 | 0x2d | 0x2bc | 0x2010 | 0x2011 | 0x2018 | 0x2019 | 0xff07 => Class::Joins,
        0xad | 0x200b..=0x200f | 0x2060 | 0xfe00..=0xfe0f | 0xfeff | 0x1f3fb..=0x1f3ff | 0xe0020..=0xe007f => {
            Class::Nothing
        }
        // Thai, Lao, Myanmar, Khmer; Han, kana and what stands among them; pictures.
        0xe00..=0xeff
        | 0x1000..=0x109f
        | 0x1780..=0x17ff
        | 0x2e80..=0x2fdf
        | 0x3005..=0x3007
        | 0x3021..=0x30ff
        | 0x31f0..=0x31ff
        | 0x3400..=0x4dbf
        | 0x4e00..=0x9fff
        | 0xf900..=0xfaff
        | 0xff66..=0xff9f
        | 0x20000..=0x3ffff
            if c.is_alphanumeric() =>
        {
            Class::Character
        }
        0x2190..=0x2bff | 0x1f000..=0x1faff => Class::Character,
        _ if c.is_alphanumeric() => Class::Letter,
        _ if unicode_normalization::char::is_combining_mark(c) => Class::Mark,
        _ => Class::Space,
    }
}

/// The words of a text, in order.
fn tokens(text: &str) -> Vec<Token> {
    let mut all: Vec<Token> = Vec::new();
    let mut chars = text.char_indices().peekable();
    // Where the parts of the word at hand begin among the tokens, and whether the last of them is still open.
    let (mut begun, mut is_open) = (0, false);
    while let Some((at, c)) = chars.next() {
        let end = at + c.len_utf8();
        match class(c) {
            Class::Nothing => continue,
            Class::Letter if is_open => extend(&mut all, c, end),
            Class::Letter => {
                all.push(Token { word: plain(c).collect(), range: at..end, kind: TokenKind::Word });
                is_open = true;
            }
            Class::Mark => match all.last_mut() {
                Some(last) if last.range.end == at => extend(&mut all, c, end),
                _ => {}
            },
            Class::Joins if is_open && chars.peek().is_some_and(|(_, next)| class(*next) == Class::Letter) => {
                is_open = false
            }
            class => {
                join(&mut all, begun);
                if class == Class::Character {
                    all.push(Token { word: plain(c).collect(), range: at..end, kind: TokenKind::Character });
                }
                (begun, is_open) = (all.len(), false);
            }
        }
    }
    join(&mut all, begun);
    all.retain(|token| !token.word.is_empty());
    all
}

fn extend(all: &mut [Token], c: char, end: usize) {
    if let Some(last) = all.last_mut() {
        last.word.extend(plain(c));
        last.range.end = end;
    }
}

/// Adds the parts of a word as one, where it has several.
fn join(all: &mut Vec<Token>, begun: usize) {
    let parts = &all[begun..];
    if let ([first, .., last], count) = (parts, parts.len()) {
        let word = parts.iter().map(|part| part.word.as_str()).collect();
        let range = first.range.start..last.range.end;
        all.push(Token { word, range, kind: TokenKind::Joined(count) });
    }
}

/// The words of a text as the search index gets them, with spaces between.
///
/// ```
/// use velvet_core::search::indexed;
/// assert_eq!(indexed("Straße, 陶器!"), "strasse 陶 器");
/// assert_eq!(indexed("O'Brien’s e-mail"), "o brien s obriens e mail email");
/// ```
pub fn indexed(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 8);
    for token in tokens(text) {
        out.push_str(if out.is_empty() { "" } else { " " });
        out.push_str(&token.word);
    }
    out
}

/// What somebody typed to be looked for: every word must be there, the last one may go on.
///
/// Whatever is typed is a list of words: quotes, operators and signs are none of them. Of more than 32 words the first are
/// looked for.
///
/// ```
/// use velvet_core::search::Sought;
/// assert_eq!(Sought::typed("Cob mat").expression().as_deref(), Some(r#""cob" AND "mat"*"#));
/// assert_eq!(Sought::typed("cob OR \"mat\" ").expression().as_deref(), Some(r#""cob" AND "or" AND "mat""#));
/// assert_eq!(Sought::typed("e-mail").expression().as_deref(), Some(r#"("email"* OR ("e" AND "mail"*))"#));
/// assert_eq!(Sought::typed(" * ( ").expression(), None);
/// ```
#[derive(Clone, Debug, Default)]
pub struct Sought(Vec<WantedWord>);

/// One thing that must be there: words that follow each other, the last of which may go on.
#[derive(Clone, Debug, PartialEq)]
struct WantedWord {
    words: Vec<String>,
    goes_on: bool,
    /// The parts of a joined word, any of which may stand apart too.
    parts: Vec<String>,
}

impl Sought {
    /// What was typed.
    pub fn typed(text: &str) -> Sought {
        let tokens = tokens(text);
        let mut wanted: Vec<WantedWord> = Vec::new();
        let mut after = None;
        for (at, Token { word, range, kind }) in tokens.iter().enumerate() {
            let word = word.clone();
            match kind {
                TokenKind::Joined(count) => {
                    let parts = tokens[at - count..at].iter().map(|t| t.word.clone()).collect();
                    wanted.truncate(wanted.len() - count);
                    wanted.push(WantedWord { words: vec![word], goes_on: false, parts });
                }
                // What is typed without a space is found where it stands so.
                TokenKind::Character if after == Some(range.start) => {
                    if let Some(run) = wanted.last_mut() {
                        run.words.push(word);
                    }
                }
                _ => wanted.push(WantedWord { words: vec![word], goes_on: false, parts: Vec::new() }),
            }
            after = (*kind == TokenKind::Character).then_some(range.end);
        }
        // A word that is followed by something is finished.
        let is_open = text.chars().next_back().is_some_and(|c| !matches!(class(c), Class::Space | Class::Joins));
        if let Some(last) = wanted.last_mut() {
            last.goes_on = is_open;
        }
        wanted.truncate(MOST_WORDS);
        Sought(wanted)
    }

    /// The expression of the search index; nothing when no word was typed.
    pub fn expression(&self) -> Option<String> {
        let quoted = |word: &str, goes_on: bool| format!("\"{word}\"{}", if goes_on { "*" } else { "" });
        let one = |wanted: &WantedWord| {
            let whole = quoted(&wanted.words.join(" "), wanted.goes_on);
            let Some((last, parts)) = wanted.parts.split_last() else { return whole };
            let parts: Vec<String> =
                parts.iter().map(|part| quoted(part, false)).chain([quoted(last, wanted.goes_on)]).collect();
            format!("({whole} OR ({}))", parts.join(" AND "))
        };
        (!self.0.is_empty()).then(|| self.0.iter().map(one).collect::<Vec<_>>().join(" AND "))
    }

    /// Whether it is no more than the beginning of a word, of one or two letters: which so much has that how well it fits says nothing.
    pub fn is_hardly_anything(&self) -> bool {
        matches!(&self.0[..], [WantedWord { words, goes_on: true, parts }]
            if parts.is_empty() && words.len() == 1 && words[0].chars().count() <= 2)
    }

    /// The text of those given that has most of what was looked for, around the first of it, with what matches marked.
    pub fn marked<'t>(&self, texts: impl Iterator<Item = &'t str>) -> Marked {
        let mut best: Option<(usize, &str, Vec<Range<usize>>)> = None;
        for text in texts {
            let (count, ranges) = self.find(text);
            if best.as_ref().is_none_or(|(most, _, _)| count > *most) {
                best = Some((count, text, ranges));
            }
        }
        best.map_or_else(Marked::default, |(_, text, ranges)| Marked::new(text.to_owned(), ranges).around(AROUND))
    }

    /// How many of the things that are looked for a text has, and where they stand.
    fn find(&self, text: &str) -> (usize, Vec<Range<usize>>) {
        let tokens = tokens(text);
        let (mut count, mut ranges) = (0, Vec::new());
        for wanted in &self.0 {
            let before = ranges.len();
            find_run(&tokens, &wanted.words, wanted.goes_on, &mut ranges);
            if ranges.len() == before {
                for (at, part) in wanted.parts.iter().enumerate() {
                    let goes_on = wanted.goes_on && at + 1 == wanted.parts.len();
                    find_run(&tokens, std::slice::from_ref(part), goes_on, &mut ranges);
                }
            }
            count += usize::from(ranges.len() > before);
        }
        ranges.sort_by_key(|range| (range.start, range.end));
        // What lies in another, or goes on from it, is marked with it.
        let mut merged: Vec<Range<usize>> = Vec::with_capacity(ranges.len());
        for range in ranges {
            match merged.last_mut() {
                Some(last) if range.start < last.end => last.end = last.end.max(range.end),
                _ => merged.push(range),
            }
        }
        (count, merged)
    }
}

/// How many characters of a text are shown around what matches.
const AROUND: usize = 96;

/// Where words follow each other among the tokens, the last of them as the beginning of a word where it goes on.
fn find_run(tokens: &[Token], words: &[String], goes_on: bool, ranges: &mut Vec<Range<usize>>) {
    for run in tokens.windows(words.len()) {
        let is_here = run.iter().zip(words).enumerate().all(|(at, (token, word))| {
            let may_go_on = goes_on && at + 1 == words.len();
            token.word == *word || (may_go_on && token.word.starts_with(word.as_str()))
        });
        if let (true, Some(first), Some(last)) = (is_here, run.first(), run.last()) {
            ranges.push(first.range.start..last.range.end);
        }
    }
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
