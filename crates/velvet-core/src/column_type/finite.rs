//! Finds decimals that JSON has no form for inside a nested value: NaN and the infinities, which would be written as `null`.

use serde::ser::{self, Serialize, Serializer};
use std::fmt::{self, Display};

/// A decimal without a form in JSON, and where it stands in the value.
#[derive(Debug)]
pub(super) struct NotFinite {
    /// The way to it, the innermost part first.
    path: Vec<String>,
    what: String,
}

/// Finds the first decimal of `value` that JSON has no form for.
pub(super) fn check<V: Serialize + ?Sized>(value: &V) -> Result<(), NotFinite> {
    value.serialize(Walk)
}

impl Display for NotFinite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path: String = self.path.iter().rev().map(String::as_str).collect();
        let path = path.trim_start_matches('.');
        if path.is_empty() { f.write_str(&self.what) } else { write!(f, "{} at `{path}`", self.what) }
    }
}

impl std::error::Error for NotFinite {}

impl ser::Error for NotFinite {
    fn custom<T: Display>(message: T) -> Self {
        NotFinite { path: Vec::new(), what: message.to_string() }
    }
}

impl NotFinite {
    fn below(mut self, part: String) -> NotFinite {
        self.path.push(part);
        self
    }
}

/// Visits a value and keeps nothing of it.
struct Walk;

/// Visits the parts of a value, which are counted.
struct Parts(usize);

impl Parts {
    fn item<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), NotFinite> {
        let at = self.0;
        self.0 += 1;
        value.serialize(Walk).map_err(|found| found.below(format!("[{at}]")))
    }

    fn named<T: Serialize + ?Sized>(name: &str, value: &T) -> Result<(), NotFinite> {
        value.serialize(Walk).map_err(|found| found.below(format!(".{name}")))
    }
}

macro_rules! nothing_to_see {
    ($($name:ident($($argument:ty),*);)*) => {$(
        fn $name(self, $(_: $argument),*) -> Result<(), NotFinite> { Ok(()) }
    )*};
}

macro_rules! parts {
    ($($name:ident($($argument:ty),*);)*) => {$(
        fn $name(self, $(_: $argument),*) -> Result<Parts, NotFinite> { Ok(Parts(0)) }
    )*};
}

impl Serializer for Walk {
    type Ok = ();
    type Error = NotFinite;
    type SerializeSeq = Parts;
    type SerializeTuple = Parts;
    type SerializeTupleStruct = Parts;
    type SerializeTupleVariant = Parts;
    type SerializeMap = Parts;
    type SerializeStruct = Parts;
    type SerializeStructVariant = Parts;

    nothing_to_see! {
        serialize_bool(bool); serialize_i8(i8); serialize_i16(i16); serialize_i32(i32); serialize_i64(i64); serialize_i128(i128);
        serialize_u8(u8); serialize_u16(u16); serialize_u32(u32); serialize_u64(u64); serialize_u128(u128);
        serialize_char(char); serialize_str(&str); serialize_bytes(&[u8]); serialize_none(); serialize_unit();
        serialize_unit_struct(&'static str); serialize_unit_variant(&'static str, u32, &'static str);
    }
    parts! {
        serialize_seq(Option<usize>);
        serialize_tuple(usize);
        serialize_tuple_struct(&'static str, usize);
        serialize_tuple_variant(&'static str, u32, &'static str, usize);
        serialize_map(Option<usize>);
        serialize_struct(&'static str, usize);
        serialize_struct_variant(&'static str, u32, &'static str, usize);
    }

    fn serialize_f32(self, value: f32) -> Result<(), NotFinite> {
        self.serialize_f64(value.into())
    }

    fn serialize_f64(self, value: f64) -> Result<(), NotFinite> {
        if value.is_finite() { Ok(()) } else { Err(NotFinite { path: Vec::new(), what: format!("{value}") }) }
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Result<(), NotFinite> {
        value.serialize(self)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(self, _: &'static str, value: &T) -> Result<(), NotFinite> {
        value.serialize(self)
    }

    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        value: &T,
    ) -> Result<(), NotFinite> {
        Parts::named(name, value)
    }
}

macro_rules! in_order {
    ($($kind:ident::$name:ident;)*) => {$(
        impl ser::$kind for Parts {
            type Ok = ();
            type Error = NotFinite;

            fn $name<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), NotFinite> {
                self.item(value)
            }

            fn end(self) -> Result<(), NotFinite> {
                Ok(())
            }
        }
    )*};
}

in_order! {
    SerializeSeq::serialize_element;
    SerializeTuple::serialize_element;
    SerializeTupleStruct::serialize_field;
    SerializeTupleVariant::serialize_field;
}

macro_rules! by_name {
    ($($kind:ident;)*) => {$(
        impl ser::$kind for Parts {
            type Ok = ();
            type Error = NotFinite;

            fn serialize_field<T: Serialize + ?Sized>(&mut self, name: &'static str, value: &T) -> Result<(), NotFinite> {
                Parts::named(name, value)
            }

            fn end(self) -> Result<(), NotFinite> {
                Ok(())
            }
        }
    )*};
}

by_name! {
    SerializeStruct;
    SerializeStructVariant;
}

impl ser::SerializeMap for Parts {
    type Ok = ();
    type Error = NotFinite;

    fn serialize_key<T: Serialize + ?Sized>(&mut self, _: &T) -> Result<(), NotFinite> {
        Ok(())
    }

    fn serialize_value<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), NotFinite> {
        self.item(value)
    }

    fn serialize_entry<K: Serialize + ?Sized, V: Serialize + ?Sized>(
        &mut self,
        key: &K,
        value: &V,
    ) -> Result<(), NotFinite> {
        value
            .serialize(Walk)
            .map_err(|found| found.below(format!("[{}]", serde_json::to_string(key).unwrap_or_default())))
    }

    fn end(self) -> Result<(), NotFinite> {
        Ok(())
    }
}
