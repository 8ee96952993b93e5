//! Columns that are read as the type's default where what is stored is nothing of the type.

use super::{ColumnType, Comparable, Misfit, Optional, Output, Shape, Summed, Textual};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use std::marker::PhantomData;

/// The column type of a field with `#[record(fallback)]`. It is read only: what stands there stays until another value is written.
pub struct OrDefault<C>(PhantomData<fn() -> C>);

impl<C: ColumnType<Value: Default>> ColumnType for OrDefault<C> {
    type Value = C::Value;
    type Inner = C::Inner;
    type Arg<'a> = C::Arg<'a>;
    const OPTIONAL: bool = C::OPTIONAL;
    const SHAPE: Shape = C::SHAPE;

    fn kind() -> Kind {
        C::kind()
    }

    #[inline]
    fn store<O: Output>(value: &Self::Value, out: O) -> Result<(), Misfit> {
        C::store(value, out)
    }

    #[inline]
    fn store_arg<O: Output>(arg: C::Arg<'_>, out: O) -> Result<(), Misfit> {
        C::store_arg(arg, out)
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<Self::Value, Misfit> {
        Ok(C::load(stored).unwrap_or_default())
    }
}

impl<C: Optional<Value: Default>> Optional for OrDefault<C> {}
impl<C: Comparable<Value: Default>> Comparable for OrDefault<C> {}
impl<C: Textual<Value: Default>> Textual for OrDefault<C> {}
impl<C: Summed<Value: Default>> Summed for OrDefault<C> {
    type Sum = C::Sum;
}
