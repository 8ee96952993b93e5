//! What may be done where something was asked for.

/// The access of what only reads: of a view, and of a statement outside of a transaction.
pub enum Reads {}

/// The access of what may write.
pub enum Writes {}
