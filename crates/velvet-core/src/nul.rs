//! Texts with a NUL in columns that ignore case: the engine compares such texts only up to it, so two of them would be one.

use crate::column_type::{ColumnType, Misfit, Output};
use crate::record::Sink;
use crate::value::ValueRef;

/// A sink that refuses texts with a NUL.
pub struct NoNul<'s, S>(pub &'s mut S);

impl<S: Sink> Sink for NoNul<'_, S> {
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
        let mut refused = Ok(());
        C::store(value, Looked(&mut refused)).map_err(|misfit| misfit.at(column))?;
        refused.map_err(|misfit| misfit.at(column))?;
        self.0.put::<C>(column, value)
    }
}

/// Refuses a text with a NUL.
///
/// # Errors
/// When it has one.
pub fn no_nul(value: ValueRef<'_>) -> Result<(), Misfit> {
    match value {
        ValueRef::Text(text) if text.contains('\0') => {
            let advice = "Remove the NUL, or let the column tell apart upper and lower case";
            Err(Misfit::new(format!("{text:?}"), "has a NUL, which a text of a column that ignores case cannot have")
                .advise(advice))
        }
        _ => Ok(()),
    }
}

struct Looked<'r>(&'r mut Result<(), Misfit>);

impl Output for Looked<'_> {
    fn missing(self) {}
    fn integer(self, _: i64) {}
    fn real(self, _: f64) {}
    fn text(self, value: &str) {
        *self.0 = no_nul(ValueRef::Text(value));
    }
    fn bytes(self, _: &[u8]) {}
}
