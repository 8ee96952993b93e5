//! UUIDs, stored as their usual text so that any reader can make sense of them.

use super::{ColumnType, Misfit, Output, by_value};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use uuid::Uuid;

impl ColumnType for Uuid {
    by_value!(Uuid, Uuid);

    #[inline]
    fn store<O: Output>(value: &Uuid, out: O) -> Result<(), Misfit> {
        out.text(value.hyphenated().encode_lower(&mut Uuid::encode_buffer()));
        Ok(())
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<Uuid, Misfit> {
        match stored {
            ValueRef::Text(text) => {
                Uuid::try_parse(text).map_err(|e| Misfit::new(format!("{text:?}"), format!("is not a UUID: {e}")))
            }
            other => Err(Misfit::kind(other, "a UUID as text")),
        }
    }
}
