//! Values that may be missing.

use super::{ColumnType, Comparable, Misfit, Optional, Output, Shape, Summed};
use crate::schema::structure::Kind;
use crate::value::ValueRef;

impl<C: ColumnType> ColumnType for Option<C> {
    type Value = Option<C::Value>;
    type Inner = C;
    type Arg<'a> = C::Arg<'a>;
    const OPTIONAL: bool = {
        assert!(!C::OPTIONAL, "an Option of an Option cannot be a column: the file keeps only one kind of nothing");
        true
    };
    const SHAPE: Shape = C::SHAPE;

    fn kind() -> Kind {
        C::kind()
    }

    #[inline]
    fn store<O: Output>(value: &Self::Value, out: O) -> Result<(), Misfit> {
        match value {
            Some(value) => C::store(value, out),
            None => {
                out.missing();
                Ok(())
            }
        }
    }

    #[inline]
    fn store_arg<O: Output>(arg: C::Arg<'_>, out: O) -> Result<(), Misfit> {
        C::store_arg(arg, out)
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<Self::Value, Misfit> {
        match stored {
            ValueRef::Missing => Ok(None),
            stored => C::load(stored).map(Some),
        }
    }
}

impl<C: ColumnType> Optional for Option<C> {}

impl<C: Summed> Summed for Option<C> {
    type Sum = C::Sum;
}

impl<C: Comparable> Comparable for Option<C> {}
