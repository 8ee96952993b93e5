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
