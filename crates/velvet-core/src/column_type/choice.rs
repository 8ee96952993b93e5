//! Enumerations, stored as text.

use super::Misfit;
use crate::value::ValueRef;

/// An enumeration stored as text; made by `#[derive(Choice)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a choice",
    note = "put `#[derive(Choice)]` on the enumeration"
)]
pub trait Choice: Sized + 'static {
    /// The stored names of its variants, in declared order.
    const NAMES: &'static [&'static str];

    /// Where names that are not declared come in the declared order, where one variant stands for them: twice its place, and one more when
    /// it has a name of its own.
    #[doc(hidden)]
    const FALLBACK_RANK: Option<u32> = None;

    /// The stored name of this value.
    fn name(&self) -> &str;

    /// The value with this stored name: a variant, or else the fallback if one is declared.
    fn from_name(name: &str) -> Option<Self>;
}

/// What a choice is as a column type, which is the same for each.
#[doc(hidden)]
#[macro_export]
macro_rules! choice_is_a_column {
    ($choice:ident) => {
        #[automatically_derived]
        impl $crate::ColumnType for $choice {
            type Value = $choice;
            type Inner = $choice;
            type Arg<'a> = $choice;

            fn kind() -> $crate::schema::structure::Kind {
                let values = <$choice as $crate::Choice>::NAMES.iter().map(|name| ::std::string::String::from(*name));
                let fallback = <$choice as $crate::Choice>::FALLBACK_RANK.is_some();
                $crate::schema::structure::Kind::Choice { values: values.collect(), fallback }
            }

            fn store<O: $crate::Output>(value: &$choice, out: O) -> ::core::result::Result<(), $crate::Misfit> {
                out.text($crate::Choice::name(value));
                ::core::result::Result::Ok(())
            }

            fn store_arg<O: $crate::Output>(arg: $choice, out: O) -> ::core::result::Result<(), $crate::Misfit> {
                Self::store(&arg, out)
            }

            fn load(stored: $crate::ValueRef<'_>) -> ::core::result::Result<$choice, $crate::Misfit> {
                $crate::column_type::read_choice(stored)
            }
        }
    };
}

/// Reads a choice from its stored text.
///
/// # Errors
/// When it is no text, or a name that is not declared and no fallback is either.
pub fn read_choice<C: Choice>(stored: ValueRef<'_>) -> Result<C, Misfit> {
    match stored {
        ValueRef::Text(name) => C::from_name(name).ok_or_else(|| unknown(name, C::NAMES)),
        other => Err(Misfit::kind(other, "the name of a choice")),
    }
}

#[cold]
fn unknown(name: &str, known: &[&str]) -> Misfit {
    Misfit::new(format!("{name:?}"), format!("is none of the declared choices ({})", known.join(", ")))
        .advise("Declare it, or mark one variant with #[choice(fallback)] to stand for unknown ones")
}
