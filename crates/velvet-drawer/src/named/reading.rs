//! Reading named values.

use super::{NameArg, NamedValues, ValueOf, called, stored_name, with_name};
use crate::drawer::{Access, Mode, Scope};
use crate::engine::WithoutKey;
use crate::error::Error;
use crate::live::Live;
use crate::query::{Records, unreadable};
use std::sync::Arc;
use velvet_core::column_type::Comparable;
use velvet_core::exchange::value_list;
use velvet_core::query::column::own_key_column;
use velvet_core::{Column, Misfit, NamedValue, Stored, Textual, Value, ValueRef};

impl<T: NamedValue, A: Access> NamedValues<T, A> {
    /// The value with this name, or nothing when there is none.
    ///
    /// # Errors
    /// When the file cannot be read, or what is stored there is not a value of the type ([`Error::is_unreadable`]).
    pub fn get(&self, name: NameArg<'_, T>) -> Result<Option<ValueOf<T>>, Error> {
        with_name::<T, _>(name, |name| self.at.reading(|scope| scope.named::<T>(name)))
    }

    /// The value with this name, or `default` when there is none.
    ///
    /// # Errors
    /// As [`NamedValues::get`].
    pub fn get_or(&self, name: NameArg<'_, T>, default: ValueOf<T>) -> Result<ValueOf<T>, Error> {
        Ok(self.get(name)?.unwrap_or(default))
    }

    /// The value with this name, or the default of its type when there is none.
    ///
    /// # Errors
    /// As [`NamedValues::get`].
    pub fn get_or_default(&self, name: NameArg<'_, T>) -> Result<ValueOf<T>, Error>
    where
        ValueOf<T>: Default,
    {
        Ok(self.get(name)?.unwrap_or_default())
    }

    /// Whether there is a value with this name.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn has(&self, name: NameArg<'_, T>) -> Result<bool, Error> {
        self.records().filter(|_| Self::name().is(name)).any()
    }

    /// The values with these names, in one statement: one for each name, in their order.
    ///
    /// # Errors
    /// As [`NamedValues::get`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] #[record(named)] struct LastMark { name: String, value: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<LastMark>())?;
    /// let marks = drawer.named::<LastMark>();
    /// marks.merge([("bowl", 139), ("jug", 12)])?;
    /// assert_eq!(marks.get_all(["jug", "vase", "bowl"])?, [Some(12), None, Some(139)]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn get_all<'n>(
        &self,
        names: impl IntoIterator<Item = NameArg<'n, T>>,
    ) -> Result<Vec<Option<ValueOf<T>>>, Error> {
        let names = names.into_iter().map(stored_name::<T>).collect::<Result<Vec<_>, _>>()?;
        let doing = || format!("cannot read named values of {}", T::TABLE);
        self.at.reading(|scope| {
            scope.doing(doing, || {
                let mut all: Vec<Option<ValueOf<T>>> = names.iter().map(|_| None).collect();
                let list = Value::Text(value_list(&names));
                scope.connection.rows(&T::named_statements().get_all, [list.as_ref()], |mut row| {
                    let at = usize::try_from(row.key()).unwrap_or(usize::MAX);
                    let value = T::take_value(&mut row).map_err(|misfit| {
                        unreadable_value::<T>(misfit).doing(format!("cannot read {}", called::<T>(names[at].as_ref())))
                    })?;
                    all[at] = Some(value);
                    Ok::<_, Error>(())
                })?;
                Ok(all)
            })
        })
    }

    /// How many named values there are.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn count(&self) -> Result<u64, Error> {
        self.records().count()
    }

    /// The names and values as records, in the order in which the names were first set; to be filtered, sorted, collected, counted, watched, removed.
    pub fn records(&self) -> Records<T, A> {
        Records::at(self.at.clone())
    }

    /// As [`NamedValues::records`], in the order of the names.
    pub fn by_name(&self) -> Records<T, A> {
        self.records().sort_by(|_| Self::name().ascending())
    }

    /// Those whose names begin with `prefix`, in the order of the names.
    pub fn with_prefix(&self, prefix: &str) -> Records<T, A>
    where
        T::OwnKey: Textual,
    {
        self.by_name().filter(|_| Self::name().starts_with(prefix))
    }

    /// Those whose names are not below `first` and not above `last`, in the order of the names.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// /// Who has which place at the wheels.
    /// #[derive(Record)]
    /// #[record(named)]
    /// struct Seat { name: i64, value: String }
    ///
    /// # fn main() -> Result<(), velvet_drawer::Error> {
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Seat>())?;
    /// let seats = drawer.named::<Seat>();
    /// seats.merge([(1, "Ida".into()), (4, "Ole".into()), (9, "Pia".into())])?;
    /// let window = seats.between(1, 5).collect()?;
    /// assert_eq!(window.iter().map(|seat| seat.value.as_str()).collect::<Vec<_>>(), ["Ida", "Ole"]);
    /// # Ok(()) }
    /// ```
    pub fn between(&self, first: NameArg<'_, T>, last: NameArg<'_, T>) -> Records<T, A>
    where
        T::OwnKey: Comparable,
    {
        self.by_name().filter(|_| Self::name().between(first, last))
    }

    fn name() -> Column<T, T::OwnKey> {
        own_key_column()
    }
}

impl<T: NamedValue + Send + Sync> NamedValues<T> {
    /// Follows the value with this name, which need not be there yet; see [`Live`]. All values of the set are followed by
    /// `records().watch()`.
    ///
    /// # Errors
    /// As [`Records::watch`].
    pub fn watch(&self, name: NameArg<'_, T>) -> Result<Live<Option<Arc<Stored<T>>>>, Error> {
        self.records().filter(|_| Self::name().is(name)).watch_one()
    }
}

impl<M: Mode> Scope<'_, M> {
    /// The value with this name.
    pub(super) fn named<T: NamedValue>(self, name: ValueRef<'_>) -> Result<Option<ValueOf<T>>, Error> {
        self.doing(
            || format!("cannot read {}", called::<T>(name)),
            || {
                let mut statement = self.connection.prepare(&T::named_statements().get)?;
                statement.bind(1, name)?;
                let mut rows = statement.rows();
                let Some(row) = rows.next()? else { return Ok(None) };
                T::take_value(&mut WithoutKey(row)).map(Some).map_err(|misfit| unreadable_value::<T>(misfit))
            },
        )
    }
}

/// An error of what is stored under a name, which is none of the set's type.
#[cold]
fn unreadable_value<T: NamedValue>(misfit: Misfit) -> Error {
    unreadable::<T>(Misfit { column: Some(T::VALUE_POSITION), ..misfit })
}
