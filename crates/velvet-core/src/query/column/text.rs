//! Conditions on text, and orders of it.

use super::{Column, Term};
use crate::column_type::{ColumnType, Textual};
use crate::query::collation::{Collation, TextOrder};
use crate::query::condition::Condition;
use crate::query::fragment::Fragment;
use crate::query::order::Order;

impl<T, C: ColumnType, E: Term> Column<T, C, E> {
    /// Begins with `prefix`. An index on the column serves it.
    pub fn starts_with(self, prefix: &str) -> Condition<T>
    where
        C: Textual,
    {
        let from = Condition::of(self.clone().write().then(" >= ?").bind(prefix));
        let end = if self.term.ignores_case() {
            // Compared as if there were no large letters, so none may come next.
            after_all_that_start_with(&prefix.to_ascii_lowercase(), |c| !c.is_ascii_uppercase())
        } else {
            after_all_that_start_with(prefix, |_| true)
        };
        match end {
            Some(end) => from & Condition::of(self.write().then(" < ?").bind(end)),
            None => from,
        }
    }

    /// Ends with `suffix`.
    pub fn ends_with(self, suffix: &str) -> Condition<T>
    where
        C: Textual,
    {
        if suffix.is_empty() {
            return self.contains("");
        }
        let (text, suffix) = self.compared_with(suffix);
        let end = format!(" AS BLOB), -{}) = ?", suffix.len());
        Condition::of(Fragment::text("substr(CAST(").and(text).then(&end).bind(suffix.into_bytes()))
    }

    /// Contains `part`.
    pub fn contains(self, part: &str) -> Condition<T>
    where
        C: Textual,
    {
        let (text, part) = self.compared_with(part);
        Condition::of(Fragment::text("instr(").and(text).then(", ?) > 0").bind(part))
    }

    /// Equal to `text`, whether letters are large or small.
    pub fn is_ignore_case(self, text: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::of(self.folded("").then(" = ?").bind(fold(text)))
    }

    /// Begins with `prefix`, whether letters are large or small.
    pub fn starts_with_ignore_case(self, prefix: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::of(self.folded("instr(").then(", ?) = 1").bind(fold(prefix)))
    }

    /// Contains `part`, whether letters are large or small.
    pub fn contains_ignore_case(self, part: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::of(self.folded("instr(").then(", ?) > 0").bind(fold(part)))
    }

    /// In the order of this column, smallest first, whether letters are large or small.
    pub fn ascending_ignore_case(self) -> Order<T>
    where
        C: Textual,
    {
        Order::new(self.folded(""), C::OPTIONAL)
    }

    /// In the order of this column, largest first, whether letters are large or small.
    pub fn descending_ignore_case(self) -> Order<T>
    where
        C: Textual,
    {
        self.ascending_ignore_case().reversed()
    }

    /// In an order of the app's own, such as that of a language, smallest first.
    pub fn ascending_by<O: TextOrder>(self) -> Order<T>
    where
        C: Textual,
    {
        let position = self.position();
        Order::new(self.write(), C::OPTIONAL).of_column(position).by(Collation::of::<O>())
    }

    /// In an order of the app's own, such as that of a language, largest first.
    pub fn descending_by<O: TextOrder>(self) -> Order<T>
    where
        C: Textual,
    {
        self.ascending_by::<O>().reversed()
    }

    /// Its text and another, in a form in which those are equal that the column takes for the same.
    fn compared_with(self, with: &str) -> (Fragment, String) {
        if self.term.ignores_case() {
            (Fragment::text("lower(").and(self.write()).then(")"), with.to_ascii_lowercase())
        } else {
            (self.write(), with.to_owned())
        }
    }

    fn folded(self, begin: &str) -> Fragment {
        Fragment::text(format!("{begin}{FOLD}(")).and(self.write()).then(")")
    }
}

/// The name under which the engine knows [`fold`].
pub const FOLD: &str = "velvet_fold";

/// Text without the difference between large and small letters, in every script that has one.
pub fn fold(text: &str) -> String {
    text.to_lowercase()
}

/// The smallest text of such letters that is larger than every text that starts with `prefix`, if there is one.
fn after_all_that_start_with(prefix: &str, letters: fn(&char) -> bool) -> Option<String> {
    let mut chars: Vec<char> = prefix.chars().collect();
    while let Some(last) = chars.pop() {
        let next = (u32::from(last) + 1..=u32::from(char::MAX)).filter_map(char::from_u32).find(letters);
        if let Some(next) = next {
            chars.push(next);
            return Some(chars.into_iter().collect());
        }
    }
    None
}
