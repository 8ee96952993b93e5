//! Letters without what makes no difference to somebody who looks for a word: large and small, accents, and the joined and crossed letters
//! of some languages. Whatever is looked for, and whatever it is looked for in, goes through here.

use std::ops::Range;
use unicode_normalization::UnicodeNormalization;

/// Letters that Unicode does not take apart, and how people type them who do not have them.
const SPELLED_OUT: [(char, &str); 14] = [
    ('æ', "ae"),
    ('œ', "oe"),
    ('ø', "o"),
    ('đ', "d"),
    ('ð', "d"),
    ('ħ', "h"),
    ('ŧ', "t"),
    ('þ', "th"),
    ('ł', "l"),
    ('ŋ', "n"),
    ('ɖ', "d"),
    ('ƒ', "f"),
    ('ĸ', "k"),
    ('ȷ', "j"),
];

/// What the engine compares of a text where it takes large and small letters A to Z for the same: what stands before the first NUL, and
/// among equals the length of all.
pub(crate) fn ignoring_case(text: &[u8]) -> (Vec<u8>, usize) {
    let compared = text.split(|byte| *byte == 0).next().unwrap_or_default();
    (compared.to_ascii_lowercase(), text.len())
}

/// The letters of a character without what makes no difference: `É` is `e`, `ß` is `ss`, `ς` is `σ`.
pub(crate) fn plain(c: char) -> impl Iterator<Item = char> {
    let mut out = Letters::default();
    if c.is_ascii() {
        out.push(c.to_ascii_lowercase());
        return out;
    }
    // By way of the large letters, because several small ones may have the same: `ß` and `ss`, `ς` and `σ`, `ı` and `i`.
    for large in c.to_lowercase().nfkd().filter(|c| !is_accent(*c)).flat_map(char::to_uppercase) {
        for small in large.to_lowercase().nfkd().filter(|c| !is_accent(*c)) {
            match SPELLED_OUT.iter().find(|(letter, _)| *letter == small) {
                Some((_, spelled)) => spelled.chars().for_each(|c| out.push(c)),
                None => out.push(small),
            }
        }
    }
    out
}

/// Marks above and below letters, which people leave out: of Latin, Greek and Cyrillic letters, and the vowel points of Hebrew and Arabic.
/// The vowel signs of other scripts are letters to those who read them.
fn is_accent(c: char) -> bool {
    matches!(
        u32::from(c),
        0x300..=0x36f
            | 0x483..=0x489
            | 0x591..=0x5bd
            | 0x5bf
            | 0x5c1..=0x5c2
            | 0x5c4..=0x5c5
            | 0x5c7
            | 0x64b..=0x65f
            | 0x670
            | 0x1ab0..=0x1aff
            | 0x1dc0..=0x1dff
            | 0x20d0..=0x20ff
            | 0xfe20..=0xfe2f
    )
}

/// Up to 18 letters, as many as Unicode takes any character apart into.
#[derive(Default)]
struct Letters {
    letters: [char; 18],
    from: usize,
    to: usize,
}

impl Letters {
    fn push(&mut self, c: char) {
        if let Some(place) = self.letters.get_mut(self.to) {
            *place = c;
            self.to += 1;
        }
    }
}

impl Iterator for Letters {
    type Item = char;

    fn next(&mut self) -> Option<char> {
        let next = self.letters[..self.to].get(self.from).copied();
        self.from += 1;
        next
    }
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn what_people_type_for_a_letter_is_the_same_as_the_letter() {
        for (a, b) in [
            ("ΆΈΉΊΌΎΏς", "αεηιουωσ"),
            ("Ёлка Йод", "елка иод"),
            ("Łódź Żółć", "lodz zolc"),
            ("Đakovo Čćšž", "dakovo ccsz"),
            ("Straße STRASSE ẞ", "strasse strasse ss"),
            ("œuvre Æsir", "oeuvre aesir"),
            ("İstanbul ısı", "istanbul isi"),
            ("Smørrebrød Þór Ðð", "smorrebrod thor dd"),
            ("ﬁre ① ㎏", "fire 1 kg"),
            ("Việt", "viet"),
            ("שָׁלוֹם", "שלום"),
            ("ﾄﾞ", "ド"),
        ] {
            let plain = |text: &str| text.chars().flat_map(plain).collect::<String>();
            assert_eq!(plain(a), plain(b), "{a}");
        }
        let all: String = (0..0x1_0000).filter_map(char::from_u32).flat_map(plain).collect();
        assert_eq!(all.chars().flat_map(plain).collect::<String>(), all, "once is enough");
    }
}

/// Where in a text what was typed stands; the earlier, the better.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum FoundAt {
    Beginning,
    WordBeginning,
    Inside,
}

/// Where `typed`, which is small and not empty, stands in a text; the best place of several.
pub(crate) fn find_ascii(text: &[u8], typed: &[u8]) -> Option<(FoundAt, Range<usize>)> {
    let (first, rest) = typed.split_first()?;
    let last = text.len().checked_sub(typed.len())?;
    let mut inside = None;
    let large = first.to_ascii_uppercase();
    for at in memchr::memchr2_iter(*first, large, &text[..=last]) {
        if !text[at + 1..at + typed.len()].eq_ignore_ascii_case(rest) {
            continue;
        }
        let range = at..at + typed.len();
        match at.checked_sub(1).map(|before| text[before]) {
            None => return Some((FoundAt::Beginning, range)),
            Some(before) if !before.is_ascii_alphanumeric() => return Some((FoundAt::WordBeginning, range)),
            Some(_) => inside = inside.or(Some(range)),
        }
    }
    inside.map(|range| (FoundAt::Inside, range))
}
