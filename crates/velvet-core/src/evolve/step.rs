//! One change of a structure.

use crate::schema::structure::{ColumnDefinition, Index, Kind, Structure, Table};
use serde::{Deserialize, Serialize};
use std::fmt;

/// One change of a structure, or of what is stored in it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Step {
    /// A table is renamed; links to it follow.
    RenameTable {
        /// Its name until now.
        table: String,
        /// Its new name.
        to: String,
    },
    /// A column is renamed; indexes on it follow.
    RenameColumn {
        /// The table it is in.
        table: String,
        /// Its name until now.
        column: String,
        /// Its new name.
        to: String,
    },
    /// A table is added, with its indexes.
    AddTable {
        /// The table.
        table: Table,
    },
    /// A column is added.
    AddColumn {
        /// The table it is added to.
        table: String,
        /// The column.
        column: ColumnDefinition,
        /// What rows that exist get there: an SQL expression over the row. Their default, or nothing, where it is missing.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        fill: Option<String>,
    },
    /// A statement written by hand.
    Statement {
        /// The statement.
        statement: String,
    },
    /// Code of the app, which the app registers under this name.
    Code {
        /// The name.
        name: String,
    },
    /// An index is dropped.
    DropIndex {
        /// The table it is on.
        table: String,
        /// The index.
        index: Index,
    },
    /// A column holds something else, or in another way, from now on.
    ChangeColumn {
        /// The table it is in.
        table: String,
        /// The column as it is from now on, under the name that it has.
        column: ColumnDefinition,
        /// What rows that exist get there: an SQL expression over the row as it was. Their value where it is missing.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        fill: Option<String>,
    },
    /// A column is dropped, with what is stored in it.
    DropColumn {
        /// The table it is in.
        table: String,
        /// Its name.
        column: String,
    },
    /// Another column is the records' own key from now on, or none is.
    ChangeOwnKey {
        /// The table.
        table: String,
        /// The column.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        own_key: Option<String>,
    },
    /// A table is dropped, with what is stored in it.
    DropTable {
        /// Its name.
        table: String,
    },
    /// The words of other columns are searched from now on.
    Searchable {
        /// The table.
        table: String,
        /// All columns whose words are searched, in the order of their names; none when there are none any more.
        columns: Vec<String>,
    },
    /// What changes in a table is kept from now on, to be shared, or is no longer.
    Shared {
        /// The table.
        table: String,
        /// Whether it is kept.
        shared: bool,
    },
    /// An index is added.
    AddIndex {
        /// The table it is on.
        table: String,
        /// The index.
        index: Index,
    },
}

/// Why a step does not fit the structure before it. Columns are named with their tables, as `table.column`.
#[derive(Debug, PartialEq, thiserror::Error)]
pub enum StepProblem {
    /// A table that is not there.
    #[error("there is no table `{0}`")]
    NoTable(String),
    /// A column that is not there.
    #[error("there is no column `{0}`")]
    NoColumn(String),
    /// An index on columns of a table that is not there.
    #[error("`{table}` has no such index on {columns}")]
    NoIndex {
        /// The table.
        table: String,
        /// The columns.
        columns: String,
    },
    /// A new table that is there already.
    #[error("there is a table `{0}` already")]
    TableExists(String),
    /// A new column that is there already.
    #[error("there is a column `{0}` already")]
    ColumnExists(String),
    /// A new index on columns that have one.
    #[error("`{table}` has an index on {columns} already")]
    IndexExists {
        /// The table.
        table: String,
        /// The columns.
        columns: String,
    },
    /// A column that is dropped while it is in an index on some columns.
    #[error("`{column}` cannot be dropped before its index on {columns} is")]
    Indexed {
        /// The column.
        column: String,
        /// The columns of the index.
        columns: String,
    },
    /// A column that is dropped while it is searchable.
    #[error("`{0}` cannot be dropped before it is no longer searchable")]
    Searchable(String),
}

impl Step {
    /// The added columns among these steps that are filled from a table which is new too, and the other steps. What a person does with the
    /// new table comes in between.
    pub(super) fn apart(steps: Vec<Step>) -> (Vec<Step>, Vec<Step>) {
        let new = |step: &Step| if let Step::AddTable { table } = step { Some(table.name.clone()) } else { None };
        let new: Vec<String> = steps.iter().filter_map(new).collect();
        let is_filled = |step: &Step| match step {
            Step::AddColumn { fill: Some(fill), .. } => {
                let mut words = fill.split(|c: char| !c.is_alphanumeric() && c != '_');
                words.any(|word| new.iter().any(|name| name.eq_ignore_ascii_case(word)))
            }
            _ => false,
        };
        steps.into_iter().partition(is_filled)
    }

    /// Makes the change to a structure.
    ///
    /// # Errors
    /// When it does not fit: a name is not there, or is there already.
    pub fn apply(&self, to: &mut Structure) -> Result<(), StepProblem> {
        match self {
            Step::RenameTable { table, to: name } => {
                new_table(to, name)?;
                self::table(to, table)?.name.clone_from(name);
                for column in to.tables.iter_mut().flat_map(|t| &mut t.columns) {
                    if let Kind::Link { table: target } = &mut column.kind
                        && target == table
                    {
                        target.clone_from(name);
                    }
                }
            }
            Step::RenameColumn { table, column, to: name } => {
                let table = self::table(to, table)?;
                new_column(table, name)?;
                let found = self::column(table, column)?;
                found.name.clone_from(name);
                let indexed = table.indexes.iter_mut().flat_map(|i| &mut i.columns);
                let named = indexed.chain(&mut table.own_key).chain(&mut table.searchable);
                for other in named.filter(|c| *c == column) {
                    other.clone_from(name);
                }
                table.searchable.sort();
            }
            Step::AddTable { table } => {
                new_table(to, &table.name)?;
                to.tables.push(table.clone());
            }
            Step::AddColumn { table, column, .. } => {
                let table = self::table(to, table)?;
                new_column(table, &column.name)?;
                table.columns.push(column.clone());
            }
            Step::Statement { .. } | Step::Code { .. } => {}
            Step::DropIndex { table, index } => {
                let table = self::table(to, table)?;
                let at = table.indexes.iter().position(|i| i == index);
                let at = at.ok_or_else(|| StepProblem::NoIndex {
                    table: table.name.clone(),
                    columns: index.columns.join(", "),
                })?;
                table.indexes.remove(at);
            }
            Step::ChangeColumn { table, column, .. } => {
                *self::column(self::table(to, table)?, &column.name)? = column.clone();
            }
            Step::DropColumn { table, column } => {
                let table = self::table(to, table)?;
                self::column(table, column)?;
                if let Some(index) = table.indexes.iter().find(|i| i.columns.contains(column)) {
                    let (column, columns) = (format!("{}.{column}", table.name), index.columns.join(", "));
                    return Err(StepProblem::Indexed { column, columns });
                }
                if table.searchable.contains(column) {
                    return Err(StepProblem::Searchable(format!("{}.{column}", table.name)));
                }
                table.columns.retain(|c| c.name != *column);
            }
            Step::ChangeOwnKey { table, own_key } => self::table(to, table)?.own_key.clone_from(own_key),
            Step::DropTable { table } => {
                self::table(to, table)?;
                to.tables.retain(|t| t.name != *table);
            }
            Step::Searchable { table, columns } => {
                let table = self::table(to, table)?;
                for name in columns {
                    column(table, name)?;
                }
                table.searchable.clone_from(columns);
                table.searchable.sort();
            }
            Step::Shared { table, shared } => self::table(to, table)?.shared = *shared,
            Step::AddIndex { table, index } => {
                let table = self::table(to, table)?;
                for name in &index.columns {
                    column(table, name)?;
                }
                if table.indexes.iter().any(|i| i.columns == index.columns) {
                    let (table, columns) = (table.name.clone(), index.columns.join(", "));
                    return Err(StepProblem::IndexExists { table, columns });
                }
                table.indexes.push(index.clone());
            }
        }
        Ok(())
    }

    /// The table that it is about, by its name before; nothing for what is written by hand.
    pub fn table(&self) -> Option<&str> {
        match self {
            Step::AddTable { table } => Some(&table.name),
            Step::RenameTable { table, .. }
            | Step::RenameColumn { table, .. }
            | Step::AddColumn { table, .. }
            | Step::ChangeColumn { table, .. }
            | Step::DropColumn { table, .. }
            | Step::ChangeOwnKey { table, .. }
            | Step::DropTable { table }
            | Step::Searchable { table, .. }
            | Step::Shared { table, .. }
            | Step::AddIndex { table, .. }
            | Step::DropIndex { table, .. } => Some(table),
            Step::Statement { .. } | Step::Code { .. } => None,
        }
    }

    /// What cannot be had back from what is stored afterwards, in words. What is written by hand is not looked into.
    pub fn loss(&self) -> Option<String> {
        match self {
            Step::DropColumn { table, column } => Some(format!("what is stored in `{table}.{column}`")),
            Step::DropTable { table } => Some(format!("the rows of `{table}`")),
            Step::ChangeColumn { table, column, fill: Some(_) } => {
                Some(format!("the values of `{table}.{}` from before they are filled", column.name))
            }
            _ => None,
        }
    }

    /// What it does to a file with the structure `before`, in words: also which rules of a column end.
    pub fn in_words(&self, before: &Structure) -> String {
        match self {
            Step::ChangeColumn { table, column, fill } => {
                let was = before.table(table).and_then(|table| table.column(&column.name));
                let holds = was.map_or_else(|| column.in_words(), |was| column.in_words_after(was));
                format!("change column `{table}.{}` to {holds}{}", column.name, filled(fill))
            }
            other => other.to_string(),
        }
    }

    /// Whether a person wrote it: a draft never holds it.
    pub fn is_by_hand(&self) -> bool {
        matches!(self, Step::Statement { .. } | Step::Code { .. })
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let index_on = |index: &Index| index.columns.join(", ");
        let unique = |index: &Index| if index.unique { "a unique index" } else { "an index" };
        match self {
            Step::RenameTable { table, to } => write!(f, "rename table `{table}` to `{to}`"),
            Step::RenameColumn { table, column, to } => write!(f, "rename column `{table}.{column}` to `{to}`"),
            Step::AddTable { table } => {
                let columns: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
                write!(f, "create table `{}` ({})", table.name, columns.join(", "))
            }
            Step::AddColumn { table, column, fill } => {
                write!(f, "add column `{table}.{}`: {}{}", column.name, column.in_words(), filled(fill))
            }
            Step::Statement { statement } => write!(f, "run SQL: {statement}"),
            Step::Code { name } => write!(f, "run the app's code `{name}`"),
            Step::DropIndex { table, index } => {
                write!(f, "drop {} on `{table}` ({})", unique(index), index_on(index))
            }
            Step::ChangeColumn { .. } => f.write_str(&self.in_words(&Structure::default())),
            Step::DropColumn { table, column } => {
                write!(f, "drop column `{table}.{column}`, with everything stored in it")
            }
            Step::ChangeOwnKey { table, own_key: Some(key) } => write!(f, "make `{key}` the own key of `{table}`"),
            Step::ChangeOwnKey { table, own_key: None } => write!(f, "take away the own key of `{table}`"),
            Step::DropTable { table } => write!(f, "drop table `{table}`, with everything stored in it"),
            Step::Searchable { table, columns } if columns.is_empty() => {
                write!(f, "stop full-text search in `{table}`")
            }
            Step::Searchable { table, columns } => {
                write!(f, "make `{table}` ({}) searchable by words", columns.join(", "))
            }
            Step::Shared { table, shared: true } => write!(f, "start to record changes of `{table}`, for sharing"),
            Step::Shared { table, shared: false } => write!(f, "stop recording changes of `{table}`"),
            Step::AddIndex { table, index } => write!(f, "create {} on `{table}` ({})", unique(index), index_on(index)),
        }
    }
}

fn filled(fill: &Option<String>) -> String {
    fill.as_ref().map(|fill| format!(", filled with {fill}")).unwrap_or_default()
}

fn table<'s>(structure: &'s mut Structure, name: &str) -> Result<&'s mut Table, StepProblem> {
    structure.tables.iter_mut().find(|t| t.name == name).ok_or_else(|| StepProblem::NoTable(name.to_owned()))
}

fn column<'t>(table: &'t mut Table, name: &str) -> Result<&'t mut ColumnDefinition, StepProblem> {
    let Table { name: of, columns, .. } = table;
    columns.iter_mut().find(|c| c.name == name).ok_or_else(|| StepProblem::NoColumn(format!("{of}.{name}")))
}

fn new_table(structure: &Structure, name: &str) -> Result<(), StepProblem> {
    match structure.tables.iter().find(|t| t.name.eq_ignore_ascii_case(name)) {
        Some(table) => Err(StepProblem::TableExists(table.name.clone())),
        None => Ok(()),
    }
}

fn new_column(table: &Table, name: &str) -> Result<(), StepProblem> {
    match table.columns.iter().find(|c| c.name.eq_ignore_ascii_case(name)) {
        Some(column) => Err(StepProblem::ColumnExists(format!("{}.{}", table.name, column.name))),
        None => Ok(()),
    }
}
