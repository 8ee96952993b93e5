//! Statements that create tables and indexes.

use crate::name::{KEY_COLUMN, quoted};
use crate::structure::{Column, Index, Kind, OnDelete, Structure, Table};

/// The statements that create a structure in an empty file, in the order in which they must run.
pub fn create(structure: &Structure) -> Vec<String> {
    let tables = structure.tables.iter().map(table);
    let indexes = structure.tables.iter().flat_map(|t| t.indexes.iter().map(|i| index(&t.name, i)));
    tables.chain(indexes).collect()
}

fn table(table: &Table) -> String {
    let mut lines = vec![format!("{} INTEGER PRIMARY KEY AUTOINCREMENT", quoted(KEY_COLUMN))];
    lines.extend(table.columns.iter().map(column));
    format!("CREATE TABLE {} (\n  {}\n) STRICT", quoted(&table.name), lines.join(",\n  "))
}

fn column(column: &Column) -> String {
    let mut line = format!("{} {}", quoted(&column.name), column.kind.storage());
    if !column.optional {
        line.push_str(" NOT NULL");
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

fn index(table: &str, index: &Index) -> String {
    let columns = index.columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
    let unique = if index.unique { "UNIQUE " } else { "" };
    format!("CREATE {unique}INDEX {} ON {} ({columns})", quoted(&index.name(table)), quoted(table))
}
