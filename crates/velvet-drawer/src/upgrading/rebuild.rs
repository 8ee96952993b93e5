//! Writing a table anew under another structure.

use super::{Watch, count};
use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use velvet_core::ValueRef;
use velvet_core::evolution::Rebuild;
use velvet_core::name::quoted;

/// How many rows are copied between two looks at whether to go on.
const CHUNK: i64 = 20_000;

/// Writes the table anew, with its row numbers, indexes and triggers. Returns how many rows it has.
pub(super) fn run(connection: &Connection, rebuild: &Rebuild, watch: &Watch, doing: &str) -> Result<u64, Error> {
    let engine = |mut fault: Fault| {
        // The stand-in is our own affair; whoever reads this knows the table by its name.
        fault.message = fault.message.replace(&rebuild.stand_in, &rebuild.becomes);
        Error::engine(doing, fault)
    };
    let rows = count(connection, &rebuild.table).map_err(engine)?;
    let kept = kept_beside(connection, &rebuild.table).map_err(engine)?;
    connection.run(&rebuild.create).map_err(engine)?;
    copy(connection, rebuild, rows, watch, &engine)?;
    let copied = count(connection, &rebuild.stand_in).map_err(engine)?;
    if copied != rows {
        return Err(Error::new(
            Cause::Engine,
            format!("{doing}: `{}` has {rows} rows, but {copied} were copied", rebuild.table),
        )
        .advise("Please report this: it must not happen"));
    }
    keep_last_row_number(connection, rebuild).map_err(engine)?;
    connection.run(&format!("DROP TABLE {}", quoted(&rebuild.table))).map_err(engine)?;
    let rename = format!("ALTER TABLE {} RENAME TO {}", quoted(&rebuild.stand_in), quoted(&rebuild.becomes));
    connection.run(&rename).map_err(engine)?;
    for statement in rebuild.indexes.iter().chain(&kept) {
        watch.go_on()?;
        connection.run(statement).map_err(engine)?;
    }
    Ok(rows.unsigned_abs())
}

fn copy(
    connection: &Connection,
    rebuild: &Rebuild,
    rows: i64,
    watch: &Watch,
    engine: &impl Fn(Fault) -> Error,
) -> Result<(), Error> {
    let (key, table) = (&rebuild.key, quoted(&rebuild.table));
    let next =
        format!("SELECT max(k) FROM (SELECT {key} AS k FROM {table} WHERE {key} > ?1 ORDER BY {key} LIMIT {CHUNK})");
    let mut next = connection.prepare(&next).map_err(engine)?;
    let mut copy = connection.prepare(&rebuild.copy).map_err(engine)?;
    let (mut from, mut done) = (i64::MIN, 0);
    loop {
        watch.rows(done, rows.unsigned_abs())?;
        next.bind(1, ValueRef::Integer(from)).map_err(engine)?;
        let to = {
            let mut rows = next.rows();
            let row = rows.next().map_err(engine)?;
            match row.map(|row| row.value(0)) {
                Some(ValueRef::Integer(to)) => to,
                _ => return Ok(()),
            }
        };
        copy.bind(1, ValueRef::Integer(from)).map_err(engine)?;
        copy.bind(2, ValueRef::Integer(to)).map_err(engine)?;
        done += copy.execute().map_err(engine)?;
        from = to;
    }
}

/// The statements of triggers on the table, which go away with it.
fn kept_beside(connection: &Connection, table: &str) -> Result<Vec<String>, Fault> {
    let mut statement =
        connection.prepare("SELECT sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE")?;
    statement.bind(1, ValueRef::Text(table))?;
    let mut rows = statement.rows();
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(row.text(0).to_owned());
    }
    Ok(all)
}

/// Row numbers that were given once are not given again, also those of rows that are gone.
fn keep_last_row_number(connection: &Connection, rebuild: &Rebuild) -> Result<(), Fault> {
    let old = ValueRef::Text(&rebuild.table);
    let new = ValueRef::Text(&rebuild.stand_in);
    for text in [
        "DELETE FROM sqlite_sequence WHERE name = ?2",
        "INSERT INTO sqlite_sequence (name, seq) SELECT ?2, seq FROM sqlite_sequence WHERE name = ?1",
    ] {
        let mut statement = connection.prepare(text)?;
        statement.bind(2, new)?;
        if text.contains("?1") {
            statement.bind(1, old)?;
        }
        statement.execute()?;
    }
    Ok(())
}
