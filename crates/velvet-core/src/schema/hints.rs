//! What types say about where their tables and columns come from, for the next version of a schema.

/// What a record's type says about where its table and columns come from.
#[derive(Clone, Copy, Debug, Default)]
pub struct Hints {
    /// About the table.
    pub table: Option<Origin>,
    /// About columns.
    pub columns: &'static [Hint],
}

/// What a field says about where its column comes from.
#[derive(Clone, Copy, Debug)]
pub struct Hint {
    /// The column.
    pub column: &'static str,
    /// Where it comes from.
    pub origin: Option<Origin>,
    /// What rows that exist get there: an SQL expression over the row.
    pub fill: Option<&'static str>,
}

/// Where a table or column comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// It had this name.
    Was(&'static str),
    /// It is new, whatever else went away.
    New,
}
