//! Stored values as a person reads them: on one line, missing and empty told apart, nothing in them able to act on a
//! terminal.

use crate::schema::structure::Kind;
use crate::value::ValueRef;
use jiff::SignedDuration;

/// What stands for a missing value.
pub(crate) const MISSING: &str = "–";

/// What stands for a value that is there and sealed.
pub const SEALED: &str = "(sealed)";

/// How many characters of a long text are shown in a row; no screen has more room.
const CHARACTERS_SHOWN: usize = 2_000;

/// How many bytes of a long value are shown.
const BYTES_SHOWN: usize = 12;

/// How a shown value should stand out, and on which side it lines up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Ordinary text.
    Plain,
    /// A number: lines up on the right.
    Number,
    /// A sign that stands for the value: missing, empty, bytes.
    Sign,
}

/// A value as text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shown {
    /// The text, on one line.
    pub text: String,
    /// How it should stand out.
    pub tone: Tone,
}

/// A value as a person reads it in a table, by what its column holds where that is known.
pub fn shown(value: ValueRef<'_>, kind: Option<&Kind>) -> Shown {
    let of = |text: String, tone| Shown { text, tone };
    match (value, kind) {
        (ValueRef::Missing, _) => of(MISSING.into(), Tone::Sign),
        (_, Some(Kind::Sealed { .. })) => of(SEALED.into(), Tone::Sign),
        (ValueRef::Integer(0), Some(Kind::Bool)) => of("false".into(), Tone::Plain),
        (ValueRef::Integer(1), Some(Kind::Bool)) => of("true".into(), Tone::Plain),
        (ValueRef::Integer(n), Some(Kind::Duration)) => {
            of(format!("{:#}", SignedDuration::from_nanos(n)), Tone::Number)
        }
        (ValueRef::Integer(n), _) => of(n.to_string(), Tone::Number),
        (ValueRef::Real(x), Some(Kind::F32)) => of((x as f32).to_string(), Tone::Number),
        (ValueRef::Real(x), _) => of(x.to_string(), Tone::Number),
        (ValueRef::Text(""), _) => of("\"\"".into(), Tone::Sign),
        (ValueRef::Text(text), Some(Kind::Timestamp | Kind::DateTime | Kind::Time)) => of(time(text), Tone::Plain),
        (ValueRef::Text(text), _) => of(short(text), Tone::Plain),
        (ValueRef::BrokenText(bytes), _) => of(format!("not UTF-8: {}", some_bytes(bytes)), Tone::Sign),
        (ValueRef::Bytes(bytes), _) => of(some_bytes(bytes), Tone::Sign),
    }
}

/// A value as a person reads it in a message.
pub fn plain(value: ValueRef<'_>) -> String {
    match value {
        ValueRef::Text(text) => format!("{text:?}"),
        other => shown(other, None).text,
    }
}

/// How many bytes there are, and the first of them.
fn some_bytes(bytes: &[u8]) -> String {
    let start: Vec<String> = bytes.iter().take(BYTES_SHOWN).map(|byte| format!("{byte:02x}")).collect();
    let more = if bytes.len() > BYTES_SHOWN { " …" } else { "" };
    match bytes.len() {
        0 => "<no bytes>".into(),
        1 => format!("<1 byte: {}>", start.concat()),
        count => format!("<{count} bytes: {}{more}>", start.join(" ")),
    }
}

/// The beginning of a text on one line, and how long it is where that is not all.
fn short(text: &str) -> String {
    match text.char_indices().nth(CHARACTERS_SHOWN) {
        Some((end, _)) => format!("{}… ({} bytes)", line(&text[..end]), text.len()),
        None => line(text),
    }
}

/// A stored time without the zeros at the end of its fraction.
fn time(text: &str) -> String {
    let (rest, zone) = text.strip_suffix('Z').map_or((text, ""), |rest| (rest, "Z"));
    let short = if rest.contains('.') { rest.trim_end_matches('0').trim_end_matches('.') } else { rest };
    line(&short.replacen('T', " ", 1)) + zone
}

/// Text on one line: quoted where it could be mistaken for a sign or loses its edges, and [`escaped`].
pub fn line(text: &str) -> String {
    let quote = text == MISSING
        || text == "\"\""
        || text.starts_with(char::is_whitespace)
        || text.ends_with(char::is_whitespace);
    let quote = if quote { "\"" } else { "" };
    format!("{quote}{}{quote}", escaped(text))
}

/// Text with characters that would act on a terminal, end the line or turn its direction written out.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if acts(c) {
            write_out(c, &mut out);
        } else {
            out.push(c);
        }
    }
    out
}

/// Whether a character would act on a terminal, end the line, turn the direction of text, or be mistaken for nothing.
pub fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

/// Writes a character out by its number, or as it is written in a text of a program.
pub fn write_out(c: char, out: &mut String) {
    out.extend(c.escape_default());
}

/// A number and what it counts, such as “1 column” or “3 columns”.
pub fn count(number: usize, thing: &str) -> String {
    format!("{number} {thing}{}", if number == 1 { "" } else { "s" })
}
