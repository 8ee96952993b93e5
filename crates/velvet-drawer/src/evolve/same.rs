//! Naming the rows that a rule would not let stand beside each other.

use crate::engine::{Connection, Fault, FaultKind, Row};
use crate::error::{Cause, Error};
use velvet_core::Value;
use velvet_core::exchange::show;
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// What is said where the engine refused a step of an upgrade. After a clash the rows are still there: two of them are named.
#[cold]
pub(super) fn explained(connection: &Connection, fault: Fault) -> Error {
    let columns = match &fault.kind {
        FaultKind::Clash(columns) => columns,
        FaultKind::NoTable(name) => {
            let problem = format!("there is no table `{name}` at this point of the upgrade");
            return Error::bare(Cause::Schema, problem)
                .advise("Look for a typing mistake in the statement, and for the step that creates the table");
        }
        _ => return fault.into(),
    };
    named(connection, columns).unwrap_or_else(|| fault.into())
}

fn named(connection: &Connection, columns: &[String]) -> Option<Error> {
    let (table, _) = columns.first()?.rsplit_once('.')?;
    let names: Vec<&str> = columns.iter().filter_map(|c| c.rsplit_once('.')).map(|(_, name)| name).collect();
    let (of, key) = (quoted(table), quoted(KEY_COLUMN));
    let list: Vec<String> = names.iter().map(|name| quoted(name)).collect();
    let joined = |part: &str, by: &str| list.iter().map(|c| format!("{c} {part}")).collect::<Vec<_>>().join(by);
    let (group, are_there, same) = (list.join(", "), joined("IS NOT NULL", " AND "), joined("= ?", " AND "));
    let read = |row: Row<'_, '_>| {
        (row.integer(0), (1..=names.len()).map(|at| row.value(at).to_value()).collect::<Vec<Value>>())
    };
    // Once through the rows in order: joined with itself, a large table without the index would take for ever.
    let first =
        format!("SELECT min({key}), {group} FROM {of} WHERE {are_there} GROUP BY {group} HAVING count(*) > 1 LIMIT 1");
    let (one, values) = connection.one(&first, [], read).ok()??;
    let second = format!("SELECT {key}, {group} FROM {of} WHERE {same} AND {key} <> {one} LIMIT 1");
    let (other, others) = connection.one(&second, values.iter().map(Value::as_ref), read).ok()??;
    let said = |values: &[Value]| {
        let said = names.iter().zip(values).map(|(name, value)| format!("{name} {}", show::plain(value.as_ref())));
        said.collect::<Vec<_>>().join(" with ")
    };
    let problem = format!(
        "{table} {one}, with {}, and {table} {other}, with {}, would be the same",
        said(&values),
        said(&others)
    );
    let advice = "Tell such records apart, or merge them, in code of the upgrade's";
    Some(Error::bare(Cause::Clash, problem).advise(advice).in_table(table, names.first().copied()))
}
