//! Drafting record types: guessing a structure from a plain file's tables and values, and writing it as Rust.

mod guess;
mod in_rust;

pub use guess::{PlainColumn, PlainTable, Values, guessed};
pub use in_rust::in_rust;

use crate::schema::structure::{Holds, Table};

/// A table as it may be declared, with what is to be said about it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Drafted {
    /// The table; nothing where it cannot be declared as it is.
    pub table: Option<Table>,
    /// Its name in the file.
    pub name: String,
    /// What it holds, of a drawer's.
    pub holds: Option<Holds>,
    /// What is to be said: of a column, or why the table cannot be declared.
    pub notes: Vec<(Option<String>, String)>,
}
