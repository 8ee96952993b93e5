//! Writing to every record of a selection.

use super::{UNTOUCHED, clash};
use crate::engine::Fault;
use crate::error::Error;
use crate::reading::{Open, Records};
use velvet_core::statement::Select;
use velvet_core::{Assignments, Fragment, Record, Value};

impl<T: Record> Records<'_, T> {
    /// Gives columns new values in every record of the selection, and says how many there were.
    ///
    /// # Errors
    /// When that would clash or leave a link without its record, a value has no stored form, or the file cannot be
    /// written. Nothing is written then.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, stage: String, grams: Option<u32> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for n in 0..3 { drawer.insert(Piece { mark: format!("K-{n}"), stage: "thrown".into(), grams: Some(n) })?; }
    /// let fired = drawer
    ///     .records::<Piece>()
    ///     .filter(|p| p.grams.at_least(1))
    ///     .update(|p| (p.stage.set("bisque"), p.grams.clear()))?;
    /// assert_eq!(fired, 2);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn update<A: Assignments<T>>(self, new: impl FnOnce(T::Columns) -> A) -> Result<u64, Error> {
        let (mut columns, mut values, mut misfit) = (Vec::new(), Vec::<Value>::new(), None);
        new(T::columns()).each(&mut |column, value| match value {
            Ok(value) => {
                columns.push(column);
                values.push(value);
            }
            Err(wrong) => misfit = misfit.take().or(Some(wrong)),
        });
        let doing = || format!("cannot update records of {}", T::TABLE);
        self.write(
            |open| match misfit {
                Some(misfit) => Err(super::misfit::<T>(open, &doing(), misfit)),
                None => Ok(()),
            },
            |select| select.update::<T>(&columns, values),
            |open, fault| {
                let error = Error::engine(&doing(), fault);
                open.inner.place.name(error.untouched(UNTOUCHED))
            },
            |_, _| {},
        )
    }

    /// Removes every record of the selection, and says how many there were.
    ///
    /// # Errors
    /// When other records link to one of them and do not allow that ([`Error::is_broken_link`]), or the file cannot be
    /// written. Nothing is removed then.
    pub fn remove(self) -> Result<u64, Error> {
        let doing = || format!("cannot remove records of {}", T::TABLE);
        self.write(
            |_| Ok(()),
            Select::remove::<T>,
            |open, fault| clash::explain_removal::<T>(open, &doing(), None, fault),
            |open, removed| open.connection.removed_at_once(T::TABLE, removed),
        )
    }

    fn write(
        self,
        check: impl FnOnce(Open<'_>) -> Result<(), Error>,
        text: impl FnOnce(Select) -> Fragment,
        explain: impl Fn(Open<'_>, Fault) -> Error,
        wrote: impl FnOnce(Open<'_>, u64),
    ) -> Result<u64, Error> {
        self.run_writing(|open, select| {
            check(open)?;
            let Fragment { text, values, misfit } = text(select);
            if let Some(misfit) = misfit {
                return Err(super::misfit::<T>(open, &format!("cannot write records of {}", T::TABLE), misfit));
            }
            let mut statement = open.connection.prepare(&text).map_err(|fault| explain(open, fault))?;
            statement.bind_all(&values).map_err(|fault| explain(open, fault))?;
            let rows = statement.execute().map_err(|fault| explain(open, fault))?;
            wrote(open, rows);
            Ok(rows)
        })
    }
}
