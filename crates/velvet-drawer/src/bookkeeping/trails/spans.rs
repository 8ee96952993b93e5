//! From where to where trails were kept without a gap.

use crate::engine::{Connection, Fault};
use velvet_core::statement::{SPANS, TRAIL, Trail};
use velvet_core::value::name::quoted;

/// Begins and ends the spans of tables as their trails are switched on and off. `kept` is what the file says that it has kept until now.
pub(super) fn switch<'t>(
    connection: &Connection,
    tables: impl Iterator<Item = (&'t str, Trail)>,
    kept: &str,
) -> Result<(), Fault> {
    if !connection.has(SPANS)? {
        return Ok(());
    }
    let newest = connection.number(&format!("SELECT coalesce(max(entry), 0) FROM {TRAIL}"))?;
    for (table, trail) in tables {
        let word = trail.word();
        let goes_on = kept.split(' ').any(|said| said == format!("{table}={word}"));
        let open = format!("SELECT 1 FROM {SPANS} WHERE table_name = ?1 AND kept = ?2 AND to_entry IS NULL");
        if goes_on && connection.one(&open, [table.into(), word.into()], |_| ())?.is_some() {
            continue;
        }
        let end = format!("UPDATE {SPANS} SET to_entry = ?2, ended = 'off' WHERE table_name = ?1 AND to_entry IS NULL");
        connection.execute(&end, [table.into(), newest.into()])?;
        if trail != Trail::Off {
            let begin = format!(
                "INSERT INTO {SPANS} (table_name, kept, from_entry, rows) SELECT ?1, ?2, ?3, (SELECT count(*) FROM {})",
                quoted(table)
            );
            connection.execute(&begin, [table.into(), word.into(), (newest + 1).into()])?;
        }
    }
    Ok(())
}

/// Ends all spans, because an upgrade writes rows that no trail hears of.
pub(super) fn end(connection: &Connection) -> Result<(), Fault> {
    if connection.has(SPANS)? {
        connection.run(&format!(
            "UPDATE {SPANS} SET to_entry = (SELECT coalesce(max(entry), 0) FROM {TRAIL}), ended = 'upgrade' WHERE to_entry IS NULL"
        ))?;
    }
    Ok(())
}

/// What was kept of a table is that of a table with another name.
pub(super) fn rename(connection: &Connection, table: &str, to: &str) -> Result<(), Fault> {
    if connection.has(SPANS)? {
        let text = format!("UPDATE {SPANS} SET table_name = ?2 WHERE table_name = ?1");
        connection.execute(&text, [table.into(), to.into()])?;
    }
    Ok(())
}

/// All entries are forgotten: trails that are on begin again.
pub(crate) fn begin_again(connection: &Connection) -> Result<(), Fault> {
    if connection.has(SPANS)? {
        connection
            .run(&format!("DELETE FROM {SPANS} WHERE to_entry IS NOT NULL; UPDATE {SPANS} SET from_entry = 1"))?;
    }
    Ok(())
}
