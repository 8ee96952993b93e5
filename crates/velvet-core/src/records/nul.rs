//! Texts with a NUL in columns that ignore case: the engine compares such texts only up to it, so two of them would be one.

use crate::column_type::{ColumnType, Misfit, stored_value};
use crate::records::record::{Record, Sink};
use crate::value::Value;

/// Refuses a record that is to be found by a text with a NUL in a column that ignores case: another record would be taken for it.
///
/// # Errors
/// When it has one.
pub fn refuse_nul<T: Record>(record: &T) -> Result<(), Misfit> {
    T::IGNORES_CASE.iter().try_for_each(|at| record.store_column(*at, &mut NoNul))
}

struct NoNul;

impl Sink for NoNul {
    fn put<C: ColumnType>(&mut self, column: usize, value: &C::Value) -> Result<(), Misfit> {
        match stored_value::<C>(value) {
            Ok(Value::Text(text)) if text.contains('\0') => {
                let why = "has a NUL, so records cannot be told apart by it in a column that ignores case";
                Err(Misfit::new(format!("{text:?}"), why)
                    .advise("Remove the NUL, or insert the record, which never replaces another")
                    .at(column))
            }
            _ => Ok(()),
        }
    }
}
