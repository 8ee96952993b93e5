//! Rows as a readable table of text.

use comfy_table::{Cell, CellAlignment, Table, TableComponent, presets};
use std::fmt;
use textwrap::{Options, WordSeparator, WordSplitter};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};
pub use velvet_core::exchange::show::{Shown, Tone};
use velvet_core::exchange::show::{count, escaped};

/// Between two columns.
const GAP: usize = 2;

/// A text of this many characters, such as a time, is not cut. A longer one is cut to no fewer, and a number never.
const WHOLE: usize = 20;

/// To how few characters a sign for bytes is cut: how many there are is still seen.
const SIGN: usize = 12;

/// How many characters of a long text stand side by side with other columns, at least; where there is less room, it goes below them.
const LONG: usize = 36;

/// How far a long text below its row is moved in.
const INDENT: usize = 4;

/// A table of text: numbers line up, and missing and empty values look different.
///
/// Where it does not fit a width, it leaves out the columns that say least, and names them. Where not even two columns fit, or all of them
/// are wanted, each row is a block with a line for each column.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    heads: Vec<String>,
    rows: Vec<Vec<Shown>>,
    width: Option<usize>,
    /// The column whose text may take several lines.
    long: Option<usize>,
    /// The column whose text is never cut.
    whole: Option<usize>,
    /// The columns that are left out first, where that is said.
    dispensable: Vec<usize>,
    every_column: bool,
    how_to_see_all: &'static str,
    #[cfg(feature = "paint")]
    painted: bool,
}

/// How a table is laid out.
enum Layout {
    /// These columns side by side, each as wide; and one below them.
    Table { shown: Vec<usize>, widths: Vec<usize>, below: Option<usize> },
    /// A line for each column of each row.
    Blocks,
}

impl Grid {
    /// A table with these column heads.
    pub fn new<S: Into<String>>(heads: impl IntoIterator<Item = S>) -> Grid {
        Grid { heads: heads.into_iter().map(|head| escaped(&head.into())).collect(), ..Grid::default() }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<Shown>) {
        let clean = |cell: Shown| Shown { text: escaped(&cell.text), ..cell };
        self.rows.push(cells.into_iter().map(clean).collect());
    }

    /// Says that the texts of this column are long: they break between words, and go below their row where there is no room beside.
    #[must_use]
    pub fn long(mut self, head: &str) -> Grid {
        self.long = self.at(head);
        self
    }

    /// Says that the texts of this column are not cut, such as names that begin alike.
    #[must_use]
    pub fn whole(mut self, head: &str) -> Grid {
        self.whole = self.at(head);
        self
    }

    /// Says which columns are left out first where there is no room for all. Otherwise those are in which all rows are the same, and then
    /// the last ones; the first column stays.
    #[must_use]
    pub fn dispensable(mut self, heads: &[&str]) -> Grid {
        self.dispensable = heads.iter().filter_map(|head| self.at(head)).collect();
        self
    }

    /// Fits the table to this many characters.
    #[must_use]
    pub fn fit(mut self, width: Option<usize>) -> Grid {
        self.width = width;
        self
    }

    /// Leaves out no column.
    #[must_use]
    pub fn every_column(mut self, every: bool) -> Grid {
        self.every_column = every;
        self
    }

    /// Says, where columns are left out, how to see them.
    #[must_use]
    pub fn all_with(mut self, how: &'static str) -> Grid {
        self.how_to_see_all = how;
        self
    }

    /// Paints it for a terminal.
    #[must_use]
    #[cfg(feature = "paint")]
    pub fn paint(mut self, painted: bool) -> Grid {
        self.painted = painted;
        self
    }

    fn at(&self, head: &str) -> Option<usize> {
        self.heads.iter().position(|h| h == head)
    }

    fn cells(&self, at: usize) -> impl Iterator<Item = &Shown> {
        self.rows.iter().filter_map(move |row| row.get(at))
    }

    fn is_number(&self, at: usize) -> bool {
        self.cells(at).any(|cell| cell.tone == Tone::Number)
    }

    /// In which order columns are left out.
    fn leaving_out(&self) -> Vec<usize> {
        let says_nothing =
            |at: &usize| self.rows.len() > 1 && self.cells(*at).all(|c| Some(c) == self.cells(*at).next());
        let others = || (1..self.heads.len()).rev().filter(|at| !self.dispensable.contains(at));
        let (same, different): (Vec<usize>, Vec<usize>) = others().partition(says_nothing);
        self.dispensable.iter().copied().chain(same).chain(different).collect()
    }

    fn layout(&self) -> Layout {
        let width_of =
            |at: usize| self.cells(at).map(|c| c.text.width()).max().unwrap_or(0).max(self.heads[at].width());
        let natural: Vec<usize> = (0..self.heads.len()).map(width_of).collect();
        let mut shown: Vec<usize> = (0..natural.len()).collect();
        let Some(available) = self.width else { return Layout::Table { shown, widths: natural, below: None } };
        let total = |widths: &[usize]| widths.iter().sum::<usize>() + GAP * widths.len().saturating_sub(1);
        let least_of = |at: usize| {
            let is_whole = self.is_number(at) || self.whole == Some(at);
            let is_sign = self.cells(at).all(|cell| cell.tone == Tone::Sign);
            let most = if self.long == Some(at) { LONG } else { WHOLE };
            if is_whole { natural[at] } else { natural[at].min(if is_sign { SIGN } else { most }) }
        };
        let least: Vec<usize> = shown.iter().map(|at| least_of(*at)).collect();
        let fits = |shown: &[usize]| total(&shown.iter().map(|at| least[*at]).collect::<Vec<_>>()) <= available;
        // Rather than below its row, a long text stands beside, where few of the others have to go for that.
        let mut beside = shown.clone();
        for at in self.dispensable.iter().take(self.dispensable.len().div_ceil(2)).filter(|_| !self.every_column) {
            if fits(&beside) {
                break;
            }
            beside.retain(|shown| shown != at);
        }
        let below = self.long.filter(|_| !fits(&beside));
        shown.retain(|at| Some(*at) != below);
        let all = shown.len();
        for at in self.leaving_out() {
            if fits(&shown) {
                break;
            }
            shown.retain(|shown| *shown != at);
        }
        if shown.len() < all && (self.every_column || shown.len() < 2) {
            return Layout::Blocks;
        }
        let mut widths: Vec<usize> = shown.iter().map(|at| natural[*at]).collect();
        while total(&widths) > available {
            let spare = |(at, width): &(usize, &mut usize)| **width > least[shown[*at]];
            let Some((_, widest)) = widths.iter_mut().enumerate().filter(spare).max_by_key(|(_, w)| **w) else { break };
            *widest -= 1;
        }
        Layout::Table { shown, widths, below }
    }

    /// Numbers of one column with the same number of places after the point.
    fn with_points_in_line(&self) -> Vec<Vec<Shown>> {
        let places = |cell: &Shown| match (cell.tone, cell.text.split_once('.')) {
            (Tone::Number, Some((_, fraction))) if fraction.bytes().all(|b| b.is_ascii_digit()) => fraction.len() + 1,
            _ => 0,
        };
        let most: Vec<usize> = (0..self.heads.len()).map(|at| self.cells(at).map(places).max().unwrap_or(0)).collect();
        let padded = |(at, cell): (usize, &Shown)| {
            let is_decimal = cell.tone == Tone::Number && !cell.text.contains(' ');
            let missing = if is_decimal { most[at] - places(cell) } else { 0 };
            Shown { text: format!("{}{}", cell.text, " ".repeat(missing)), tone: cell.tone }
        };
        self.rows.iter().map(|row| row.iter().enumerate().take(self.heads.len()).map(padded).collect()).collect()
    }

    fn style(&self, cell: Cell, _tone: Option<Tone>) -> Cell {
        #[cfg(feature = "paint")]
        if self.painted {
            use comfy_table::Attribute;
            return match _tone {
                None => cell.add_attribute(Attribute::Bold),
                Some(Tone::Sign) => cell.add_attribute(Attribute::Dim),
                Some(Tone::Number | Tone::Plain) => cell,
            };
        }
        cell
    }

    fn empty_table(&self) -> Table {
        let mut table = Table::new();
        table.load_preset(presets::NOTHING);
        #[cfg(feature = "paint")]
        if self.painted {
            table.enforce_styling();
        } else {
            table.force_no_tty();
        }
        table
    }

    fn fmt_table(
        &self,
        shown: &[usize],
        widths: &[usize],
        below: Option<usize>,
        f: &mut fmt::Formatter<'_>,
    ) -> fmt::Result {
        let mut table = self.empty_table();
        table.set_style(TableComponent::HeaderLines, '─');
        table.set_style(TableComponent::MiddleHeaderIntersections, '─');
        let columns = || shown.iter().zip(widths);
        let numbers: Vec<bool> = (0..self.heads.len()).map(|at| self.is_number(at)).collect();
        let text_of = |at: usize, text: &str, width: usize| match self.long == Some(at) {
            true => wrapped(text, width).join("\n"),
            false => cut(text, width),
        };
        table.set_header(columns().map(|(at, width)| {
            let side = if numbers[*at] { CellAlignment::Right } else { CellAlignment::Left };
            self.style(Cell::new(cut(&self.heads[*at], *width)).set_alignment(side), None)
        }));
        for row in &self.rows {
            table.add_row(columns().filter_map(|(at, width)| Some((*at, row.get(*at)?, *width))).map(
                |(at, cell, width)| {
                    let is_right = numbers[at] && cell.tone != Tone::Plain;
                    let side = if is_right { CellAlignment::Right } else { CellAlignment::Left };
                    self.style(Cell::new(text_of(at, &cell.text, width)).set_alignment(side), Some(cell.tone))
                },
            ));
        }
        // Where there is a head, the layout puts one character between columns by itself.
        let lines = without_right_padding(table, widths.len(), GAP as u16 - 1);
        let Some(below) = below else {
            return lines.iter().try_for_each(|line| writeln!(f, "{line}"));
        };
        // Every row is one line then, after those of the head and the rule.
        let room = self.width.unwrap_or(usize::MAX).saturating_sub(INDENT).max(1);
        for (at, line) in lines.iter().enumerate() {
            writeln!(f, "{line}")?;
            let text = match at {
                0 => Some(&self.heads[below]),
                // That nothing is there is seen without a line for it.
                _ => {
                    let cell = at.checked_sub(2).and_then(|at| self.rows.get(at)?.get(below));
                    cell.filter(|cell| cell.tone != Tone::Sign).map(|cell| &cell.text)
                }
            };
            for line in text.into_iter().flat_map(|text| wrapped(text, room)) {
                let mut cell = self.empty_table();
                let tone = (at > 0).then_some(Tone::Plain);
                cell.add_row([self.style(Cell::new(line), tone)]);
                without_right_padding(cell, 1, 0).iter().try_for_each(|line| writeln!(f, "{:INDENT$}{line}", ""))?;
            }
        }
        Ok(())
    }

    fn fmt_blocks(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let widest = self.heads.iter().map(|head| head.width()).max().unwrap_or(0);
        let room = self.width.unwrap_or(usize::MAX).saturating_sub(widest + GAP).max(WHOLE);
        for (at, row) in self.rows.iter().enumerate() {
            if at > 0 {
                writeln!(f)?;
            }
            let mut table = self.empty_table();
            for (head, cell) in self.heads.iter().zip(row) {
                let value = Cell::new(wrapped(&cell.text, room).join("\n"));
                table.add_row([self.style(Cell::new(head), None), self.style(value, Some(cell.tone))]);
            }
            without_right_padding(table, 2, GAP as u16).iter().try_for_each(|line| writeln!(f, "{line}"))?;
        }
        Ok(())
    }
}

impl fmt::Display for Grid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let aligned = Grid { rows: self.with_points_in_line(), ..self.clone() };
        let (shown, widths, below) = match aligned.layout() {
            Layout::Table { shown, widths, below } => (shown, widths, below),
            Layout::Blocks => return self.fmt_blocks(f),
        };
        aligned.fmt_table(&shown, &widths, below, f)?;
        let is_hidden = |at: &usize| !shown.contains(at) && below != Some(*at);
        let hidden: Vec<&str> = (0..self.heads.len()).filter(is_hidden).map(|at| self.heads[at].as_str()).collect();
        if hidden.is_empty() {
            return Ok(());
        }
        let how = if self.how_to_see_all.is_empty() { String::new() } else { format!("; {}", self.how_to_see_all) };
        let line = format!("{} not shown: {}{how}", count(hidden.len(), "column"), hidden.join(", "));
        wrapped(&line, self.width.unwrap_or(usize::MAX)).iter().try_for_each(|line| writeln!(f, "{line}"))
    }
}

/// The lines of a table with this many columns, a gap between them, and nothing at their ends.
fn without_right_padding(mut table: Table, columns: usize, gap: u16) -> Vec<String> {
    let last = columns.saturating_sub(1);
    for (at, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, if at == last { 0 } else { gap }));
    }
    table.lines().map(|line| line.trim_end().to_owned()).collect()
}

/// The text in lines of at most `width` characters that break between words, and in a word only where it is longer than a line.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let options =
        Options::new(width).word_separator(WordSeparator::AsciiSpace).word_splitter(WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(|line| line.into_owned()).collect()
}

/// The text in at most `width` characters, with a sign that there is more.
fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    let mut used = 1;
    for c in text.chars() {
        used += c.width().unwrap_or(0);
        if used > width {
            break;
        }
        out.push(c);
    }
    out.push('…');
    out
}
