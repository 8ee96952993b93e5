//! Further types of Rust's own library.

use super::{ColumnType, Comparable, Misfit, Output, StoredAs, Textual};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::num::{NonZeroI8, NonZeroI16, NonZeroI32, NonZeroI64, NonZeroU8, NonZeroU16, NonZeroU32, NonZeroU64};

impl ColumnType for Box<str> {
    type Value = Box<str>;
    type Inner = Box<str>;
    type Arg<'a> = &'a str;

    fn kind() -> Kind {
        Kind::Text
    }

    fn store<O: Output>(value: &Box<str>, out: O) -> Result<(), Misfit> {
        out.text(value);
        Ok(())
    }

    fn store_arg<O: Output>(arg: &str, out: O) -> Result<(), Misfit> {
        out.text(arg);
        Ok(())
    }

    fn load(stored: ValueRef<'_>) -> Result<Box<str>, Misfit> {
        String::load(stored).map(String::into_boxed_str)
    }
}

impl Comparable for Box<str> {}
impl Textual for Box<str> {}
impl Textual for Option<Box<str>> {}

impl StoredAs for char {
    type Stored = String;

    fn to_stored(&self) -> String {
        self.to_string()
    }

    fn from_stored(stored: String) -> Result<char, String> {
        let mut all = stored.chars();
        match (all.next(), all.next()) {
            (Some(one), None) => Ok(one),
            _ => Err("is not one character".into()),
        }
    }
}

impl<const N: usize> StoredAs for [u8; N] {
    type Stored = Vec<u8>;

    fn to_stored(&self) -> Vec<u8> {
        self.to_vec()
    }

    fn from_stored(stored: Vec<u8>) -> Result<[u8; N], String> {
        let length = stored.len();
        stored.try_into().map_err(|_| format!("has {length} bytes, where {N} must be"))
    }
}

/// Numbers that are never 0.
macro_rules! non_zero {
    ($($non_zero:ty, $number:ty;)*) => {
        $(impl StoredAs for $non_zero {
            type Stored = $number;

            fn to_stored(&self) -> $number {
                self.get()
            }

            fn from_stored(stored: $number) -> Result<$non_zero, String> {
                <$non_zero>::new(stored).ok_or_else(|| "must not be there".into())
            }
        })*
    };
}

non_zero! {
    NonZeroI8, i8;
    NonZeroI16, i16;
    NonZeroI32, i32;
    NonZeroI64, i64;
    NonZeroU8, u8;
    NonZeroU16, u16;
    NonZeroU32, u32;
    NonZeroU64, u64;
}

/// Addresses, as their usual text.
macro_rules! as_text {
    ($($address:ty, $what:literal;)*) => {
        $(impl StoredAs for $address {
            type Stored = String;

            fn to_stored(&self) -> String {
                self.to_string()
            }

            fn from_stored(stored: String) -> Result<$address, String> {
                stored.parse().map_err(|_| concat!("is not ", $what).into())
            }
        })*
    };
}

as_text! {
    IpAddr, "an IP address";
    Ipv4Addr, "an IPv4 address";
    Ipv6Addr, "an IPv6 address";
}
