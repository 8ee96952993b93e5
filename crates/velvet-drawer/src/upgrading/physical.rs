//! Reading what the engine keeps of a structure.

use crate::engine::{Connection, Fault};
use velvet_core::physical::{Physical, PhysicalColumn};
use velvet_core::{Value, ValueRef};

const TABLES: &str = "SELECT name, strict FROM pragma_table_list \
    WHERE schema = 'main' AND type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND name NOT LIKE 'velvet\\_%' ESCAPE '\\'";
const COLUMNS: &str = "SELECT t.name, c.name, c.type, c.\"notnull\", c.dflt_value, c.pk \
    FROM pragma_table_list t, pragma_table_xinfo(t.name) c WHERE t.schema = 'main' AND t.type = 'table'";
const LINKS: &str = "SELECT t.name, l.\"from\", l.\"table\", l.\"to\", l.on_delete \
    FROM pragma_table_list t, pragma_foreign_key_list(t.name) l WHERE t.schema = 'main' AND t.type = 'table'";
const INDEXES: &str = "SELECT t.name, i.name, i.\"unique\", c.name \
    FROM pragma_table_list t, pragma_index_list(t.name) i, pragma_index_info(i.name) c \
    WHERE t.schema = 'main' AND t.type = 'table' ORDER BY t.name, i.name, c.seqno";

/// A search index without all of its triggers does not hear of every write.
const SEARCHABLE: &str = "SELECT substr(t.name, 15), c.name FROM pragma_table_list t, pragma_table_info(t.name) c \
    WHERE t.schema = 'main' AND t.type = 'virtual' AND t.name LIKE 'velvet\\_search\\_%' ESCAPE '\\' AND (SELECT count(*) \
    FROM sqlite_schema s WHERE s.type = 'trigger' AND s.name IN (t.name || '_insert', t.name || '_delete', t.name || '_update')) = 3";

const SHARED: &str = "SELECT tbl_name FROM sqlite_schema WHERE type = 'trigger' AND name IN ('velvet_changes_' || tbl_name || '_insert', \
    'velvet_changes_' || tbl_name || '_delete', 'velvet_changes_' || tbl_name || '_update') GROUP BY tbl_name HAVING count(*) = 3";

/// What the engine keeps of all tables, but those of the file's own bookkeeping.
pub(crate) fn read(connection: &Connection) -> Result<Physical, Fault> {
    let mut found = Physical::default();
    for row in rows(connection, TABLES)? {
        found.tables.entry(text(&row[0])).or_default().strict = row[1] == Value::Integer(1);
    }
    for row in rows(connection, COLUMNS)? {
        if let Some(table) = found.tables.get_mut(&text(&row[0])) {
            let default = if row[4] == Value::Missing { None } else { Some(text(&row[4])) };
            let is_key = row[5] != Value::Integer(0);
            let required = row[3] == Value::Integer(1);
            table.columns.insert(text(&row[1]), PhysicalColumn { storage: text(&row[2]), required, default, is_key });
        }
    }
    for row in rows(connection, LINKS)? {
        if let Some(table) = found.tables.get_mut(&text(&row[0])) {
            table.links.insert((text(&row[1]), text(&row[2]), text(&row[3]), text(&row[4])));
        }
    }
    let mut index: Option<(String, String, bool, Vec<String>)> = None;
    let mut finish = |index: Option<(String, String, bool, Vec<String>)>| {
        if let Some((table, _, unique, columns)) = index
            && let Some(table) = found.tables.get_mut(&table)
        {
            table.indexes.insert((columns, unique));
        }
    };
    for row in rows(connection, INDEXES)? {
        let (table, name, unique) = (text(&row[0]), text(&row[1]), row[2] == Value::Integer(1));
        match &mut index {
            Some((t, n, _, columns)) if *t == table && *n == name => columns.push(text(&row[3])),
            _ => finish(index.replace((table, name, unique, vec![text(&row[3])]))),
        }
    }
    finish(index);
    for row in rows(connection, SEARCHABLE)? {
        if let Some(table) = found.tables.get_mut(&text(&row[0])) {
            table.searchable.insert(text(&row[1]));
        }
    }
    for row in rows(connection, SHARED)? {
        if let Some(table) = found.tables.get_mut(&text(&row[0])) {
            table.shared = true;
        }
    }
    Ok(found)
}

fn rows(connection: &Connection, query: &str) -> Result<Vec<[Value; 6]>, Fault> {
    let mut statement = connection.prepare(query)?;
    let mut rows = statement.rows();
    let mut all = Vec::new();
    while let Some(row) = rows.next()? {
        all.push(std::array::from_fn(|at| row.value(at).to_value()));
    }
    Ok(all)
}

fn text(value: &Value) -> String {
    match value.as_ref() {
        ValueRef::Text(text) => text.to_owned(),
        _ => String::new(),
    }
}
