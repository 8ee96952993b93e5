//! What the rows of a statement, or some columns of a record, are read as.

use crate::column_type::{ColumnType, Misfit};
use crate::query::pick::{Pick, Picked};
use crate::records::key::Key;
use crate::records::record::{Record, Source};
use crate::records::stored::Stored;
use crate::schema::structure::Kind;
use crate::value::name::nearest;
use std::marker::PhantomData;

/// What a row is read as: a single value, a tuple of values by their place, a struct with `#[derive(Excerpt)]` by the names
/// of its columns, or a [`Stored`] record (`SELECT * FROM piece`).
#[diagnostic::on_unimplemented(
    message = "a row cannot be read as `{Self}`",
    note = "rows are read as one column type, a tuple of column types, a struct with `#[derive(Excerpt)]`, or `Stored<…>`"
)]
pub trait Excerpt: Sized {
    /// The columns it takes, in order.
    #[doc(hidden)]
    fn wanted() -> Vec<Wanted>;

    /// Reads it from `source`, which has the columns in this order.
    ///
    /// # Errors
    /// When a stored value is not one of its column's type.
    #[doc(hidden)]
    fn read<S: Source>(source: &mut S) -> Result<Self, Misfit>;
}

/// A column that an excerpt takes.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Its name, where it is found by that.
    pub name: Option<&'static str>,
    /// What it holds.
    pub kind: Kind,
    /// Whether it may be missing.
    pub optional: bool,
}

impl Wanted {
    /// A column that is found by its name.
    pub fn named<C: ColumnType>(name: &'static str) -> Wanted {
        Wanted { name: Some(name), ..Wanted::placed::<C>() }
    }

    /// What it holds, in words.
    pub fn in_words(&self) -> String {
        let Wanted { kind, optional, .. } = self.clone();
        crate::schema::structure::ColumnDefinition::new("", (kind, optional), None, None).in_words()
    }

    /// A column that is found by its place.
    pub fn placed<C: ColumnType>() -> Wanted {
        Wanted { name: None, kind: C::kind(), optional: C::OPTIONAL }
    }
}

/// An excerpt of the columns of a record: a struct with `#[derive(Excerpt)]` and `#[excerpt(of = …)]`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not an excerpt of `{T}`",
    note = "put `#[excerpt(of = {T})]` on the struct with `#[derive(Excerpt)]`"
)]
pub trait ExcerptOf<T>: Excerpt {
    /// Hands each column to `take`, in order.
    #[doc(hidden)]
    fn each(take: &mut dyn FnMut(Picked));
}

/// The pick of the columns of an excerpt.
pub struct PickOf<E>(PhantomData<fn() -> E>);

impl<E> Default for PickOf<E> {
    fn default() -> Self {
        PickOf(PhantomData)
    }
}

impl<T, E: ExcerptOf<T>> Pick<T> for PickOf<E> {
    type Output = E;

    fn each(self, take: &mut dyn FnMut(Picked)) {
        E::each(take);
    }

    fn read<S: Source>(source: &mut S, at: &mut usize) -> Result<E, Misfit> {
        E::read(&mut Shifted { source, by: *at })
    }
}

/// A source whose first column is a later one of another.
struct Shifted<'a, S> {
    source: &'a mut S,
    by: usize,
}

impl<S: Source> Source for Shifted<'_, S> {
    #[inline]
    fn take<C: ColumnType>(&mut self, column: usize) -> Result<C::Value, Misfit> {
        self.source.take::<C>(column + self.by)
    }
}

impl<C: ColumnType<Value = C>> Excerpt for C {
    fn wanted() -> Vec<Wanted> {
        vec![Wanted::placed::<C>()]
    }

    fn read<S: Source>(source: &mut S) -> Result<C, Misfit> {
        source.take::<C>(0)
    }
}

impl<T: Record> Excerpt for Stored<T> {
    fn wanted() -> Vec<Wanted> {
        let columns = T::table().map(|table| table.columns).unwrap_or_default();
        let key = Wanted::named::<Key<T>>(crate::value::name::KEY_COLUMN);
        let wanted = |(name, column): (&&'static str, crate::schema::structure::ColumnDefinition)| Wanted {
            name: Some(name),
            kind: column.kind,
            optional: column.optional,
        };
        std::iter::once(key).chain(T::COLUMNS.iter().zip(columns).map(wanted)).collect()
    }

    fn read<S: Source>(source: &mut S) -> Result<Stored<T>, Misfit> {
        let key = source.take::<Key<T>>(0)?;
        Ok(Stored::new(key, T::load(&mut Shifted { source, by: 1 })?))
    }
}

macro_rules! tuple_of_values {
    ($($name:ident at $place:literal),+) => {
        impl<$($name: ColumnType<Value = $name>),+> Excerpt for ($($name,)+) {
            fn wanted() -> Vec<Wanted> {
                vec![$(Wanted::placed::<$name>()),+]
            }

            fn read<S: Source>(source: &mut S) -> Result<Self, Misfit> {
                Ok(($(source.take::<$name>($place)?,)+))
            }
        }
    };
}

tuple_of_values!(A at 0, B at 1);
tuple_of_values!(A at 0, B at 1, C at 2);
tuple_of_values!(A at 0, B at 1, C at 2, D at 3);
tuple_of_values!(A at 0, B at 1, C at 2, D at 3, E at 4);
tuple_of_values!(A at 0, B at 1, C at 2, D at 3, E at 4, F at 5);
tuple_of_values!(A at 0, B at 1, C at 2, D at 3, E at 4, F at 5, G at 6);
tuple_of_values!(A at 0, B at 1, C at 2, D at 3, E at 4, F at 5, G at 6, H at 7);

/// Why what a statement returns cannot be read as what is wanted of it.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum WrongColumns {
    /// It returns more or fewer columns than are read.
    #[error("it returns {}, and is read as {}", columns(*.returned), columns(*.wanted))]
    Count {
        /// How many it returns.
        returned: usize,
        /// As how many it is read.
        wanted: usize,
    },
    /// It returns no column of a name.
    #[error("it returns no column `{name}`, but {returned}{hint}")]
    Missing {
        /// The name.
        name: &'static str,
        /// The columns that it returns.
        returned: String,
        /// Names the column that may be meant.
        hint: String,
    },
}

fn columns(count: usize) -> String {
    if count == 1 { "1 column".to_owned() } else { format!("{count} columns") }
}

/// Where each wanted column stands among those that a statement returns.
///
/// # Errors
/// When one is not there, or there are too many or too few.
pub fn places(wanted: &[Wanted], returned: &[&str]) -> Result<Vec<usize>, WrongColumns> {
    if wanted.iter().all(|w| w.name.is_none()) && wanted.len() != returned.len() {
        return Err(WrongColumns::Count { returned: returned.len(), wanted: wanted.len() });
    }
    let place = |(at, wanted): (usize, &Wanted)| {
        let Some(name) = wanted.name else { return Ok(at) };
        returned.iter().position(|r| r.eq_ignore_ascii_case(name)).ok_or_else(|| {
            let near = nearest(name, returned.iter().copied());
            let hint = near.map_or(String::new(), |near| format!("; did `{near}` mean the same?"));
            WrongColumns::Missing { name, returned: returned.join(", "), hint }
        })
    };
    wanted.iter().enumerate().map(place).collect()
}
