//! Writing a table anew under another structure.

use super::{Watch, same};
use crate::engine::{Connection, EntryKind, Fault};
use crate::error::{Cause, Error};
use velvet_core::evolve::Rebuild;
use velvet_core::value::name::quoted;

/// How many rows are copied between two looks at whether to go on.
const CHUNK: i64 = 25_000;

/// Writes the table anew, with its row numbers, indexes and triggers. Returns how many rows it has.
pub(super) fn run(connection: &Connection, rebuild: &Rebuild, watch: &Watch) -> Result<u64, Error> {
    let engine = |mut fault: Fault| {
        // The stand-in is our own affair; whoever reads this knows the table by its name.
        fault.message = fault.message.replace(&rebuild.stand_in, &rebuild.becomes);
        same::explained(connection, fault)
    };
    let table = quoted(&rebuild.table);
    let rows = connection.number(&format!("SELECT count(*) FROM {table}")).map_err(engine)?;
    let kept = triggers_on(connection, &rebuild.table)?;
    connection.run(&rebuild.create).map_err(engine)?;
    let copied = copy(connection, rebuild, rows, watch, &engine)?;
    if copied != rows.unsigned_abs() {
        let problem = format!("`{}` has {rows} rows, but {copied} were copied", rebuild.table);
        return Err(Error::bare(Cause::Engine, problem).advise("Please report this: it must not happen"));
    }
    // Row numbers that were given once are not given again, also those of rows that are gone.
    connection.take_last_row_number_of(&rebuild.stand_in, &rebuild.table)?;
    connection.run(&format!("DROP TABLE {table}")).map_err(engine)?;
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
    let mut done = 0;
    while let Some((above, up_to)) = chunks.next().map_err(engine)? {
        watch.rows(done, rows.unsigned_abs())?;
        done += connection.execute(&rebuild.copy, [above.into(), up_to.into()]).map_err(engine)?;
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
            Some(find) => self.connection.one(find, [above.into()], |row| row.integer(0))?.unwrap_or(self.last),
        };
        Ok(Some((above, self.above)))
    }
}

/// The statements of triggers on the table, which go away with it.
fn triggers_on(connection: &Connection, table: &str) -> Result<Vec<String>, Fault> {
    let entries = connection.entries()?.into_iter();
    let triggers = entries.filter(|e| e.kind == EntryKind::Trigger && e.table.eq_ignore_ascii_case(table));
    Ok(triggers.map(|e| e.statement).collect())
}
