//! A column of a row, and what is in it.

use velvet_core::ValueRef;
use velvet_core::exchange::show::{Shown, shown};
use velvet_core::schema::structure::Kind;

/// A column of a row, and what is in it.
#[derive(Clone, Copy, Debug)]
pub struct Cell<'a> {
    /// The name of the column.
    pub name: &'a str,
    /// What is in it.
    pub value: ValueRef<'a>,
    /// What the column was declared to hold, where the file says.
    pub kind: Option<&'a Kind>,
}

/// A column of a row, and what was in it and is in it now.
#[derive(Clone, Copy, Debug)]
pub struct ChangedCell<'a> {
    /// The name of the column.
    pub name: &'a str,
    /// What was in it.
    pub before: ValueRef<'a>,
    /// What is in it now.
    pub after: ValueRef<'a>,
    /// What the column was declared to hold, where the file says.
    pub kind: Option<&'a Kind>,
}

impl Cell<'_> {
    /// The value as a person reads it.
    pub fn shown(&self) -> Shown {
        shown(self.value, self.kind)
    }
}

impl ChangedCell<'_> {
    /// The values before and after as a person reads them.
    pub fn shown(&self) -> (Shown, Shown) {
        (shown(self.before, self.kind), shown(self.after, self.kind))
    }
}
