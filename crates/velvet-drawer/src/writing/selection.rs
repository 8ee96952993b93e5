//! Writing to every record of a selection.

use super::clash;
use crate::drawer::{Access, MayWrite, Scope, Writes};
use crate::engine::Fault;
use crate::error::Error;
use crate::reading::Records;
use jiff::Timestamp;
use velvet_core::column_type::stored_value;
use velvet_core::stamp::When;
use velvet_core::{Assignments, Fragment, Record, Value};

impl<T: Record, A: Access> Records<T, A> {
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
    pub fn update<N: Assignments<T>>(self, new: impl FnOnce(T::Columns) -> N) -> Result<u64, Error>
    where
        A: MayWrite,
    {
        let (mut columns, mut values, mut misfit) = (Vec::new(), Vec::<Value>::new(), None);
        new(T::columns()).each(&mut |column, value| match value {
            Ok(value) => {
                columns.push(column);
                values.push(value);
            }
            Err(wrong) => misfit = misfit.take().or(Some(wrong)),
        });
        self.run_writing(|scope, select| {
            scope.doing(
                || format!("cannot update records of {}", T::TABLE),
                || {
                    if let Some(misfit) = misfit {
                        return Err(super::misfit::<T>(misfit));
                    }
                    for column in T::STAMPED.iter().filter(|column| column.when == When::Changed) {
                        let name = T::COLUMNS[column.at];
                        if !columns.contains(&name) {
                            columns.push(name);
                            values.push(stored_value::<Timestamp>(&scope.now()).map_err(super::misfit::<T>)?);
                        }
                    }
                    execute::<T>(scope, select.update::<T>(&columns, values), Error::from)
                },
            )
        })
    }

    /// Removes every record of the selection, and says how many there were.
    ///
    /// # Errors
    /// When other records link to one of them and do not allow that ([`Error::is_broken_link`]), or the file cannot be
    /// written. Nothing is removed then.
    pub fn remove(self) -> Result<u64, Error>
    where
        A: MayWrite,
    {
        self.run_writing(|scope, select| {
            scope.doing(
                || format!("cannot remove records of {}", T::TABLE),
                || {
                    let explain = |fault| clash::explain_removal::<T>(scope, None, fault);
                    let removed = execute::<T>(scope, select.remove::<T>(), explain)?;
                    scope.connection.removed_at_once(T::TABLE, removed);
                    Ok(removed)
                },
            )
        })
    }
}

/// Runs a statement that writes records of `T`, and says how many there were.
fn execute<T: Record>(
    scope: Scope<'_, Writes>,
    statement: Fragment,
    explain: impl FnOnce(Fault) -> Error,
) -> Result<u64, Error> {
    let Fragment { text, values, misfit } = statement;
    match misfit {
        Some(misfit) => Err(super::misfit::<T>(misfit)),
        None => scope.connection.execute(&text, values.iter().map(Value::as_ref)).map_err(explain),
    }
}
