//! What an upgrade does to a file, in statements.

use super::{Step, Version};
use crate::name::{KEY_COLUMN, quoted};
use crate::statement::{
    column_definition, create_index, create_search, create_shared, create_table, drop_search, drop_shared, fill_shared,
    forget_shared, rename_shared, told_by_key_of,
};
use crate::structure::{Index, Structure, Table};
use std::collections::{BTreeMap, BTreeSet};

/// One version's part of an upgrade.
#[derive(Clone, Debug, PartialEq)]
pub struct VersionPlan {
    /// The version that it leads to.
    pub version: u32,
    /// What it does, in order.
    pub operations: Vec<Operation>,
    /// What is lost by it, in words.
    pub losses: Vec<String>,
}

/// One thing that an upgrade does.
#[derive(Clone, Debug, PartialEq)]
pub enum Operation {
    /// Runs a statement that does not touch the rows, or a statement by hand.
    Run {
        /// What it does, in words.
        words: String,
        /// The statement.
        statement: String,
        /// Whether it may write or remove rows.
        touches_rows: bool,
    },
    /// Adds a column that needs nothing but its default in the rows that exist.
    AddColumn {
        /// What it does, in words.
        words: String,
        /// The table.
        table: String,
        /// The column, as a statement that creates a table says it.
        definition: String,
    },
    /// Writes a table anew under the structure that it has from now on.
    Rebuild(Box<Rebuild>),
    /// Runs the app's code with this name.
    Code(String),
}

impl Operation {
    /// What it does, each in words.
    pub fn words(&self) -> Vec<String> {
        match self {
            Operation::Run { words, .. } | Operation::AddColumn { words, .. } => vec![words.clone()],
            Operation::Rebuild(rebuild) => rebuild.words.clone(),
            Operation::Code(name) => vec![Step::Code { name: name.clone() }.to_string()],
        }
    }

    /// Whether it may write or remove rows, so that links have to be looked at again.
    pub fn touches_rows(&self) -> bool {
        match self {
            Operation::Run { touches_rows, .. } => *touches_rows,
            Operation::AddColumn { .. } => false,
            Operation::Rebuild(_) | Operation::Code(_) => true,
        }
    }
}

/// A table that is written anew.
#[derive(Clone, Debug, PartialEq)]
pub struct Rebuild {
    /// What it does, each in words.
    pub words: Vec<String>,
    /// The table as it is called now.
    pub table: String,
    /// The name that it has afterwards.
    pub becomes: String,
    /// Its row number, as an expression.
    pub key: String,
    /// The name that the new table has until it takes the old one's place.
    pub stand_in: String,
    /// Creates the new table under that name.
    pub create: String,
    /// Copies the rows with keys above the first argument up to the second.
    pub copy: String,
    /// Creates the indexes, once the new table is in its place.
    pub indexes: Vec<String>,
}

/// Plans the versions `since` the one whose structure is `from`.
///
/// # Errors
/// When a change does not fit the structure before it.
pub fn plan<'v>(from: &Structure, since: impl Iterator<Item = &'v Version>) -> Result<Vec<VersionPlan>, String> {
    let mut now = from.clone();
    let mut attendants = Attendants::of(from);
    let mut steps =
        since.map(|version| step(&mut now, version, &mut attendants)).collect::<Result<Vec<VersionPlan>, String>>()?;
    if let Some(last) = steps.last_mut() {
        last.operations.extend(attendants.missing(&now));
    }
    Ok(steps)
}

/// What goes with a table in the file: a search index, and triggers that keep what changes. What cannot be done under them is
/// done without them, and they are made again at the end.
struct Attendants {
    search: BTreeMap<String, Vec<String>>,
    /// The tables whose changes are told.
    told: BTreeSet<String>,
    /// The tables that have entries for their records.
    kept: BTreeSet<String>,
    /// The structure before the upgrade.
    from: Structure,
}

impl Attendants {
    fn of(structure: &Structure) -> Attendants {
        let searchable = structure.tables.iter().filter(|t| !t.searchable.is_empty());
        let shared: BTreeSet<String> = structure.tables.iter().filter(|t| t.shared).map(|t| t.name.clone()).collect();
        let search = searchable.map(|t| (t.name.clone(), t.searchable.clone())).collect();
        Attendants { search, told: shared.clone(), kept: shared, from: structure.clone() }
    }

    /// What must be done before a change that they would not survive.
    fn before(&mut self, change: &Step, is_rebuilt: bool, now: &Structure) -> Vec<Operation> {
        let (table, of_search, of_shared) = match change {
            Step::RenameTable { table, .. } | Step::RenameColumn { table, .. } | Step::DropTable { table } => {
                (table, true, true)
            }
            Step::Searchable { table, .. } => (table, true, false),
            Step::Shared { table, .. } | Step::ChangeOwnKey { table, .. } => (table, false, true),
            Step::AddColumn { table, .. } | Step::ChangeColumn { table, .. } | Step::DropColumn { table, .. } => {
                (table, is_rebuilt, true)
            }
            _ => return Vec::new(),
        };
        let mut statements = Vec::new();
        if of_search && self.search.remove(table).is_some() {
            statements.extend(drop_search(table).into_iter().map(|statement| run(remade(table), statement)));
        }
        if of_shared {
            // Also those that speak of this table: the records in it are told by a key in theirs.
            let speaks_of_it = |other: &String| {
                other == table || told_by_key_of(now, other).iter().any(|(dependant, _, _)| dependant == table)
            };
            let affected: Vec<String> = self.told.iter().filter(|other| speaks_of_it(other)).cloned().collect();
            for other in affected {
                self.told.remove(&other);
                statements.extend(drop_shared(&other).into_iter().map(|statement| run(told(&other), statement)));
            }
        }
        if self.kept.contains(table) {
            match change {
                Step::RenameTable { to, .. } => {
                    self.kept.remove(table);
                    self.kept.insert(to.clone());
                    statements.push(run(told(to), rename_shared(table, to)));
                }
                Step::DropTable { .. } | Step::Shared { .. } | Step::ChangeOwnKey { .. } => {
                    self.kept.remove(table);
                    statements.push(run(told(table), forget_shared(table)));
                }
                _ => {}
            }
        }
        statements
    }

    /// Makes those that the structure has and the file has not.
    fn missing(&self, structure: &Structure) -> Vec<Operation> {
        let mut operations = Vec::new();
        for table in &structure.tables {
            if !table.searchable.is_empty() && self.search.get(&table.name) != Some(&table.searchable) {
                operations.extend(create_search(table).into_iter().map(|s| run(remade(&table.name), s)));
            }
            // Other records may link to it now, which are told by its own key.
            let is_told = self.told.contains(&table.name);
            let is_linked_otherwise = told_by_key_of(structure, &table.name) != told_by_key_of(&self.from, &table.name);
            if is_told && is_linked_otherwise {
                operations.extend(drop_shared(&table.name).into_iter().map(|s| run(told(&table.name), s)));
            }
            if !is_told || is_linked_otherwise {
                operations.extend(create_shared(structure, table).into_iter().map(|s| run(told(&table.name), s)));
            }
            if !self.kept.contains(&table.name) {
                operations.extend(fill_shared(table).into_iter().map(|s| run(told(&table.name), s)));
            }
        }
        operations
    }
}

fn run(words: String, statement: String) -> Operation {
    Operation::Run { words, statement, touches_rows: false }
}

fn remade(table: &str) -> String {
    format!("the search index of `{table}` is made")
}

fn told(table: &str) -> String {
    format!("what changes in `{table}` is told")
}

fn step(now: &mut Structure, version: &Version, attendants: &mut Attendants) -> Result<VersionPlan, String> {
    let mut step = VersionPlan { version: version.version, operations: Vec::new(), losses: Vec::new() };
    let mut pending: Option<Pending> = None;
    for change in &version.steps {
        step.losses.extend(change.loss());
        let before = now.clone();
        change.apply(now).map_err(|why| format!("{change}: {why}"))?;
        let rebuilt = rebuilt(change, &before, pending.as_ref());
        step.operations.extend(attendants.before(change, rebuilt.is_some(), &before));
        if let Some((table, fills)) = rebuilt {
            let open = pending.take_if(|p| p.table.name == table);
            if open.is_none() {
                finish(pending.take(), &before, &mut step.operations);
            }
            let old = || before.table(&table).cloned();
            let mut open =
                match open.or_else(|| old().map(|table| Pending { table, fills: Vec::new(), words: Vec::new() })) {
                    Some(open) => open,
                    None => continue,
                };
            open.fills.extend(fills);
            open.words.push(change.to_string());
            pending = Some(open);
        } else {
            finish(pending.take(), &before, &mut step.operations);
            step.operations.extend(in_place(change, &before, now));
        }
    }
    finish(pending, now, &mut step.operations);
    Ok(step)
}

/// A rebuild that may take in further changes of the same table.
struct Pending {
    /// The table as it stands in the file.
    table: Table,
    fills: Vec<(String, String)>,
    words: Vec<String>,
}

fn finish(pending: Option<Pending>, now: &Structure, operations: &mut Vec<Operation>) {
    let Some(Pending { table: old, fills, words }) = pending else { return };
    let Some(new) = now.table(&old.name) else { return };
    let stand_in = format!("velvet_new_{}", new.name);
    let sources = new.columns.iter().map(|column| {
        let fill = fills.iter().rev().find(|(name, _)| *name == column.name);
        match (fill, old.column(&column.name), &column.default) {
            (Some((_, fill)), _, _) => format!("({fill})"),
            (None, Some(_), _) => quoted(&column.name),
            (None, None, Some(default)) => default.clone(),
            (None, None, None) => "NULL".into(),
        }
    });
    let key = quoted(KEY_COLUMN);
    let copy = format!(
        "INSERT INTO {} ({}) SELECT {} FROM {} WHERE {key} > ?1 AND {key} <= ?2",
        quoted(&stand_in),
        new.column_names().map(quoted).collect::<Vec<_>>().join(", "),
        std::iter::once(key.clone()).chain(sources).collect::<Vec<_>>().join(", "),
        quoted(&new.name),
    );
    operations.push(Operation::Rebuild(Box::new(Rebuild {
        words,
        table: new.name.clone(),
        becomes: new.name.clone(),
        key: key.clone(),
        create: create_table(&Table { name: stand_in.clone(), ..new.clone() }),
        stand_in,
        copy,
        indexes: new.indexes.iter().map(|i| create_index(&new.name, i)).collect(),
    })));
}

/// The table that a change writes anew, and the columns that it fills. What could be added in place is added by a rebuild
/// that is pending anyway.
fn rebuilt(change: &Step, before: &Structure, pending: Option<&Pending>) -> Option<(String, Vec<(String, String)>)> {
    let filled = |name: &str, fill: &Option<String>| fill.iter().map(|f| (name.to_owned(), f.clone())).collect();
    let is_pending = |table: &String| pending.is_some_and(|p| p.table.name == *table);
    match change {
        Step::AddColumn { table, column, fill } => {
            let is_due = is_pending(table) || (fill.is_some() && !column.optional);
            is_due.then(|| (table.clone(), filled(&column.name, fill)))
        }
        Step::ChangeColumn { table, column, fill } => {
            let old = before.table(table)?.column(&column.name)?;
            let is_due = is_pending(table) || column_definition(old) != column_definition(column);
            is_due.then(|| (table.clone(), filled(&column.name, fill)))
        }
        Step::DropColumn { table, .. } => Some((table.clone(), Vec::new())),
        _ => None,
    }
}

/// What a change does that the engine can make in place.
fn in_place(change: &Step, before: &Structure, after: &Structure) -> Vec<Operation> {
    let drop_index = |table: &str, index: &Index| format!("DROP INDEX {}", quoted(&index.name(table)));
    let statements: Vec<String> = match change {
        Step::RenameTable { table, to } => {
            let rename = format!("ALTER TABLE {} RENAME TO {}", quoted(table), quoted(to));
            // Indexes are named after their table, so they are made again under the new one.
            let indexes = before.table(table).map(|t| t.indexes.as_slice()).unwrap_or_default();
            let drop = indexes.iter().map(|i| drop_index(table, i));
            let create = indexes.iter().map(|i| create_index(to, i));
            drop.chain([rename]).chain(create).collect()
        }
        Step::RenameColumn { table, column, to } => {
            let rename = format!("ALTER TABLE {} RENAME COLUMN {} TO {}", quoted(table), quoted(column), quoted(to));
            let of = |s: &Structure, name: &String| -> Vec<Index> {
                let indexes = s.table(table).map(|t| t.indexes.clone()).unwrap_or_default();
                indexes.into_iter().filter(|i| i.columns.contains(name)).collect()
            };
            let drop = of(before, column).into_iter().map(|i| drop_index(table, &i));
            let create = of(after, to).into_iter().map(|i| create_index(table, &i));
            drop.chain([rename]).chain(create).collect()
        }
        Step::AddTable { table } => {
            let indexes = table.indexes.iter().map(|i| create_index(&table.name, i));
            std::iter::once(create_table(table)).chain(indexes).collect()
        }
        Step::AddColumn { table, column, fill } => {
            let words = change.to_string();
            let definition = column_definition(column);
            let add = Operation::AddColumn { words: words.clone(), table: table.clone(), definition };
            let fill = fill.iter().map(|fill| update(table, &column.name, fill));
            let fill = fill.map(|statement| Operation::Run { words: words.clone(), statement, touches_rows: true });
            return std::iter::once(add).chain(fill).collect();
        }
        Step::ChangeColumn { table, column, fill } => {
            fill.iter().map(|fill| update(table, &column.name, fill)).collect()
        }
        Step::DropIndex { table, index } => vec![drop_index(table, index)],
        Step::AddIndex { table, index } => vec![create_index(table, index)],
        Step::DropTable { table } => vec![format!("DROP TABLE {}", quoted(table))],
        Step::Statement { statement } => vec![statement.clone()],
        Step::Code { name } => return vec![Operation::Code(name.clone())],
        // These are known to the library alone.
        Step::ChangeOwnKey { .. } | Step::DropColumn { .. } | Step::Searchable { .. } | Step::Shared { .. } => {
            Vec::new()
        }
    };
    let words = change.to_string();
    let touches_rows = matches!(change, Step::ChangeColumn { .. } | Step::DropTable { .. } | Step::Statement { .. });
    statements.into_iter().map(|statement| Operation::Run { words: words.clone(), statement, touches_rows }).collect()
}

fn update(table: &str, column: &str, fill: &str) -> String {
    format!("UPDATE {} SET {} = ({fill})", quoted(table), quoted(column))
}
