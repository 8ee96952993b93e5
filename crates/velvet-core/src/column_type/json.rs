//! Nested values and lists, stored as JSON text.

use super::{ColumnType, Misfit, Output, finite};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::marker::PhantomData;

/// The column type of a field with `#[record(json)]`: any value that serde can write and read, stored as JSON text.
pub struct Json<V>(PhantomData<fn() -> V>);

impl<V: Serialize + DeserializeOwned + 'static> ColumnType for Json<V> {
    type Value = V;
    type Inner = Json<V>;
    type Arg<'a> = &'a V;

    fn kind() -> Kind {
        Kind::Json
    }

    fn store<O: Output>(value: &V, out: O) -> Result<(), Misfit> {
        let refused = |why: String| Misfit::new("the nested value", why);
        finite::check(value).map_err(|found| {
            refused(format!("holds {found}, which JSON has no form for"))
                .advise("Correct the calculation, or make that part an Option and keep None")
        })?;
        let text = serde_json::to_string(value).map_err(|e| refused(format!("cannot be written as JSON: {e}")))?;
        // What cannot be read back must not be written: one such row, and no list that has it can be read any more.
        serde_json::from_str::<V>(&text).map_err(|e| {
            refused(format!("could not be read back as {}: {e}", std::any::type_name::<V>()))
                .advise("Make what its type writes and what it reads the same form, nested less than 128 levels deep")
        })?;
        out.text(&text);
        Ok(())
    }

    fn store_arg<O: Output>(arg: &V, out: O) -> Result<(), Misfit> {
        Self::store(arg, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<V, Misfit> {
        match stored {
            ValueRef::Text(text) => serde_json::from_str(text).map_err(|e| {
                Misfit::new(text, format!("cannot be read as {}: {e}", std::any::type_name::<V>()))
                    .advise("Give new parts of a nested type `#[serde(default)]`, or correct what is stored")
            }),
            other => Err(Misfit::kind(other, "JSON text")),
        }
    }
}

impl ColumnType for serde_json::Value {
    type Value = serde_json::Value;
    type Inner = serde_json::Value;
    type Arg<'a> = &'a serde_json::Value;

    fn kind() -> Kind {
        Kind::Json
    }

    fn store<O: Output>(value: &Self, out: O) -> Result<(), Misfit> {
        Json::<Self>::store(value, out)
    }

    fn store_arg<O: Output>(arg: &Self, out: O) -> Result<(), Misfit> {
        Json::<Self>::store(arg, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<Self, Misfit> {
        Json::<Self>::load(stored)
    }
}
