//! Orders of texts of the app's own.

use std::any::{TypeId, type_name};
use std::cmp;

/// A collation: an order of texts that the engine has to be told of before a statement uses it.
#[derive(Clone, Debug)]
pub struct Collation {
    /// Its name in statements.
    pub name: String,
    /// Which of two texts comes first.
    pub compare: fn(&str, &str) -> cmp::Ordering,
}

/// An order of texts of the app's own, such as that of a language; given to `ascending_by`.
///
/// ```
/// use std::cmp::Ordering;
/// use velvet_drawer::TextOrder;
///
/// /// Shelf marks: `A2` before `A10`.
/// struct ShelfMarks;
///
/// impl TextOrder for ShelfMarks {
///     fn compare(a: &str, b: &str) -> Ordering {
///         (a.len(), a).cmp(&(b.len(), b))
///     }
/// }
/// ```
#[doc(alias = "collation")]
pub trait TextOrder: 'static {
    /// Which of the two comes first. It must be a total order, and always the same one.
    fn compare(a: &str, b: &str) -> cmp::Ordering;
}

impl Collation {
    pub(crate) fn of<O: TextOrder>() -> Collation {
        // Two types may have the same name.
        Collation { name: format!("{} {:?}", type_name::<O>(), TypeId::of::<O>()), compare: O::compare }
    }
}
