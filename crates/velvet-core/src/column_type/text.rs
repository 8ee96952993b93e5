//! Text and bytes.

use super::{ColumnType, Comparable, Misfit, Output, Textual};
use crate::schema::structure::Kind;
use crate::value::ValueRef;

impl ColumnType for String {
    type Value = String;
    type Inner = String;
    type Arg<'a> = &'a str;

    fn kind() -> Kind {
        Kind::Text
    }

    #[inline]
    fn store<O: Output>(value: &String, out: O) -> Result<(), Misfit> {
        out.text(value);
        Ok(())
    }

    #[inline]
    fn store_arg<O: Output>(arg: &str, out: O) -> Result<(), Misfit> {
        out.text(arg);
        Ok(())
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<String, Misfit> {
        match stored {
            ValueRef::Text(text) => Ok(text.to_owned()),
            other => Err(Misfit::kind(other, "text")),
        }
    }
}

impl Comparable for String {}
impl Textual for String {}
impl Textual for Option<String> {}

impl ColumnType for Vec<u8> {
    type Value = Vec<u8>;
    type Inner = Vec<u8>;
    type Arg<'a> = &'a [u8];

    fn kind() -> Kind {
        Kind::Bytes
    }

    #[inline]
    fn store<O: Output>(value: &Vec<u8>, out: O) -> Result<(), Misfit> {
        out.bytes(value);
        Ok(())
    }

    #[inline]
    fn store_arg<O: Output>(arg: &[u8], out: O) -> Result<(), Misfit> {
        out.bytes(arg);
        Ok(())
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<Vec<u8>, Misfit> {
        match stored {
            ValueRef::Bytes(bytes) => Ok(bytes.to_vec()),
            other => Err(Misfit::kind(other, "bytes")),
        }
    }
}
