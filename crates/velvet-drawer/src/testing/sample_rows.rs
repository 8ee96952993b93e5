//! Rows for a structure that no type is left of: nothing, extremes, every script, links both ways.

use crate::engine::{Connection, Fault};
use velvet_core::Value;
use velvet_core::name::quoted;
use velvet_core::structure::{Column, Kind, Structure, Table};

/// How many rows each table gets. Keys are 1 up to this in each, so that every link leads somewhere.
pub(super) const ROWS: i64 = 24;

const TEXTS: [&str; 6] =
    ["", "plain", "größer als gedacht", "陶器と釉薬", "it's \"quoted\"; -- not a statement", "🏺 עברית\tline\nbreak"];

/// Fills every table.
pub(super) fn fill(connection: &Connection, structure: &Structure) -> Result<(), Fault> {
    connection.enforce_links(false)?;
    let transaction = connection.transaction()?;
    for table in &structure.tables {
        let names = table.column_names().map(quoted).collect::<Vec<_>>().join(", ");
        let marks = vec!["?"; table.columns.len() + 1].join(", ");
        let text = format!("INSERT INTO {} ({names}) VALUES ({marks})", quoted(&table.name));
        let mut statement = connection.prepare(&text)?;
        for row in 1..=ROWS {
            let values = table.columns.iter().map(|column| value(table, column, row));
            statement.bind_all(&std::iter::once(row.into()).chain(values).collect::<Vec<Value>>())?;
            statement.execute()?;
        }
    }
    transaction.commit()?;
    connection.enforce_links(true)
}

fn value(table: &Table, column: &Column, row: i64) -> Value {
    let unique = table.indexes.iter().any(|i| i.unique && i.columns.contains(&column.name));
    if column.optional && row % 3 == 0 {
        return Value::Missing;
    }
    let whole = |least: i64, most: i64| match row {
        1 => least.into(),
        2 => most.into(),
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
        Kind::Link { .. } if unique => row.into(),
        Kind::Link { .. } => (1 + (row * 7) % ROWS).into(),
    }
}
