//! Conditions on records, combined with `&`, `|` and `!`.
//!
//! A condition is true or false, never unknown: a missing value satisfies no comparison, and `!` turns that around, as
//! it does in Rust.

use crate::column_type::Misfit;
use crate::value::Value;
use std::marker::PhantomData;
use std::ops::{BitAnd, BitOr, Not};

/// A condition on records of type `T`, made from its columns.
pub struct Condition<T> {
    text: String,
    values: Vec<Value>,
    misfit: Option<Misfit>,
    of: PhantomData<fn() -> T>,
}

impl<T> Condition<T> {
    /// The condition that every record satisfies: a start for conditions that are added one by one.
    ///
    /// ```
    /// # use velvet_core::Condition;
    /// # struct Piece;
    /// let mut wanted = Condition::<Piece>::always();
    /// # let heavy = Condition::<Piece>::always();
    /// wanted = wanted & heavy;
    /// ```
    pub fn always() -> Condition<T> {
        Condition::new("TRUE".into(), Vec::new())
    }

    pub(crate) fn new(text: String, values: Vec<Value>) -> Condition<T> {
        Condition { text, values, misfit: None, of: PhantomData }
    }

    pub(crate) fn impossible(misfit: Misfit) -> Condition<T> {
        Condition { text: String::new(), values: Vec::new(), misfit: Some(misfit), of: PhantomData }
    }

    /// The condition's text with a `?` for each value, and the values in that order.
    ///
    /// # Errors
    /// When a value it was made with has no stored form.
    #[doc(hidden)]
    pub fn into_parts(self) -> Result<(String, Vec<Value>), Misfit> {
        match self.misfit {
            Some(misfit) => Err(misfit),
            None => Ok((self.text, self.values)),
        }
    }

    fn joined(mut self, word: &str, other: Condition<T>) -> Condition<T> {
        self.text = format!("({} {word} {})", self.text, other.text);
        self.values.extend(other.values);
        self.misfit = self.misfit.or(other.misfit);
        self
    }
}

impl<T> BitAnd for Condition<T> {
    type Output = Condition<T>;
    fn bitand(self, other: Condition<T>) -> Condition<T> {
        self.joined("AND", other)
    }
}

impl<T> BitOr for Condition<T> {
    type Output = Condition<T>;
    fn bitor(self, other: Condition<T>) -> Condition<T> {
        self.joined("OR", other)
    }
}

impl<T> Not for Condition<T> {
    type Output = Condition<T>;
    fn not(mut self) -> Condition<T> {
        self.text = format!("(({}) IS NOT TRUE)", self.text);
        self
    }
}
