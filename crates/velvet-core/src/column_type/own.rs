//! Types of an app's own.

use super::{ColumnType, Comparable, Misfit, Output, Shape, stored_value};
use crate::exchange::show;
use crate::schema::structure::Kind;
use crate::value::{Value, ValueRef};

/// Makes a type of your own a column, by saying which column type it is stored as and how to go there and back.
///
/// ```
/// use velvet_drawer::StoredAs;
///
/// /// A pyrometric cone: stored as its number, with the small ones (`01`, `02` …) below zero.
/// #[derive(Debug, PartialEq)]
/// struct Cone(i8);
///
/// impl StoredAs for Cone {
///     type Stored = i8;
///     fn to_stored(&self) -> i8 {
///         self.0
///     }
///     fn from_stored(number: i8) -> Result<Self, String> {
///         if (-22..=42).contains(&number) { Ok(Cone(number)) } else { Err("is not a cone (-22 to 42)".into()) }
///     }
/// }
/// ```
pub trait StoredAs: Sized + 'static {
    /// The column type it is stored as.
    type Stored: ColumnType<Value = Self::Stored>;

    /// What to store for it.
    fn to_stored(&self) -> Self::Stored;

    /// The value in words, and why it has no stored form, as the rest of a sentence that begins with it; nothing where it has one, as all have
    /// unless said otherwise.
    fn objection(&self) -> Option<(String, String)> {
        None
    }

    /// The value that was stored.
    ///
    /// # Errors
    /// Says why `stored` is not such a value, as the rest of a sentence that begins with the stored value. Such a value is refused
    /// when it is written, too, so that nothing is stored that cannot be read back.
    fn from_stored(stored: Self::Stored) -> Result<Self, String>;
}

impl<T: StoredAs> ColumnType for T {
    type Value = T;
    type Inner = T;
    type Arg<'a> = T;
    const OPTIONAL: bool = {
        assert!(!T::Stored::OPTIONAL, "StoredAs::Stored cannot be an Option: make the field an Option instead");
        false
    };
    const SHAPE: Shape = T::Stored::SHAPE;

    fn kind() -> Kind {
        T::Stored::kind()
    }

    fn store<O: Output>(value: &T, out: O) -> Result<(), Misfit> {
        if let Some((value, reason)) = value.objection() {
            return Err(Misfit::new(value, reason));
        }
        let stored = value.to_stored();
        T::Stored::store(&stored, out)?;
        // What cannot be read back must not be written: one such row, and no list that has it can be read any more.
        T::from_stored(stored).map(drop).map_err(|reason| {
            let stored = stored_value::<T::Stored>(&value.to_stored()).unwrap_or(Value::Missing);
            Misfit::new(show::plain(stored.as_ref()), reason)
        })
    }

    fn store_arg<O: Output>(arg: T, out: O) -> Result<(), Misfit> {
        Self::store(&arg, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<T, Misfit> {
        T::from_stored(T::Stored::load(stored)?).map_err(|reason| Misfit::new(show::plain(stored), reason))
    }
}

impl<T: StoredAs> Comparable for T where T::Stored: Comparable {}
