//! Conditions on records, combined with `&`, `|` and `!`.
//!
//! A condition is true or false, never unknown: a missing value satisfies no comparison, and `!` turns that around, as
//! it does in Rust.

use crate::fragment::Fragment;
use std::marker::PhantomData;
use std::ops::{BitAnd, BitAndAssign, BitOr, BitOrAssign, Not};

/// A condition on records of type `T`, made from its columns.
pub struct Condition<T> {
    fragment: Fragment,
    of: PhantomData<fn() -> T>,
}

impl<T> Condition<T> {
    /// The condition that every record satisfies: a start for conditions that are added one by one.
    ///
    /// ```
    /// # use velvet_core::Condition;
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
        balanced(conditions.into_iter().collect(), "AND").unwrap_or_else(Condition::always)
    }

    /// The condition that at least one of these is satisfied, of which there may be thousands. Not satisfied when there
    /// are none.
    pub fn any_of(conditions: impl IntoIterator<Item = Condition<T>>) -> Condition<T> {
        balanced(conditions.into_iter().collect(), "OR").unwrap_or_else(|| Condition::of(Fragment::text("FALSE")))
    }

    pub(crate) fn of(fragment: Fragment) -> Condition<T> {
        Condition { fragment, of: PhantomData }
    }

    /// The condition's text with a `?` for each value, and the values in that order.
    #[doc(hidden)]
    pub fn into_fragment(self) -> Fragment {
        self.fragment
    }

    fn joined(self, word: &str, other: Condition<T>) -> Condition<T> {
        let mut text = String::with_capacity(self.fragment.text.len() + other.fragment.text.len() + 8);
        text.push('(');
        text.push_str(&self.fragment.text);
        text.push(' ');
        text.push_str(word);
        text.push(' ');
        let joined = Fragment { text, ..self.fragment };
        Condition::of(joined.and(other.fragment).then(")"))
    }
}

/// Joined as a tree that is as flat as can be: the engine refuses deep ones.
fn balanced<T>(mut all: Vec<Condition<T>>, word: &str) -> Option<Condition<T>> {
    if all.len() <= 1 {
        return all.pop();
    }
    let second = all.split_off(all.len() / 2);
    match (balanced(all, word), balanced(second, word)) {
        (Some(first), Some(second)) => Some(first.joined(word, second)),
        (one, other) => one.or(other),
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
        Condition::of(Fragment::text("((").and(self.fragment).then(") IS NOT TRUE)"))
    }
}
