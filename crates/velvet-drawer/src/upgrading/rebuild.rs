//! Writing a table anew under another structure.

use super::{Watch, count};
use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use velvet_core::ValueRef;
use velvet_core::evolution::Rebuild;
use velvet_core::name::quoted;

/// How many rows are copied between two looks at whether to go on.
const CHUNK: i64 = 25_000;

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
    let copied = copy(connection, rebuild, rows, watch, &engine)?;
    if copied != rows.unsigned_abs() {
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

/// Copies all rows, and says how many that were.
fn copy(
    connection: &Connection,
    rebuild: &Rebuild,
    rows: i64,
    watch: &Watch,
    engine: &impl Fn(Fault) -> Error,
) -> Result<u64, Error> {
    let mut chunks = Chunks::new(connection, rebuild, rows).map_err(engine)?;
    let mut copy = connection.prepare(&rebuild.copy).map_err(engine)?;
    let mut done = 0;
    while let Some((above, up_to)) = chunks.next().map_err(engine)? {
        watch.rows(done, rows.unsigned_abs())?;
        copy.bind(1, ValueRef::Integer(above)).map_err(engine)?;
        copy.bind(2, ValueRef::Integer(up_to)).map_err(engine)?;
        done += copy.execute().map_err(engine)?;
    }
    watch.rows(done, rows.unsigned_abs())?;
    Ok(done)
}

/// Ranges of row numbers with not too many rows in each.
struct Chunks<'c> {
    above: i64,
    last: i64,
    /// Finds the end of the next range, where row numbers lie too far apart to count on them.
    sparse: Option<String>,
    connection: &'c Connection,
}

impl<'c> Chunks<'c> {
    fn new(connection: &'c Connection, rebuild: &Rebuild, rows: i64) -> Result<Chunks<'c>, Fault> {
        let (key, table) = (&rebuild.key, quoted(&rebuild.table));
        let end = |which: &str| connection.number(&format!("SELECT coalesce({which}({key}), 0) FROM {table}"));
        let (first, last) = (end("min")?, end("max")?);
        let dense =
            last.checked_sub(first).is_some_and(|span| span / 4 <= rows) && first > i64::MIN && last < i64::MAX - CHUNK;
        let find = format!(
            "SELECT max(k) FROM (SELECT {key} AS k FROM {table} WHERE {key} > ?1 ORDER BY {key} LIMIT {CHUNK})"
        );
        let sparse = (!dense).then_some(find);
        let above = if rows == 0 {
            last
        } else if dense {
            first - 1
        } else {
            i64::MIN
        };
        Ok(Chunks { above, last, sparse, connection })
    }

    fn next(&mut self) -> Result<Option<(i64, i64)>, Fault> {
        if self.above >= self.last {
            return Ok(None);
        }
        let above = self.above;
        self.above = match &self.sparse {
            None => above + CHUNK,
            Some(find) => {
                let mut find = self.connection.prepare(find)?;
                find.bind(1, ValueRef::Integer(above))?;
                let mut rows = find.rows();
                rows.next()?.map_or(self.last, |row| row.integer(0))
            }
        };
        Ok(Some((above, self.above)))
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
