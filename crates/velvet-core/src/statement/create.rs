//! Statements that create tables and indexes.

use crate::schema::structure::{ColumnDefinition, Index, Kind, OnDelete, Table};
use crate::value::name::{KEY_COLUMN, quoted};

/// The statement that creates a table, without its indexes.
pub fn create_table(table: &Table) -> String {
    let mut lines = vec![format!("{} INTEGER PRIMARY KEY AUTOINCREMENT", quoted(KEY_COLUMN))];
    lines.extend(table.columns.iter().map(column_definition));
    format!("CREATE TABLE {} (\n  {}\n) STRICT", quoted(&table.name), lines.join(",\n  "))
}

/// A column as a statement that creates or adds it says it.
pub(crate) fn column_definition(column: &ColumnDefinition) -> String {
    let mut line = format!("{} {}", quoted(&column.name), column.kind.storage());
    if !column.optional {
        line.push_str(" NOT NULL");
    }
    if column.ignore_case {
        line.push_str(" COLLATE NOCASE");
    }
    if let Some(default) = &column.default {
        line.push_str(" DEFAULT ");
        line.push_str(default);
    }
    if let Kind::Link { table } = &column.kind {
        line.push_str(&format!(" REFERENCES {} ({})", quoted(table), quoted(KEY_COLUMN)));
        line.push_str(match column.on_delete {
            Some(OnDelete::Clear) => " ON DELETE SET NULL",
            Some(OnDelete::Remove) => " ON DELETE CASCADE",
            Some(OnDelete::Refuse) | None => "",
        });
    }
    line
}

/// In a trigger, the condition that the value of a column was changed, if only from large to small letters.
pub(super) fn differs(column: &ColumnDefinition) -> String {
    let exactly = if column.ignore_case { " COLLATE BINARY" } else { "" };
    format!("old.{0} IS NOT new.{0}{exactly}", quoted(&column.name))
}

/// The statement that creates an index.
pub fn create_index(table: &str, index: &Index) -> String {
    let columns = index.columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
    let unique = if index.unique { "UNIQUE " } else { "" };
    format!("CREATE {unique}INDEX {} ON {} ({columns})", quoted(&index.name(table)), quoted(table))
}
