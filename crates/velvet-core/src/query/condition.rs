//! Conditions on records, combined with `&`, `|` and `!`.
//!
//! A condition is true or false, never unknown: a missing value satisfies no comparison, and `!` turns that around, as
//! it does in Rust.

use crate::query::fragment::{Fragment, joined};
use std::marker::PhantomData;
use std::ops::{BitAnd, BitAndAssign, BitOr, BitOrAssign, Not};

/// A condition on records of type `T`, made from its columns.
pub struct Condition<T> {
    first: Fragment,
    /// What it is joined with, by the same word.
    more: Vec<Fragment>,
    word: &'static str,
    of: PhantomData<fn() -> T>,
}

impl<T> Condition<T> {
    /// The condition that every record satisfies: a start for conditions that are added one by one.
    ///
    /// ```
    /// # use velvet_drawer::Condition;
    /// # struct Piece;
    /// # let heavy = Condition::<Piece>::always();
    /// # let only_heavy = true;
    /// let mut wanted = Condition::<Piece>::always();
    /// if only_heavy {
    ///     wanted &= heavy;
    /// }
    /// ```
    pub fn always() -> Condition<T> {
        Condition::of(Fragment::text("TRUE"))
    }

    /// The condition that all of these are satisfied, of which there may be thousands. Satisfied when there are none.
    pub fn all_of(conditions: impl IntoIterator<Item = Condition<T>>) -> Condition<T> {
        conditions.into_iter().reduce(|all, one| all & one).unwrap_or_else(Condition::always)
    }

    /// The condition that at least one of these is satisfied, of which there may be thousands. Not satisfied when there
    /// are none.
    pub fn any_of(conditions: impl IntoIterator<Item = Condition<T>>) -> Condition<T> {
        conditions.into_iter().reduce(|any, one| any | one).unwrap_or_else(|| Condition::of(Fragment::text("FALSE")))
    }

    pub(crate) fn of(fragment: Fragment) -> Condition<T> {
        Condition { first: fragment, more: Vec::new(), word: "", of: PhantomData }
    }

    /// The condition's text with a `?` for each value, and the values in that order.
    #[doc(hidden)]
    pub fn into_fragment(self) -> Fragment {
        let Condition { first, mut more, word, .. } = self;
        if more.is_empty() {
            return first;
        }
        more.insert(0, first);
        joined(more, word).unwrap_or_default()
    }

    fn joined(self, word: &'static str, other: Condition<T>) -> Condition<T> {
        let mut all = if self.word == word { self } else { Condition { word, ..Condition::of(self.into_fragment()) } };
        if other.word == word {
            all.more.push(other.first);
            all.more.extend(other.more);
        } else {
            all.more.push(other.into_fragment());
        }
        all
    }
}

impl<T> BitAnd for Condition<T> {
    type Output = Condition<T>;
    fn bitand(self, other: Condition<T>) -> Condition<T> {
        self.joined("AND", other)
    }
}

impl<T> BitAndAssign for Condition<T> {
    fn bitand_assign(&mut self, other: Condition<T>) {
        *self = std::mem::replace(self, Condition::of(Fragment::default())) & other;
    }
}

impl<T> BitOr for Condition<T> {
    type Output = Condition<T>;
    fn bitor(self, other: Condition<T>) -> Condition<T> {
        self.joined("OR", other)
    }
}

impl<T> BitOrAssign for Condition<T> {
    fn bitor_assign(&mut self, other: Condition<T>) {
        *self = std::mem::replace(self, Condition::of(Fragment::default())) | other;
    }
}

impl<T> Not for Condition<T> {
    type Output = Condition<T>;
    fn not(self) -> Condition<T> {
        Condition::of(Fragment::text("((").and(self.into_fragment()).then(") IS NOT TRUE)"))
    }
}
