//! Going through the pages of a table, and past those that cannot be read.

use super::source::PageSource;
use velvet_core::Value;
use velvet_core::file::b_tree::{Node, node, values};

/// What of a page cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::inspect) enum DamageOfPage {
    /// All of it; rows with these numbers may have been in it or in pages that only it leads to.
    Whole(i64, i64),
    /// So many rows.
    Rows(u64),
}

/// A row of a table: its number and values.
pub(super) type SavedRow = (i64, Vec<Value>);

/// What could not be read of a table.
#[derive(Clone, Debug, Default)]
pub(super) struct Missing {
    /// The row numbers between which nothing could be read, both included.
    pub(super) gaps: Vec<(i64, i64)>,
    /// How many rows do not add up.
    pub(super) broken: u64,
    /// How many rows go on in pages of nothing but zeros.
    pub(super) with_zeros: u64,
    /// The pages of all of these.
    pub(super) pages: Vec<(u32, DamageOfPage)>,
}

impl Missing {
    pub(super) fn is_nothing(&self) -> bool {
        self.gaps.is_empty() && self.broken == 0
    }

    pub(super) fn covers(&self, row: i64) -> bool {
        self.gaps.iter().any(|(first, last)| (*first..=*last).contains(&row))
    }

    fn gap(&mut self, first: i64, last: i64) {
        match self.gaps.last_mut() {
            Some((_, end)) if end.checked_add(1) == Some(first) => *end = last,
            _ => self.gaps.push((first, last)),
        }
    }
}

/// Hands over the rows of the table whose first page is `root`, in order. Marks the pages that it went through in `seen`.
pub(super) fn walk<E>(
    source: &mut PageSource,
    root: u32,
    seen: &mut [bool],
    each: &mut dyn FnMut(SavedRow) -> Result<(), E>,
) -> Result<Missing, E> {
    let mut missing = Missing::default();
    // Pages that are still to be gone through, with the row numbers that may be in them; the next one last.
    let mut ahead = vec![(root, i64::MIN, i64::MAX)];
    while let Some((number, first, last)) = ahead.pop() {
        let is_new = seen.get_mut(number as usize).is_some_and(|seen| !std::mem::replace(seen, true));
        let page = if is_new { source.page(number) } else { None };
        let found = page.as_ref().and_then(|page| node(page, number == 1, &source.layout));
        match (found, page) {
            (Some(Node::Inner(children)), _) => {
                let mut from = first;
                let mut parts = Vec::with_capacity(children.len());
                for (key, child) in children {
                    let to = key.unwrap_or(last).clamp(first, last);
                    parts.push((child, from, to));
                    from = to.saturating_add(1);
                }
                ahead.extend(parts.into_iter().rev());
            }
            (Some(Node::Leaf { cells, broken }), Some(page)) => {
                let before = missing.broken;
                missing.broken += broken as u64;
                for cell in cells {
                    source.met_zeros = false;
                    let row = source.row(&page, &cell).and_then(|row| values(&row, source.layout.encoding));
                    match row.filter(|_| (first..=last).contains(&cell.row)) {
                        Some(row) => {
                            missing.with_zeros += u64::from(source.met_zeros);
                            each((cell.row, row))?;
                        }
                        None => missing.broken += 1,
                    }
                }
                if missing.broken > before {
                    missing.pages.push((number, DamageOfPage::Rows(missing.broken - before)));
                }
            }
            _ => {
                missing.pages.push((number, DamageOfPage::Whole(first, last)));
                missing.gap(first, last);
            }
        }
    }
    Ok(missing)
}

/// The rows of a page that no table leads to, where all of it adds up.
pub(super) fn orphaned(source: &mut PageSource, number: u32) -> Option<Vec<SavedRow>> {
    let page = source.page(number)?;
    let Node::Leaf { cells, broken: 0 } = node(&page, false, &source.layout)? else { return None };
    let in_order = cells.windows(2).all(|pair| pair[0].row < pair[1].row);
    let rows: Option<Vec<SavedRow>> =
        cells.iter().map(|cell| Some((cell.row, values(&source.row(&page, cell)?, source.layout.encoding)?))).collect();
    rows.filter(|rows| in_order && !rows.is_empty())
}
