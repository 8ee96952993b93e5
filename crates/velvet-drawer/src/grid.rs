//! Rows as a readable table of text.

use comfy_table::{Cell, CellAlignment, Table, TableComponent, presets};
use std::fmt;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};
pub use velvet_core::show::{Shown, Tone};
use velvet_core::show::{count, escaped};

/// Between two columns.
const GAP: usize = 2;

/// To how few characters a column is cut before columns are left out.
const NARROWEST: usize = 8;

/// A table of text: numbers line up, missing and empty values look different, every row takes one line.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    heads: Vec<String>,
    rows: Vec<Vec<Shown>>,
    width: Option<usize>,
    #[cfg(feature = "paint")]
    painted: bool,
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

    /// Fits the table to this many characters: wide values are cut, and columns that find no place are named below.
    #[must_use]
    pub fn fit(mut self, width: Option<usize>) -> Grid {
        self.width = width;
        self
    }

    /// Paints it for a terminal.
    #[must_use]
    #[cfg(feature = "paint")]
    pub fn paint(mut self, painted: bool) -> Grid {
        self.painted = painted;
        self
    }

    /// How many characters each column needs.
    fn natural_widths(&self) -> Vec<usize> {
        let cells = |at: usize| self.rows.iter().filter_map(move |row| row.get(at)).map(|cell| cell.text.width());
        self.heads.iter().enumerate().map(|(at, head)| cells(at).max().unwrap_or(0).max(head.width())).collect()
    }

    /// How many characters each shown column gets; fewer than there are heads when some find no place.
    fn widths(&self) -> Vec<usize> {
        let natural = self.natural_widths();
        let Some(available) = self.width else { return natural };
        let total = |widths: &[usize]| widths.iter().sum::<usize>() + GAP * widths.len().saturating_sub(1);
        let mut shown = natural.len();
        while shown > 1 && total(&natural[..shown].iter().map(|w| (*w).min(NARROWEST)).collect::<Vec<_>>()) > available
        {
            shown -= 1;
        }
        let mut widths = natural[..shown].to_vec();
        while total(&widths) > available {
            let Some(widest) = widths.iter_mut().max_by_key(|w| **w).filter(|w| **w > 1) else { break };
            *widest -= 1;
        }
        widths
    }

    /// Numbers of one column with the same number of places after the point.
    fn with_points_in_line(&self) -> Vec<Vec<Shown>> {
        let places = |cell: &Shown| match (cell.tone, cell.text.split_once('.')) {
            (Tone::Number, Some((_, fraction))) if fraction.bytes().all(|b| b.is_ascii_digit()) => fraction.len() + 1,
            _ => 0,
        };
        let most: Vec<usize> = (0..self.heads.len())
            .map(|at| self.rows.iter().filter_map(|row| row.get(at)).map(places).max().unwrap_or(0))
            .collect();
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
            use comfy_table::{Attribute, Color};
            return match _tone {
                None => cell.add_attribute(Attribute::Bold),
                Some(Tone::Sign) => cell.fg(Color::DarkGrey),
                Some(Tone::Number | Tone::Plain) => cell,
            };
        }
        cell
    }
}

impl fmt::Display for Grid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let aligned = Grid { rows: self.with_points_in_line(), ..self.clone() };
        let widths = aligned.widths();
        let mut table = Table::new();
        table.load_preset(presets::NOTHING);
        table.set_style(TableComponent::HeaderLines, '─');
        table.set_style(TableComponent::MiddleHeaderIntersections, '─');
        #[cfg(feature = "paint")]
        if self.painted {
            table.enforce_styling();
        } else {
            table.force_no_tty();
        }
        let is_number = |at: usize| aligned.rows.iter().any(|row| row.get(at).is_some_and(|c| c.tone == Tone::Number));
        let numbers: Vec<bool> = (0..widths.len()).map(is_number).collect();
        let heads = aligned.heads.iter().zip(&widths).enumerate().map(|(at, (head, width))| {
            let side = if numbers[at] { CellAlignment::Right } else { CellAlignment::Left };
            self.style(Cell::new(cut(head, *width)).set_alignment(side), None)
        });
        table.set_header(heads);
        for row in &aligned.rows {
            table.add_row(row.iter().zip(&widths).enumerate().map(|(at, (cell, width))| {
                let side =
                    if numbers[at] && cell.tone != Tone::Plain { CellAlignment::Right } else { CellAlignment::Left };
                self.style(Cell::new(cut(&cell.text, *width)).set_alignment(side), Some(cell.tone))
            }));
        }
        let last = widths.len().saturating_sub(1);
        for (at, column) in table.column_iter_mut().enumerate() {
            // The layout puts one character between columns by itself.
            column.set_padding((0, if at == last { 0 } else { GAP as u16 - 1 }));
        }
        for line in table.lines() {
            writeln!(f, "{}", line.trim_end())?;
        }
        if let Some(hidden) = aligned.heads.get(widths.len()..).filter(|hidden| !hidden.is_empty()) {
            writeln!(f, "… and {} not shown: {}", count(hidden.len(), "column"), hidden.join(", "))?;
        }
        Ok(())
    }
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
