//! What an upgrade does to a file, in statements.

use super::attendant::{ATTENDANTS, Attendant, Keeps, Writes};
use super::{HistoryProblem, Step, Version};
use crate::schema::structure::{ColumnDefinition, Index, Structure, Table};
use crate::sealing::{OF_PLAIN, PlaceText, RESEAL, TO_PLAIN, sealing, unsealing};
use crate::statement::{column_definition, create_index, create_table};
use crate::value::name::{KEY_COLUMN, quoted};
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
pub fn plan<'v>(
    from: &Structure,
    since: impl Iterator<Item = &'v Version>,
) -> Result<Vec<VersionPlan>, HistoryProblem> {
    let mut now = from.clone();
    let mut attendants = ATTENDANTS.map(|attendant| Attending::of(attendant, from));
    let mut steps = since.map(|v| step(&mut now, v, &mut attendants)).collect::<Result<Vec<VersionPlan>, _>>()?;
    if let Some(last) = steps.last_mut() {
        last.operations.extend(attendants.iter().flat_map(|a| a.missing(&now)));
    }
    Ok(steps)
}

/// What hangs on tables as the file has it at a point of the plan. What does not survive a step is removed before it, and made again at
/// the end.
struct Attending {
    of: &'static dyn Attendant,
    /// The statements by which it was made for each table that has it.
    stands: BTreeMap<String, Vec<String>>,
    /// The tables of which it was told all rows.
    told: BTreeSet<String>,
}

impl Attending {
    fn of(of: &'static dyn Attendant, structure: &Structure) -> Attending {
        let made = structure.tables.iter().map(|t| (t.name.clone(), of.make(structure, t)));
        let stands: BTreeMap<_, _> = made.filter(|(_, made)| !made.is_empty()).collect();
        Attending { of, told: stands.keys().cloned().collect(), stands }
    }

    /// What must be done before a step that it would not survive.
    fn before(&mut self, step: &Step, writes: Writes, now: &Structure) -> Vec<Operation> {
        let mut operations = Vec::new();
        let falls: Vec<String> =
            self.stands.keys().filter(|table| !self.of.survives(step, writes, now, table)).cloned().collect();
        for table in falls {
            self.stands.remove(&table);
            operations.extend(self.run(&table, self.of.remove(&table)));
        }
        let kept = step.table().filter(|table| self.told.contains(*table)).map(|table| (table, self.of.keeps(step)));
        match kept {
            Some((table, Keeps::Renamed(to, statement))) => {
                self.told.remove(table);
                operations.extend(self.run(&to, vec![statement]));
                self.told.insert(to);
            }
            Some((table, Keeps::Nothing(statement))) => {
                self.told.remove(table);
                operations.extend(self.run(table, vec![statement]));
            }
            _ => {}
        }
        operations
    }

    /// Makes what the structure has and the file has not, or otherwise.
    fn missing(&self, structure: &Structure) -> Vec<Operation> {
        let mut operations = Vec::new();
        for table in &structure.tables {
            let made = self.of.make(structure, table);
            let stands = self.stands.get(&table.name);
            if stands.is_some_and(|stands| *stands != made) {
                operations.extend(self.run(&table.name, self.of.remove(&table.name)));
            }
            if stands != Some(&made) {
                operations.extend(self.run(&table.name, made));
            }
            if !self.told.contains(&table.name) {
                operations.extend(self.run(&table.name, self.of.fill(table)));
            }
        }
        operations
    }

    fn run(&self, table: &str, statements: Vec<String>) -> impl Iterator<Item = Operation> {
        let words = self.of.words(table);
        statements.into_iter().map(move |statement| Operation::Run {
            words: words.clone(),
            statement,
            touches_rows: false,
        })
    }
}

fn step(now: &mut Structure, version: &Version, attendants: &mut [Attending]) -> Result<VersionPlan, HistoryProblem> {
    let mut step = VersionPlan { version: version.version, operations: Vec::new(), losses: Vec::new() };
    let unnamed = Unnamed::of(version, now)?;
    step.operations.extend(unnamed.iter().flat_map(|unnamed| unnamed.seal_again(now, false)));
    let mut pending: Option<OpenRebuild> = None;
    for change in &version.steps {
        step.losses.extend(change.loss());
        let before = now.clone();
        change.apply(now).map_err(|why| HistoryProblem(format!("{change}: {why}")))?;
        let rebuilt = rebuilt(change, &before, pending.as_ref());
        let writes = if rebuilt.is_some() { Writes::Anew } else { Writes::InPlace };
        step.operations.extend(attendants.iter_mut().flat_map(|a| a.before(change, writes, &before)));
        if let Some((table, fills)) = rebuilt {
            let open = pending.take_if(|p| p.table.name == table);
            if open.is_none() {
                finish(pending.take(), &before, &mut step.operations);
            }
            let old = || before.table(&table).cloned();
            let mut open =
                match open.or_else(|| old().map(|table| OpenRebuild { table, fills: Vec::new(), words: Vec::new() })) {
                    Some(open) => open,
                    None => continue,
                };
            open.fills.extend(fills);
            open.words.push(change.to_string());
            pending = Some(open);
        } else {
            finish(pending.take(), &before, &mut step.operations);
            let operations = in_place(change, &before, now);
            step.operations.extend(match change {
                Step::Statement { .. } | Step::Code { .. } => {
                    following_names(now, unnamed.as_ref(), change, operations)
                }
                _ => operations,
            });
        }
    }
    finish(pending, now, &mut step.operations);
    step.operations.extend(unnamed.iter().flat_map(|unnamed| unnamed.seal_again(now, true)));
    Ok(step)
}

/// Tables of sealed named values that a version makes other records of, or makes so: it sees values that are bound to no name.
struct Unnamed<'v> {
    change: &'v Step,
    /// The names they have before the version, and after it.
    names: Vec<[String; 2]>,
}

impl<'v> Unnamed<'v> {
    fn of(version: &'v Version, from: &Structure) -> Result<Option<Unnamed<'v>>, HistoryProblem> {
        let mut now = from.clone();
        let mut names: Vec<[String; 2]> = from.tables.iter().map(|t| [t.name.clone(), t.name.clone()]).collect();
        let mut unnamed: Option<(&Step, Vec<String>)> = None;
        for change in &version.steps {
            let named = |structure: &Structure| {
                change.table().is_some_and(|of| structure.table(of).is_some_and(|t| t.sealed_by_name().is_some()))
            };
            let was_named = named(&now);
            change.apply(&mut now).map_err(|why| HistoryProblem(format!("{change}: {why}")))?;
            match change {
                Step::RenameTable { table, to } => {
                    names.iter_mut().filter(|[_, now]| now == table).for_each(|[_, now]| now.clone_from(to));
                }
                Step::AddColumn { table, .. }
                | Step::ChangeColumn { table, .. }
                | Step::DropColumn { table, .. }
                | Step::ChangeOwnKey { table, .. }
                    if was_named || named(&now) =>
                {
                    unnamed.get_or_insert((change, Vec::new())).1.push(table.clone());
                }
                _ => {}
            }
        }
        // What is renamed is renamed first.
        Ok(unnamed.map(|(change, tables)| {
            names.retain(|[_, now]| tables.contains(now));
            Unnamed { change, names }
        }))
    }

    /// Seals the values again, bound to the names that they have or to none.
    fn seal_again(&self, structure: &Structure, is_bound: bool) -> Vec<Operation> {
        let is_one = |table: &&Table| self.names.iter().any(|names| names[usize::from(is_bound)] == table.name);
        let statement = |table: &Table| {
            let (name, value) = table.sealed_by_name()?;
            let name = quoted(&name.name);
            let names = if is_bound { ["NULL", &name] } else { [&name, "NULL"] };
            Some(reseal(table, value, names))
        };
        let statements = structure.tables.iter().filter(is_one).filter_map(statement);
        let run = |statement| Operation::Run { words: self.change.to_string(), statement, touches_rows: false };
        statements.map(run).collect()
    }
}

/// A statement that seals the values of a column for other names: they are bound to the first, and will be to the second.
fn reseal(table: &Table, value: &ColumnDefinition, [before, after]: [&str; 2]) -> String {
    let (of, column) = (quoted(&table.name), quoted(&value.name));
    let label = value.seal().unwrap_or_default().replace('\'', "''");
    let row = quoted(KEY_COLUMN);
    format!(
        "UPDATE {of} SET {column} = {RESEAL}({column}, '{label}', {row}, {before}, {after}) WHERE {column} IS NOT NULL"
    )
}

/// What is done before and after what is written by hand, so that sealed values follow the names that it gives them.
fn following_names(
    structure: &Structure,
    unnamed: Option<&Unnamed<'_>>,
    change: &Step,
    operations: Vec<Operation>,
) -> Vec<Operation> {
    let (mut before, mut after) = (Vec::new(), Vec::new());
    let has_names = |table: &&Table| !unnamed.is_some_and(|u| u.names.iter().any(|[_, now]| *now == table.name));
    for table in structure.tables.iter().filter(has_names) {
        let Some((name, value)) = table.sealed_by_name() else { continue };
        let (key, name, kept) =
            (quoted(KEY_COLUMN), quoted(&name.name), quoted(&format!("velvet_names {}", table.name)));
        let of = quoted(&table.name);
        before.push(format!("CREATE TEMP TABLE {kept} (row INTEGER PRIMARY KEY, name)"));
        before.push(format!("INSERT INTO temp.{kept} SELECT {key}, {name} FROM {of}"));
        let was = format!("(SELECT name FROM temp.{kept} WHERE row = {of}.{key})");
        let is_renamed = format!("AND {key} IN (SELECT row FROM temp.{kept}) AND {was} IS NOT {name} COLLATE BINARY");
        after.push(format!("{} {is_renamed}", reseal(table, value, [&was, &name])));
        after.push(format!("DROP TABLE temp.{kept}"));
    }
    let run = |statement| Operation::Run { words: change.to_string(), statement, touches_rows: false };
    before.into_iter().map(run).chain(operations).chain(after.into_iter().map(run)).collect()
}

/// A rebuild that may take in further changes of the same table.
struct OpenRebuild {
    /// The table as it stands in the file.
    table: Table,
    fills: Vec<(String, String)>,
    words: Vec<String>,
}

fn finish(pending: Option<OpenRebuild>, now: &Structure, operations: &mut Vec<Operation>) {
    let Some(OpenRebuild { table: old, fills, words }) = pending else { return };
    let Some(new) = now.table(&old.name) else { return };
    let stand_in = format!("velvet_new_{}", new.name);
    let key = quoted(KEY_COLUMN);
    let sources = new.columns.iter().map(|column| {
        let fill = fills.iter().rev().find(|(name, _)| *name == column.name);
        match (fill, old.column(&column.name), &column.default) {
            (Some((_, fill)), _, _) => sealed(column, &format!("({fill})"), &key),
            (None, Some(old), _) if old.kind == column.kind && old.seal().is_some() => {
                quoted(&as_it_stands(&column.name))
            }
            (None, Some(_), _) => sealed(column, &quoted(&column.name), &key),
            (None, None, Some(default)) => default.clone(),
            (None, None, None) => "NULL".into(),
        }
    });
    let copy = format!(
        "INSERT INTO {} ({}) SELECT {} FROM {} WHERE {key} > ?1 AND {key} <= ?2",
        quoted(&stand_in),
        new.column_names().map(quoted).collect::<Vec<_>>().join(", "),
        std::iter::once(key.clone()).chain(sources).collect::<Vec<_>>().join(", "),
        opened(&old, &new.name),
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

/// An expression over a row, sealed where the column that gets it is.
fn sealed(column: &ColumnDefinition, what: &str, key: &str) -> String {
    match column.seal() {
        Some(label) => {
            let place = PlaceText { row: key.to_owned(), name: None };
            sealing(&format!("{TO_PLAIN}({what})"), label, &place)
        }
        None => what.to_owned(),
    }
}

/// A table as what fills columns sees it: with what is sealed in it opened, and beside that as it stands.
fn opened(table: &Table, name: &str) -> String {
    if table.columns.iter().all(|c| c.seal().is_none()) {
        return quoted(name);
    }
    let key = quoted(KEY_COLUMN);
    let column = |column: &ColumnDefinition| {
        let name = quoted(&column.name);
        match column.seal() {
            Some(label) => {
                let opened = unsealing(&name, label, &PlaceText { row: key.clone(), name: None });
                format!("{OF_PLAIN}({opened}) AS {name}, {name} AS {}", quoted(&as_it_stands(&column.name)))
            }
            None => name,
        }
    };
    let columns: Vec<String> = std::iter::once(key.clone()).chain(table.columns.iter().map(column)).collect();
    format!("(SELECT {} FROM {1}) AS {1}", columns.join(", "), quoted(name))
}

fn as_it_stands(column: &str) -> String {
    format!("{column} as it stands")
}

/// The table that a change writes anew, and the columns that it fills. What could be added in place is added by a rebuild
/// that is pending anyway.
fn rebuilt(
    change: &Step,
    before: &Structure,
    pending: Option<&OpenRebuild>,
) -> Option<(String, Vec<(String, String)>)> {
    let filled = |name: &str, fill: &Option<String>| fill.iter().map(|f| (name.to_owned(), f.clone())).collect();
    let is_pending = |table: &String| pending.is_some_and(|p| p.table.name == *table);
    match change {
        Step::AddColumn { table, column, fill } => {
            let is_due = is_pending(table) || (fill.is_some() && !column.optional);
            is_due.then(|| (table.clone(), filled(&column.name, fill)))
        }
        Step::ChangeColumn { table, column, fill } => {
            let old = before.table(table)?.column(&column.name)?;
            let is_sealed = old.seal().is_some() || column.seal().is_some();
            let is_due = is_pending(table)
                || column_definition(old) != column_definition(column)
                || (is_sealed && old.kind != column.kind);
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
            let fill = fill.iter().map(|fill| update(table, column, fill));
            let fill = fill.map(|statement| Operation::Run { words: words.clone(), statement, touches_rows: true });
            return std::iter::once(add).chain(fill).collect();
        }
        Step::ChangeColumn { table, column, fill } => fill.iter().map(|fill| update(table, column, fill)).collect(),
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

fn update(table: &str, column: &ColumnDefinition, fill: &str) -> String {
    let value = sealed(column, &format!("({fill})"), &quoted(KEY_COLUMN));
    format!("UPDATE {} SET {} = {value}", quoted(table), quoted(&column.name))
}
