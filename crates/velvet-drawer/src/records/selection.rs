//! Writing to every record of a selection.

use super::clash;
use crate::drawer::{Access, MayWrite, Scope, UNTOUCHED, Writes};
use crate::engine::Fault;
use crate::error::Error;
use crate::query::Records;
use crate::work::progress;
use jiff::Timestamp;
use velvet_core::column_type::stored_value;
use velvet_core::query::assignment::New;
use velvet_core::records::stamp::When;
use velvet_core::{Assignments, Fragment, Key, Record, Value};

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
    ///     .update(|p| (p.stage.set("bisque"), p.grams.increase(10)))?;
    /// assert_eq!(fired, 2);
    /// # assert_eq!(drawer.records::<Piece>().sum(|p| p.grams)?, 23);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn update<N: Assignments<T>>(self, new: impl FnOnce(T::Columns) -> N) -> Result<u64, Error>
    where
        A: MayWrite,
    {
        let (mut all, mut misfit) = (Vec::new(), None);
        new(T::columns()).each(&mut |new| match new {
            Ok(new) => all.push(new),
            Err(wrong) => misfit = misfit.take().or(Some(wrong)),
        });
        let doing = || format!("cannot update records of {}", T::TABLE);
        self.run_writing(|scope, select| {
            // The engine does this in one statement, which does not say how far it has come.
            progress::tell(|| format!("updating records of {}", T::TABLE), 0, None);
            scope.doing(doing, || {
                if let Some(misfit) = misfit {
                    return Err(super::misfit::<T>(misfit));
                }
                for column in T::STAMPED.iter().filter(|column| column.when == When::Changed) {
                    let name = T::COLUMNS[column.at];
                    if !all.iter().any(|new: &New| new.column == name) {
                        let now = stored_value::<Timestamp>(&scope.now()).map_err(super::misfit::<T>)?;
                        all.push(New { column: name, value: Fragment::text("?").bind(now), is_computed: false });
                    }
                }
                let computed = all.iter().filter(|new| new.is_computed).map(|new| new.column);
                let computed: Vec<usize> =
                    computed.filter_map(|name| T::COLUMNS.iter().position(|column| *column == name)).collect();
                let statement = select.update::<T>(all);
                if computed.is_empty() {
                    return execute::<T>(scope, statement, Error::from);
                }
                // Where one does not fit, all of it is undone.
                scope.part(|| updated::<T>(scope, statement, &computed))
            })
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
            progress::tell(|| format!("removing records of {}", T::TABLE), 0, None);
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

/// Runs a statement that gives columns values that follow from what was stored, and sees that each is one of its column's type. Says how many records there
/// were.
fn updated<T: Record>(scope: Scope<'_, Writes>, statement: Fragment, computed: &[usize]) -> Result<u64, Error> {
    let Fragment { text, values, misfit } = statement;
    if let Some(misfit) = misfit {
        return Err(super::misfit::<T>(misfit));
    }
    let mut count = 0;
    scope.connection.rows(&text, values.iter().map(Value::as_ref), |row| {
        count += 1;
        for (at, column) in computed.iter().enumerate() {
            T::fits(*column, row.value(at + 1)).map_err(|wrong| {
                let key = Key::<T>::from_number(row.integer(0));
                super::misfit::<T>(wrong).doing(format!("cannot update {key}")).untouched(UNTOUCHED)
            })?;
        }
        Ok::<_, Error>(())
    })?;
    Ok(count)
}
