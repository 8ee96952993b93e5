//! Exact decimal numbers of the package `rust_decimal`, as text without zeros at its end.

use super::{ColumnType, Misfit, Output, by_value};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use rust_decimal::Decimal;

/// Its text does not sort as its number does, so it is compared with `is` alone. 1.50 is stored as 1.5, so that both are the same value; zeros at the end do not
/// come back.
impl ColumnType for Decimal {
    by_value!(Decimal, Text);

    fn store<O: Output>(value: &Decimal, out: O) -> Result<(), Misfit> {
        out.text(&value.normalize().to_string());
        Ok(())
    }

    fn load(stored: ValueRef<'_>) -> Result<Decimal, Misfit> {
        match stored {
            ValueRef::Text(text) => Decimal::from_str_exact(text)
                .map_err(|error| Misfit::new(format!("{text:?}"), format!("is not a decimal number: {error}"))),
            other => Err(Misfit::kind(other, "a decimal number as text")),
        }
    }
}
