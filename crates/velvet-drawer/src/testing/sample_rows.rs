//! Rows for a structure that no type is left of: nothing, extremes, every script, links both ways.

use crate::engine::{Connection, Fault};
use std::collections::BTreeMap;
use velvet_core::Value;
use velvet_core::schema::structure::{ColumnDefinition, Kind, Structure, Table};
use velvet_core::sealing::{PlaceText, Plain, sealing};
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// How many rows each table gets. Keys are 1 up to this in each, so that every link leads somewhere.
pub(super) const ROWS: i64 = 24;

/// How often another value is tried where one does not fit.
const ATTEMPTS: i64 = 40;

const TEXTS: [&str; 6] =
    ["", "plain", "größer als gedacht", "陶器と釉薬", "it's \"quoted\"; -- not a statement", "🏺 עברית\tline\nbreak"];

/// Fills every table that has no rows, with values that `fits` takes for its columns. A table with a column for which there are none goes
/// to `unfit`, and stays empty.
pub(super) fn fill(
    connection: &Connection,
    structure: &Structure,
    fits: &dyn Fn(&str, &str, &Value) -> bool,
    unfit: &mut dyn FnMut(&Table, &ColumnDefinition),
) -> Result<(), Fault> {
    connection.enforce_foreign_keys(false)?;
    let transaction = connection.transaction()?;
    let mut keys = BTreeMap::new();
    for table in &structure.tables {
        let there = keys_of(connection, table)?;
        keys.insert(table.name.as_str(), if there.is_empty() { (1..=ROWS).collect() } else { there });
    }
    'tables: for table in &structure.tables {
        if !keys_of(connection, table)?.is_empty() {
            continue;
        }
        let names = table.column_names().map(quoted).collect::<Vec<_>>().join(", ");
        let mark = |(at, column): (usize, &ColumnDefinition)| match column.seal() {
            Some(label) => {
                // Of two columns one is the name.
                let name = table.sealed_by_name().map(|_| format!("?{}", 3 - at));
                sealing(&format!("?{}", at + 2), label, &PlaceText { row: "?1".into(), name })
            }
            None => format!("?{}", at + 2),
        };
        let marks: Vec<String> = table.columns.iter().enumerate().map(mark).collect();
        let text = format!("INSERT INTO {} ({names}) VALUES (?1, {})", quoted(&table.name), marks.join(", "));
        let mut statement = connection.prepare(&text)?;
        for row in 1..=ROWS {
            let mut values: Vec<Value> = vec![row.into()];
            for column in &table.columns {
                let made = match &column.kind {
                    Kind::Link { table: to } => {
                        link(table, column, row, keys.get(to.as_str()).map_or(&[], Vec::as_slice))
                    }
                    _ => (0..ATTEMPTS)
                        .map(|more| value(table, column, row + more * ROWS))
                        .find(|v| fits(&table.name, &column.name, v)),
                };
                let Some(made) = made else {
                    unfit(table, column);
                    continue 'tables;
                };
                values.push(made);
            }
            statement.bind_all(values.iter().map(Value::as_ref))?;
            statement.execute()?;
        }
    }
    transaction.commit()?;
    connection.enforce_foreign_keys(true)
}

fn keys_of(connection: &Connection, table: &Table) -> Result<Vec<i64>, Fault> {
    let text = format!("SELECT {} FROM {} ORDER BY 1", quoted(KEY_COLUMN), quoted(&table.name));
    let mut statement = connection.prepare(&text)?;
    let mut rows = statement.rows();
    let mut keys = Vec::new();
    while let Some(row) = rows.next()? {
        keys.push(row.integer(0));
    }
    Ok(keys)
}

/// The key of a record that is there, or comes; nothing when there is none and there must be one.
fn link(table: &Table, column: &ColumnDefinition, row: i64, keys: &[i64]) -> Option<Value> {
    if column.optional && row % 3 == 0 {
        return Some(Value::Missing);
    }
    let at = if is_unique(table, column) { row - 1 } else { row * 7 };
    match keys.get(usize::try_from(at).ok()? % keys.len().max(1)) {
        Some(key) => Some((*key).into()),
        None => column.optional.then_some(Value::Missing),
    }
}

fn is_unique(table: &Table, column: &ColumnDefinition) -> bool {
    table.indexes.iter().any(|i| i.unique && i.columns.contains(&column.name))
}

/// A value of the column's kind; another one for each `row`, which goes beyond the rows there are where an earlier one did not fit.
fn value(table: &Table, column: &ColumnDefinition, row: i64) -> Value {
    let unique = is_unique(table, column);
    if column.optional && row % 3 == 0 {
        return Value::Missing;
    }
    let whole = |least: i64, most: i64| match row {
        1 => least.into(),
        2 => most.into(),
        row if unique => row.into(),
        row => (row % 100).into(),
    };
    let day = 1 + row % 28;
    match &column.kind {
        Kind::I8 => whole(i8::MIN.into(), i8::MAX.into()),
        Kind::I16 => whole(i16::MIN.into(), i16::MAX.into()),
        Kind::I32 => whole(i32::MIN.into(), i32::MAX.into()),
        Kind::I64 | Kind::Duration => whole(i64::MIN, i64::MAX),
        Kind::U8 => whole(0, u8::MAX.into()),
        Kind::U16 => whole(0, u16::MAX.into()),
        Kind::U32 => whole(0, u32::MAX.into()),
        Kind::U64 => whole(0, i64::MAX),
        Kind::F32 | Kind::F64 => [0.0, -1.5, 1e12, 0.001].map(Value::Real)[row as usize % 4].clone(),
        Kind::Bool => (row % 2).into(),
        Kind::Text if unique => format!("{}{row}", TEXTS[row as usize % TEXTS.len()]).into(),
        Kind::Text => TEXTS[row as usize % TEXTS.len()].into(),
        Kind::Bytes => vec![0, 255, row as u8].into(),
        Kind::Date => format!("{}-02-{day:02}", if row == 1 { "0000".into() } else { (1990 + row).to_string() }).into(),
        Kind::Time => format!("{:02}:59:59.{row:09}", row % 24).into(),
        Kind::DateTime => format!("2025-03-{day:02}T00:00:00.{row:09}").into(),
        Kind::Timestamp => format!("2025-03-{day:02}T23:59:59.{row:09}Z").into(),
        Kind::Uuid => format!("67e55044-10b1-426f-9247-{row:012x}").into(),
        Kind::Json => format!("{{\"row\":{row},\"list\":[null,\"ü\"]}}").into(),
        Kind::File => format!("photos/{row}.jpg").into(),
        Kind::Choice { values, .. } => values[row as usize % values.len()].as_str().into(),
        Kind::Link { .. } => row.into(),
        Kind::Sealed { holds, .. } => {
            let holds = ColumnDefinition { kind: (**holds).clone(), ..column.clone() };
            Plain::of(value(table, &holds, row).as_ref()).map_or(Value::Missing, Value::Bytes)
        }
    }
}
