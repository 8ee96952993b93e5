//! Whole numbers with their ranges, decimals without NaN, true and false.

use super::{ColumnType, Comparable, Misfit, Output, Summed, by_value};
use crate::schema::structure::Kind;
use crate::value::ValueRef;

macro_rules! whole_number {
    ($($rust:ty => $kind:ident),*) => {$(
        impl ColumnType for $rust {
            by_value!($rust, $kind);

            #[inline]
            fn store<O: Output>(value: &$rust, out: O) -> Result<(), Misfit> {
                match i64::try_from(*value) {
                    Ok(number) => out.integer(number),
                    Err(_) => return Err(too_large(*value as u64)),
                }
                Ok(())
            }

            #[inline]
            fn load(stored: ValueRef<'_>) -> Result<$rust, Misfit> {
                match stored {
                    ValueRef::Integer(number) => <$rust>::try_from(number).map_err(|_| {
                        outside(number, stringify!($rust), &<$rust>::MIN, &<$rust>::MAX)
                    }),
                    other => Err(Misfit::kind(other, concat!("a whole number (", stringify!($rust), ")"))),
                }
            }
        }

        impl Comparable for $rust {}
    )*};
}

macro_rules! summed {
    ($($rust:ty => $sum:ty),*) => {$(
        impl Summed for $rust {
            type Sum = $sum;
        }
    )*};
}

summed!(i8 => i64, i16 => i64, i32 => i64, i64 => i64, u8 => i64, u16 => i64, u32 => i64, u64 => i64, f32 => f64, f64 => f64);

whole_number!(i8 => I8, i16 => I16, i32 => I32, i64 => I64, u8 => U8, u16 => U16, u32 => U32, u64 => U64);

#[cold]
fn too_large(number: u64) -> Misfit {
    Misfit::new(number, format!("is above {}, the largest whole number the file can hold", i64::MAX))
        .advise("Keep such numbers as text or bytes")
}

#[cold]
fn outside(number: i64, rust: &str, least: &dyn std::fmt::Display, most: &dyn std::fmt::Display) -> Misfit {
    Misfit::new(number, format!("does not fit {rust} ({least} to {most})"))
        .advise("Declare the field with a wider type, or correct what is stored")
}

macro_rules! decimal {
    ($($rust:ty => $kind:ident),*) => {$(
        impl ColumnType for $rust {
            by_value!($rust, $kind);

            #[inline]
            fn store<O: Output>(value: &$rust, out: O) -> Result<(), Misfit> {
                if value.is_nan() {
                    return Err(not_a_number());
                }
                // -0.0 becomes 0.0, also where it is sealed: the engine keeps no other.
                out.real(f64::from(*value) + 0.0);
                Ok(())
            }

            #[inline]
            fn load(stored: ValueRef<'_>) -> Result<$rust, Misfit> {
                match stored {
                    ValueRef::Real(number) => Ok(number as $rust),
                    ValueRef::Integer(number) => Ok(number as $rust),
                    other => Err(Misfit::kind(other, "a decimal number")),
                }
            }
        }

        impl Comparable for $rust {}
    )*};
}

decimal!(f32 => F32, f64 => F64);

#[cold]
fn not_a_number() -> Misfit {
    Misfit::new("NaN", "is not a number, and the file would silently keep nothing in its place")
        .advise("Correct the calculation, or make the field an Option and store None")
}

impl ColumnType for bool {
    by_value!(bool, Bool);

    #[inline]
    fn store<O: Output>(value: &bool, out: O) -> Result<(), Misfit> {
        out.integer(i64::from(*value));
        Ok(())
    }

    #[inline]
    fn load(stored: ValueRef<'_>) -> Result<bool, Misfit> {
        match stored {
            ValueRef::Integer(0) => Ok(false),
            ValueRef::Integer(1) => Ok(true),
            ValueRef::Integer(other) => Err(Misfit::new(other, "is neither 0 (false) nor 1 (true)")),
            other => Err(Misfit::kind(other, "true or false (1 or 0)")),
        }
    }
}
