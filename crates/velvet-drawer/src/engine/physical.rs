//! Reading what the engine keeps of a structure.

use super::{Connection, Entry, EntryKind, Fault, Row};
use std::collections::BTreeMap;
use velvet_core::ValueRef;
use velvet_core::exchange::sql_text::{TableOptions, table_options};
use velvet_core::schema::physical::{Physical, PhysicalColumn};

const COLUMNS: &str = "SELECT t.name, c.name, c.type, c.\"notnull\", c.dflt_value, c.pk \
    FROM sqlite_schema t, pragma_table_xinfo(t.name) c WHERE t.type = 'table'";
const LINKS: &str = "SELECT t.name, l.\"from\", l.\"table\", l.\"to\", l.on_delete \
    FROM sqlite_schema t, pragma_foreign_key_list(t.name) l WHERE t.type = 'table'";
const INDEXES: &str = "SELECT t.name, i.name, i.\"unique\", c.name, c.coll = 'NOCASE' \
    FROM sqlite_schema t, pragma_index_list(t.name) i, pragma_index_xinfo(i.name) c \
    WHERE t.type = 'table' AND c.\"key\" ORDER BY t.name, i.name, c.seqno";

/// A search index without all of its triggers does not hear of every write.
const SEARCHABLE: &str = "SELECT substr(t.name, 15), c.name FROM sqlite_schema t, pragma_table_info(t.name) c \
    WHERE t.type = 'table' AND t.name LIKE 'velvet\\_search\\_%' ESCAPE '\\' AND t.sql LIKE 'CREATE VIRTUAL %' AND (SELECT count(*) \
    FROM sqlite_schema s WHERE s.type = 'trigger' AND s.name IN (t.name || '_insert', t.name || '_delete', t.name || '_update')) = 3";

const SHARED: &str = "SELECT tbl_name FROM sqlite_schema WHERE type = 'trigger' AND name IN ('velvet_changes_' || tbl_name || '_insert', \
    'velvet_changes_' || tbl_name || '_delete', 'velvet_changes_' || tbl_name || '_update') GROUP BY tbl_name HAVING count(*) = 3";

impl Connection {
    /// What the engine keeps of all tables, but those of the file's own bookkeeping.
    pub(crate) fn physical(&self) -> Result<Physical, Fault> {
        let mut found = Physical::default();
        let is_apps = |e: &Entry| e.kind == EntryKind::Table && !e.is_of_engine() && !e.name.starts_with("velvet_");
        for table in self.entries()?.into_iter().filter(is_apps) {
            let TableOptions { strict, .. } = table_options(&table.statement);
            found.tables.entry(table.name).or_default().strict = strict;
        }
        self.each_of(COLUMNS, |row| {
            if let Some(table) = found.tables.get_mut(row.text(0)) {
                let default = (row.value(4) != ValueRef::Missing).then(|| text(row, 4));
                let (required, is_key) = (row.integer(3) == 1, row.integer(5) != 0);
                table.columns.insert(
                    text(row, 1),
                    PhysicalColumn { storage: text(row, 2), required, default, is_key, ignores_case: false },
                );
            }
        })?;
        self.each_of(LINKS, |row| {
            if let Some(table) = found.tables.get_mut(row.text(0)) {
                table.links.insert((text(row, 1), text(row, 2), text(row, 3), text(row, 4)));
            }
        })?;
        let mut indexes = BTreeMap::<(String, String, bool), (Vec<String>, bool)>::new();
        self.each_of(INDEXES, |row| {
            let (columns, ignores_case) = indexes.entry((text(row, 0), text(row, 1), row.integer(2) == 1)).or_default();
            columns.push(text(row, 3));
            *ignores_case |= row.integer(4) == 1;
        })?;
        for ((table, _, unique), (columns, ignores_case)) in indexes {
            if let Some(table) = found.tables.get_mut(&table) {
                if let ([column], true, true) = (&columns[..], unique, ignores_case)
                    && let Some(column) = table.columns.get_mut(column)
                {
                    column.ignores_case = true;
                }
                table.indexes.insert((columns, unique));
            }
        }
        self.each_of(SEARCHABLE, |row| {
            if let Some(table) = found.tables.get_mut(row.text(0)) {
                table.searchable.insert(text(row, 1));
            }
        })?;
        self.each_of(SHARED, |row| {
            if let Some(table) = found.tables.get_mut(row.text(0)) {
                table.shared = true;
            }
        })?;
        Ok(found)
    }

    fn each_of(&self, query: &str, mut each: impl FnMut(Row<'_, '_>)) -> Result<(), Fault> {
        self.rows(query, [], |row| {
            each(row);
            Ok(())
        })
    }
}

fn text(row: Row<'_, '_>, at: usize) -> String {
    row.text(at).to_owned()
}
