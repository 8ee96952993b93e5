//! Saying which value the engine refused, and why.

use crate::drawer::{Scope, Writes};
use crate::engine::{Fault, FaultKind};
use crate::error::{Cause, Error};
use velvet_core::exchange::show;
use velvet_core::records::record::stored_values;
use velvet_core::schema::structure::{Kind, OnDelete};
use velvet_core::value::name::{KEY_COLUMN, quoted};
use velvet_core::{Key, Record, Value};

/// Explains why `record` could not be written.
#[cold]
pub(crate) fn explain<T: Record>(scope: Scope<'_, Writes>, record: &T, fault: Fault) -> Error {
    let error = match &fault.kind {
        FaultKind::Clash(columns) => clash(scope, record, columns),
        FaultKind::Link => broken_link(scope, record),
        _ => None,
    };
    error.unwrap_or_else(|| fault.into())
}

/// Explains why a record, or all, could not be removed: others link to it.
#[cold]
pub(super) fn explain_removal<T: Record>(scope: Scope<'_, Writes>, key: Option<Key<T>>, fault: Fault) -> Error {
    let error = if fault.kind == FaultKind::Link { still_linked::<T>(scope, key, "it") } else { None };
    error.unwrap_or_else(|| fault.into()).untouched("Nothing was removed")
}

/// As [`explain_removal`], of one of several records: names the first that is linked to.
#[cold]
pub(super) fn explain_removals<T: Record>(scope: Scope<'_, Writes>, keys: &[i64], fault: Fault) -> Error {
    let linked = |key: &i64| {
        let key = Key::<T>::from_number(*key);
        still_linked::<T>(scope, Some(key), &key.to_string())
    };
    let error = if fault.kind == FaultKind::Link { keys.iter().find_map(linked) } else { None };
    error.unwrap_or_else(|| explain_removal::<T>(scope, None, fault)).untouched("Nothing was removed")
}

fn clash<T: Record>(scope: Scope<'_, Writes>, record: &T, columns: &[String]) -> Option<Error> {
    let names: Vec<&str> = columns.iter().map(|c| c.rsplit_once('.').map_or(c.as_str(), |(_, name)| name)).collect();
    let values = stored_values(record).ok()?;
    let mine: Vec<&Value> = names
        .iter()
        .filter_map(|name| T::COLUMNS.iter().position(|c| c == name))
        .filter_map(|at| values.get(at))
        .collect();
    let conditions: Vec<String> = names.iter().map(|name| format!("{} = ?", quoted(name))).collect();
    let text = format!("SELECT {} FROM {} WHERE {}", quoted(KEY_COLUMN), quoted(T::TABLE), conditions.join(" AND "));
    let other = scope.connection.one(&text, mine.iter().map(|value| value.as_ref()), |row| row.integer(0)).ok()??;
    let other = Key::<T>::from_number(other);
    let said: Vec<String> =
        names.iter().zip(&mine).map(|(name, value)| format!("{name} {}", show::plain(value.as_ref()))).collect();
    Some(
        Error::bare(Cause::Clash, format!("{} is already that of {other}", said.join(" with ")))
            .advise("Choose another value, or change that record")
            .in_table(T::TABLE, names.first().copied()),
    )
}

fn broken_link<T: Record>(scope: Scope<'_, Writes>, record: &T) -> Option<Error> {
    let values = stored_values(record).ok()?;
    let table = scope.inner.declared.structure.table(T::TABLE)?;
    for (column, value) in table.columns.iter().zip(&values) {
        let (Kind::Link { table: target }, Value::Integer(number)) = (&column.kind, value) else { continue };
        let text = format!("SELECT 1 FROM {} WHERE {} = ?1", quoted(target), quoted(KEY_COLUMN));
        if scope.connection.one(&text, [value.into()], |_| ()).ok()?.is_none() {
            let problem = format!("{} links to {target} {number}, which does not exist", column.name);
            return Some(
                Error::bare(Cause::BrokenLink, problem)
                    .advise("Insert that record first, or link to one that is there")
                    .in_table(T::TABLE, Some(&column.name)),
            );
        }
    }
    None
}

fn still_linked<T: Record>(scope: Scope<'_, Writes>, key: Option<Key<T>>, called: &str) -> Option<Error> {
    let mut by = Vec::new();
    for (table, column) in scope.inner.declared.structure.links_to(T::TABLE) {
        if column.on_delete != Some(OnDelete::Refuse) {
            continue;
        }
        let condition = if key.is_some() { "= ?1" } else { "IS NOT NULL" };
        let text = format!("SELECT count(*) FROM {} WHERE {} {condition}", quoted(&table.name), quoted(&column.name));
        let key = key.map(|key| key.number().into());
        let count = scope.connection.one(&text, key, |row| row.integer(0)).ok()?.unwrap_or_default();
        if count > 0 {
            by.push(format!("{count} of {} (by {})", table.name, column.name));
        }
    }
    if by.is_empty() {
        return None;
    }
    Some(
        Error::bare(Cause::BrokenLink, format!("records link to {called}: {}", by.join(", ")))
            .advise("Remove or change those first, or give their link another rule: on_delete = clear or remove")
            .in_table(T::TABLE, None),
    )
}
