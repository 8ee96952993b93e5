//! Values that are sealed: between the engine and the column type they are what was sealed, in a form that says what it is.

use super::{ColumnType, Misfit, Optional, Output, Shape, stored_value};
use crate::schema::structure::Kind;
use crate::sealing::{Plain, Shut, key_number};
use crate::value::ValueRef;
use std::marker::PhantomData;
use zeroize::Zeroizing;

/// The column type of a field with `#[record(sealed)]`.
pub struct Sealed<C>(PhantomData<fn() -> C>);

impl<C: ColumnType> ColumnType for Sealed<C> {
    type Value = C::Value;
    type Inner = Sealed<C>;
    type Arg<'a> = C::Arg<'a>;
    const OPTIONAL: bool = C::OPTIONAL;
    const SHAPE: Shape = C::SHAPE;

    fn kind() -> Kind {
        Kind::Sealed { holds: Box::new(C::kind()), label: String::new() }
    }

    fn store<O: Output>(value: &C::Value, out: O) -> Result<(), Misfit> {
        let stored = stored_value::<C>(value).map_err(hidden)?;
        hand_over(stored.as_ref(), out);
        Ok(())
    }

    fn store_arg<O: Output>(arg: C::Arg<'_>, out: O) -> Result<(), Misfit> {
        let stored = super::stored_arg::<C>(arg).map_err(hidden)?;
        hand_over(stored.as_ref(), out);
        Ok(())
    }

    fn load(stored: ValueRef<'_>) -> Result<C::Value, Misfit> {
        let plain = match stored {
            ValueRef::Missing => return C::load(stored),
            ValueRef::Bytes(plain) => plain,
            other => return Err(Misfit::kind(other, "a sealed value")),
        };
        if let Some(value) = Plain::read(plain) {
            return C::load(value).map_err(hidden);
        }
        let (why, advice) = match Shut::of_sign(plain) {
            Some(Shut::NoKey) => (
                "cannot be opened: its key is missing",
                "Open the drawer with the keeper of its keys; what is not sealed can be read without",
            ),
            Some(Shut::Damaged) => (
                "cannot be opened: it was changed, or belongs to another name, record, column or file",
                "Take the record from a copy of the file, or write the value again",
            ),
            None if key_number(plain).is_some() => (
                "is still sealed in what the statement returns",
                "A statement of your own gets it as the file has it: read such columns with `get`, `only` or `only_as`",
            ),
            None => ("is none: it was written by something that does not seal", "Write the value again"),
        };
        Err(Misfit::new("the sealed value", why).advise(advice))
    }
}

impl<C: Optional> Optional for Sealed<C> {}

fn hand_over(value: ValueRef<'_>, out: impl Output) {
    match Plain::of(value) {
        Some(plain) => out.bytes(&Zeroizing::new(plain)),
        None => out.missing(),
    }
}

/// A message must not say what is sealed.
fn hidden(misfit: Misfit) -> Misfit {
    Misfit { value: "the sealed value".into(), reason: "is none of its column's type".into(), ..misfit }
}
