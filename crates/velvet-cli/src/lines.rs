//! Lines that break between words where they are longer than the terminal is wide.

use std::io::{self, Write};
use textwrap::core::display_width;
use textwrap::{Options, WordSeparator, WordSplitter};

/// What stands before the entries of a list.
const MARKS: [&str; 3] = ["- ", "+ ", "~ "];

/// Breaks lines between words. A word that is longer than a line, such as a path, stays whole, so that it can be copied.
pub(crate) struct Lines<W: Write> {
    to: W,
    width: Option<usize>,
    /// The beginning of a line whose end is still to come.
    held: Vec<u8>,
}

impl<W: Write> Lines<W> {
    pub(crate) fn new(to: W, width: Option<usize>) -> Lines<W> {
        Lines { to, width, held: Vec::new() }
    }
}

impl<W: Write> Write for Lines<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let Some(width) = self.width else { return self.to.write(bytes) };
        self.held.extend_from_slice(bytes);
        let Some(end) = self.held.iter().rposition(|byte| *byte == b'\n') else { return Ok(bytes.len()) };
        let rest = self.held.split_off(end + 1);
        let whole = std::mem::replace(&mut self.held, rest);
        for line in String::from_utf8_lossy(&whole).lines() {
            writeln!(self.to, "{}", broken(line, width))?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let held = std::mem::take(&mut self.held);
        if let Some(width) = self.width.filter(|_| !held.is_empty()) {
            self.to.write_all(broken(&String::from_utf8_lossy(&held), width).as_bytes())?;
        }
        self.to.flush()
    }
}

impl<W: Write> Drop for Lines<W> {
    fn drop(&mut self) {
        // Whoever wants to know whether that was possible flushes.
        let _ = self.flush();
    }
}

/// A line in as many as it takes; those after the first begin where its text does.
pub(crate) fn broken(line: &str, width: usize) -> String {
    if display_width(line) <= width {
        return line.to_owned();
    }
    let text = line.trim_start_matches(' ');
    let mark = if MARKS.iter().any(|mark| text.starts_with(mark)) { 2 } else { 0 };
    let indent = " ".repeat(line.len() - text.len() + mark);
    textwrap::fill(line, between_words(width).subsequent_indent(&indent))
}

/// How text is broken: between words only.
pub(crate) fn between_words(width: usize) -> Options<'static> {
    Options::new(width)
        .break_words(false)
        .word_separator(WordSeparator::AsciiSpace)
        .word_splitter(WordSplitter::NoHyphenation)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_break_between_words_below_where_their_text_begins() {
        let mut out = Vec::new();
        let mut lines = Lines::new(&mut out, Some(20));
        for piece in ["short\n  - one two three fo", "ur five six\n/a/path-that/is-longer/than-a-line x\n\u{1b}[1m"] {
            assert!(lines.write_all(piece.as_bytes()).is_ok());
        }
        assert!(lines.write_all("1234567890 123456789\u{1b}[0m\n      deep down in the text".as_bytes()).is_ok());
        drop(lines);
        let expected = "short\n  - one two three\n    four five six\n/a/path-that/is-longer/than-a-line\nx\n\
                        \u{1b}[1m1234567890 123456789\u{1b}[0m\n      deep down in\n      the text";
        assert_eq!(String::from_utf8_lossy(&out), expected);
    }
}
