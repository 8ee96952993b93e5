//! A piece of a statement with the values that are bound in it.

use crate::column_type::Misfit;
use crate::value::Value;

/// A piece of a statement: its text with a `?` for each value, and the values in that order.
#[derive(Clone, Debug, Default)]
pub struct Fragment {
    /// The text.
    pub text: String,
    /// A value for each `?`.
    pub values: Vec<Value>,
    /// Why it cannot be run, when a value it was made with has no stored form.
    pub misfit: Option<Misfit>,
}

impl Fragment {
    /// The statement that counts the rows of this one.
    #[must_use]
    pub fn counted(self) -> Fragment {
        Fragment::text("SELECT count(*) FROM (").and(self).then(")")
    }

    /// A piece without values.
    pub fn text(text: impl Into<String>) -> Fragment {
        Fragment { text: text.into(), ..Fragment::default() }
    }

    /// A piece that cannot be run, and why.
    pub fn impossible(misfit: Misfit) -> Fragment {
        Fragment { misfit: Some(misfit), ..Fragment::default() }
    }

    /// Appends text.
    #[must_use]
    pub fn then(mut self, text: &str) -> Fragment {
        self.text.push_str(text);
        self
    }

    /// Binds one more value, whose `?` is in the text already.
    #[must_use]
    pub fn bind(mut self, value: impl Into<Value>) -> Fragment {
        self.values.push(value.into());
        self
    }

    /// Appends another piece.
    #[must_use]
    pub fn and(mut self, other: Fragment) -> Fragment {
        self.push(other);
        self
    }

    /// Appends another piece in place.
    pub fn push(&mut self, other: Fragment) {
        self.text.push_str(&other.text);
        if self.values.is_empty() {
            self.values = other.values;
        } else {
            self.values.extend(other.values);
        }
        if self.misfit.is_none() {
            self.misfit = other.misfit;
        }
    }
}

/// Pieces joined by a word, as a tree that is as flat as can be: the engine refuses deep ones. Nothing where there are none.
pub(crate) fn joined(mut all: Vec<Fragment>, word: &str) -> Option<Fragment> {
    if all.len() <= 1 {
        return all.pop();
    }
    let second = all.split_off(all.len() / 2);
    let (first, second) = (joined(all, word)?, joined(second, word)?);
    let mut text = String::with_capacity(first.text.len() + second.text.len() + word.len() + 4);
    text.push('(');
    text.push_str(&first.text);
    text.push(' ');
    text.push_str(word);
    text.push(' ');
    Some(Fragment { text, ..first }.and(second).then(")"))
}
