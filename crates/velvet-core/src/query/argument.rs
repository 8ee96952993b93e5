//! A value that is bound in a statement.

use crate::column_type::{ColumnType, Misfit, stored_value};
use crate::value::Value;

/// A value that can be bound in a statement: of any column type, or a `&str` or `&[u8]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be bound in a statement",
    note = "values of all column types can, and `&str` and `&[u8]`"
)]
pub trait Argument {
    /// Its stored form.
    ///
    /// # Errors
    /// When it has none.
    #[doc(hidden)]
    fn stored(self) -> Result<Value, Misfit>;
}

impl<C: ColumnType<Value = C>> Argument for C {
    fn stored(self) -> Result<Value, Misfit> {
        stored_value::<C>(&self)
    }
}

impl Argument for &String {
    fn stored(self) -> Result<Value, Misfit> {
        Ok(self.as_str().into())
    }
}

impl Argument for &str {
    fn stored(self) -> Result<Value, Misfit> {
        Ok(self.into())
    }
}

impl Argument for &[u8] {
    fn stored(self) -> Result<Value, Misfit> {
        Ok(self.to_vec().into())
    }
}
