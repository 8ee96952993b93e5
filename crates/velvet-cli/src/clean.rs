//! What goes to a terminal, with nothing in it that could act on one.
//!
//! Names and values come from files that anybody may have made. A sequence of control characters in them could move the cursor, hide text or
//! answer for the person; a direction mark turns the order of what is read. So everything that a person sees passes through here.

use std::io::{self, Write};
use std::path::Path;
use velvet_core::exchange::show::{acts, escaped, write_out};

/// A path as people see it, on one line.
pub(crate) fn named(path: &Path) -> String {
    escaped(&path.display().to_string())
}

/// Writes out what would act on a terminal, but for the ends of lines and the colours and weights of our own.
pub(crate) struct Clean<W: Write> {
    to: W,
    /// The beginning of a character or sequence whose end is still to come.
    held: Vec<u8>,
}

/// The colours and weights of ours, as a terminal is told of them. None of them hides anything.
const OURS: [&str; 7] = ["0", "1", "2", "4", "22", "31", "35"];

impl<W: Write> Clean<W> {
    pub(crate) fn new(to: W) -> Clean<W> {
        Clean { to, held: Vec::new() }
    }

    fn cleaned(&mut self, is_last: bool) -> String {
        let bytes = std::mem::take(&mut self.held);
        let mut out = String::with_capacity(bytes.len());
        let mut rest = &bytes[..];
        while !rest.is_empty() {
            if rest[0] == 0x1b {
                match styling(rest) {
                    Styling::Is(length) => {
                        out.push_str(&String::from_utf8_lossy(&rest[..length]));
                        rest = &rest[length..];
                        continue;
                    }
                    Styling::MayBe if !is_last => break,
                    _ => {}
                }
            }
            let (character, length) = match first_character(rest) {
                Some(found) => found,
                None if !is_last && rest.len() < 4 => break,
                None => (char::REPLACEMENT_CHARACTER, 1),
            };
            match character {
                '\n' => out.push('\n'),
                c if acts(c) => write_out(c, &mut out),
                c => out.push(c),
            }
            rest = &rest[length..];
        }
        self.held = rest.to_vec();
        out
    }
}

impl<W: Write> Write for Clean<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.held.extend_from_slice(bytes);
        let text = self.cleaned(false);
        self.to.write_all(text.as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let text = self.cleaned(true);
        self.to.write_all(text.as_bytes())?;
        self.to.flush()
    }
}

impl<W: Write> Drop for Clean<W> {
    fn drop(&mut self) {
        // Whoever wants to know whether that was possible flushes.
        let _ = self.flush();
    }
}

fn first_character(bytes: &[u8]) -> Option<(char, usize)> {
    let most = &bytes[..bytes.len().min(4)];
    let valid = match std::str::from_utf8(most) {
        Ok(text) => text,
        Err(error) => std::str::from_utf8(&most[..error.valid_up_to()]).unwrap_or_default(),
    };
    valid.chars().next().map(|c| (c, c.len_utf8()))
}

enum Styling {
    Is(usize),
    MayBe,
    No,
}

/// Whether bytes that begin with the escape character begin with a sequence of ours.
fn styling(bytes: &[u8]) -> Styling {
    let ours = || OURS.iter().map(|settings| format!("\x1b[{settings}m"));
    match ours().find(|sequence| bytes.starts_with(sequence.as_bytes())) {
        Some(sequence) => Styling::Is(sequence.len()),
        None if ours().any(|sequence| sequence.as_bytes().starts_with(bytes)) => Styling::MayBe,
        None => Styling::No,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terminal::{ALARM, MATCH, QUIET, STRONG, WARNING};

    fn cleaned(pieces: &[&[u8]]) -> String {
        let mut out = Vec::new();
        let mut clean = Clean::new(&mut out);
        pieces.iter().for_each(|piece| assert!(clean.write_all(piece).is_ok()));
        drop(clean);
        String::from_utf8_lossy(&out).into_owned()
    }

    #[test]
    fn what_acts_is_written_out_and_styles_of_ours_are_not() {
        let text = "Öl\u{1b}[2J\u{1b}[8mü\u{9b}31m\u{202e}a\tb\r\u{7f}\u{1b}]0;x\u{7}\u{feff}\n";
        let clean = "Öl\\u{1b}[2J\\u{1b}[8mü\\u{9b}31m\\u{202e}a\\tb\\r\\u{7f}\\u{1b}]0;x\\u{7}\\u{feff}\n";
        assert_eq!(cleaned(&[text.as_bytes()]), clean);
        // However it comes in pieces.
        let bytes: Vec<&[u8]> = text.as_bytes().chunks(1).collect();
        assert_eq!(cleaned(&bytes), clean);
        assert_eq!(cleaned(&[b"a\xff\xe2\x80", b"z\x1b["]), "a\u{fffd}\u{fffd}\u{fffd}z\\u{1b}[");
        for style in [ALARM, MATCH, QUIET, STRONG, WARNING] {
            let painted = format!("{style}x{style:#}");
            assert_eq!(cleaned(&[painted.as_bytes()]), painted);
        }
    }
}
