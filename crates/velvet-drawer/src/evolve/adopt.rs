//! Taking over a plain file that an app kept before it used this library.

use super::backup::{self, Backup};
use super::surroundings::{Found, Surroundings};
use super::{Upgrading, Watch, conversions, rebuild};
use crate::engine::Connection;
use crate::error::{Cause, Doing, Error};
use crate::schema::Declared;
use crate::schema::about::About;
use crate::search;
use std::path::{Path, PathBuf};
use velvet_core::evolve::attendant::attend;
use velvet_core::evolve::{History, Rebuild};
use velvet_core::records::fits::fits;
use velvet_core::schema::fingerprint;
use velvet_core::schema::physical::{Physical, PhysicalTable};
use velvet_core::schema::structure::{ColumnDefinition, Structure, Table};
use velvet_core::statement::{create_index, create_table};
use velvet_core::value::name::{KEY_COLUMN, quoted};
use velvet_core::{Misfit, Value, ValueRef};

/// Expressions that values are made of, each with its table and column.
pub(crate) type Conversions = Vec<(String, String, String)>;

/// What taking over a file came to.
#[derive(Clone, Debug)]
pub struct Adopted {
    /// The version whose structure the file was found to have.
    pub version: u32,
    /// Where the file is kept as it was.
    pub backup: Option<PathBuf>,
    /// What the file demanded of values, or kept in order, that the types do not declare: indexes, UNIQUE, CHECK, DEFAULT, COLLATE, and expressions that computed columns.
    /// It is gone from the tables; declare it, if it is to be.
    pub dropped: Vec<String>,
}

/// Takes the file as the newest version whose tables and columns it has. Its rows keep their row numbers as keys; tables
/// of its own beside those stay as they are.
pub(crate) fn adopt(
    connection: &Connection,
    declared: &Declared,
    path: Option<&Path>,
    watch: &Watch,
    conversions: &Conversions,
) -> Result<Adopted, Error> {
    let doing = "cannot take over the file".to_owned();
    let adopting = Upgrading { connection, declared, from: declared.version, path, watch, doing };
    let adopted = adopting.without_foreign_keys(|| {
        let transaction = connection.transaction()?;
        let (adopted, backup) = adopting.take_over(conversions)?;
        transaction.commit()?;
        Ok(Adopted { backup: backup.map(Backup::stays), ..adopted })
    });
    adopted.doing(|| &adopting.doing).untouched(|| "The file was left as it was")
}

impl Upgrading<'_> {
    fn take_over(&self, conversions: &Conversions) -> Result<(Adopted, Option<Backup>), Error> {
        self.no_name_of_ours_is_taken()?;
        self.every_table_is_one()?;
        let found = self.connection.physical()?;
        let (version, structure) = self.version_of(&found)?;
        let mut tables = Vec::new();
        for table in &structure.tables {
            tables.extend(Found::of(self.connection, table)?);
        }
        self.conversions_fit(&structure, conversions)?;
        self.values_fit(&tables, conversions, version)?;
        let mut dropped = Vec::new();
        for table in &tables {
            dropped.extend(table.dropped(self.connection)?);
        }
        let backup = match self.path {
            Some(path) => Some(backup::keep(path, "before-adoption")?),
            None => None,
        };
        let around = Surroundings::take_away(self.connection, &tables)?;
        for table in &mut tables {
            table.number_rows(self.connection)?;
            let (declared, sources) = (table.declared, sources(table.declared, conversions));
            rebuild::run(self.connection, &taken_over(declared, &table.name, &sources), self.watch)?;
        }
        around.put_back(self.connection)?;
        for statement in structure.tables.iter().flat_map(|t| attend(&structure, t)) {
            self.connection.run(&statement)?;
        }
        search::bring_up(self.connection, &structure)?;
        self.links_hold()?;
        self.is_as_declared(&structure, "")?;
        let described =
            Declared { version, fingerprint: fingerprint::of(&structure), structure, ..self.declared.clone() };
        About::write(self.connection, &described)?;
        Ok((Adopted { version, backup: None, dropped }, backup))
    }

    /// What the library keeps in the file has names of its own, which the app may have used before.
    fn no_name_of_ours_is_taken(&self) -> Result<(), Error> {
        let taken =
            self.connection.entries()?.into_iter().filter(|e| e.name.to_ascii_lowercase().starts_with("velvet_"));
        let taken: Vec<String> = taken.map(|e| format!("{} `{}`", e.word(), e.name)).collect();
        if taken.is_empty() {
            return Ok(());
        }
        let taken = taken.join(", ");
        let problem = format!("names that begin with `velvet_` are the library's own, and it has the {taken}");
        Err(Error::bare(Cause::OtherStructure, problem)
            .advise("Rename or remove them, with the code that made them, and open it again"))
    }

    /// Views and virtual tables have no rows of their own.
    fn every_table_is_one(&self) -> Result<(), Error> {
        for (name, is_view) in self.connection.stand_ins()? {
            if self.declared.structure.tables.iter().any(|table| table.name.eq_ignore_ascii_case(&name)) {
                let what = if is_view { "a view" } else { "a virtual table" };
                let problem = format!("`{name}` is {what}, which has no rows of its own to be taken over");
                return Err(Error::bare(Cause::OtherStructure, problem)
                    .advise("Write its rows to a table of that name, or bring the data in with Options::fill_new"));
            }
        }
        Ok(())
    }

    fn conversions_fit(&self, structure: &Structure, conversions: &Conversions) -> Result<(), Error> {
        let is_there = |table: &str, column: &str| structure.table(table).is_some_and(|t| t.column(column).is_some());
        match conversions.iter().find(|(table, column, _)| !is_there(table, column)) {
            None => Ok(()),
            Some((table, column, _)) => Err(Error::bare(
                Cause::Schema,
                format!("`{table}.{column}`, whose values are to be converted, is no column of the structure"),
            )),
        }
    }

    /// Sees that every value will be one of its column's type. All that are not are told together, before anything is written.
    fn values_fit(&self, tables: &[Found<'_>], conversions: &Conversions, version: u32) -> Result<(), Error> {
        let (mut problems, mut advice) = (Vec::new(), Vec::new());
        for found @ Found { declared: table, name, .. } in tables {
            let fits = |column: &ColumnDefinition, value: ValueRef<'_>| {
                let value = taken_in(column, value);
                let by_type = || match version == self.declared.version {
                    true => self.declared.fits(&table.name, &column.name, value.as_ref()),
                    false => Ok(()),
                };
                fits(column, value.as_ref()).and_then(|()| by_type())
            };
            // Rows without numbers are told by their place.
            let number = if found.has_row_numbers() { "rowid" } else { "NULL" };
            let text = format!("SELECT {number}, {} FROM {}", sources(table, conversions).join(", "), quoted(name));
            let mut unfit: Vec<Unfit> = table.columns.iter().map(|_| Unfit::default()).collect();
            let mut seen = 0_u64;
            self.connection.rows(&text, [], |row| {
                if seen.is_multiple_of(LOOK_EVERY) {
                    self.watch.go_on()?;
                }
                seen += 1;
                for (at, column) in table.columns.iter().enumerate() {
                    if let Err(misfit) = fits(column, row.value(at + 1)) {
                        let number = if found.has_row_numbers() { row.integer(0) } else { seen.cast_signed() };
                        unfit[at].add(number, row.value(at + 1), misfit);
                    }
                }
                Ok::<_, Error>(())
            })?;
            for (column, unfit) in table.columns.iter().zip(unfit).filter(|(_, unfit)| unfit.count > 0) {
                let place = format!("`{}.{}`", table.name, column.name);
                problems.push(format!(
                    "{} of {seen} values of {place} cannot be read as its type: {}",
                    unfit.count,
                    unfit.examples.join(", ")
                ));
                advice.push(self.conversion_of(table, name, column, &unfit.values, &fits)?);
            }
        }
        if problems.is_empty() {
            return Ok(());
        }
        Err(Error::bare(Cause::Misfit, problems.join("; "))
            .advise(format!("Have them converted: {}", advice.join(", "))))
    }

    /// The call that converts a column, with an expression that was tried on all of its values, if one is known.
    fn conversion_of(
        &self,
        table: &Table,
        there: &str,
        column: &ColumnDefinition,
        values: &[Value],
        fits: &impl Fn(&ColumnDefinition, ValueRef<'_>) -> Result<(), Misfit>,
    ) -> Result<String, Error> {
        let call = |expression: &str| {
            format!("Options::adopt_converting({:?}, {:?}, {expression:?})", table.name, column.name)
        };
        for expression in conversions::candidates(column, values) {
            let text = format!("SELECT {expression} FROM {}", quoted(there));
            let mut all_fit = true;
            self.connection.rows(&text, [], |row| {
                all_fit &= fits(column, row.value(0)).is_ok();
                Ok::<_, Error>(())
            })?;
            if all_fit {
                return Ok(call(&expression));
            }
        }
        Ok(call("an SQL expression over the row"))
    }

    /// The newest version whose tables and columns the file has.
    fn version_of(&self, found: &Physical) -> Result<(u32, Structure), Error> {
        let newest = (self.declared.version, self.declared.structure.clone());
        let mut versions = vec![newest];
        if let Some(text) = &self.declared.history {
            let history = History::parse(text).map_err(|p| Error::new(Cause::Schema, p.to_string()))?;
            for version in (1..self.declared.version).rev() {
                let structure = history.structure(version).map_err(|p| Error::new(Cause::Schema, p.to_string()))?;
                versions.push((version, structure));
            }
        }
        let mut nearest: Option<Vec<String>> = None;
        for (version, structure) in versions {
            let lacks = lacks(&structure, found);
            if lacks.is_empty() {
                return Ok((version, structure));
            }
            if nearest.as_ref().is_none_or(|n| lacks.len() < n.len()) {
                nearest = Some(lacks);
            }
        }
        let nearest = nearest.unwrap_or_default().join("; ");
        Err(Error::bare(
            Cause::OtherStructure,
            format!("it has the structure of no version; the nearest differs: {nearest}"),
        )
        .advise("Record the structure that it has as version 1, or bring its data in with Options::fill_new"))
    }
}

/// What a file lacks, or has too much of, to be taken for a structure.
fn lacks(structure: &Structure, found: &Physical) -> Vec<String> {
    let mut out = Vec::new();
    for table in &structure.tables {
        let Some((_, there)) = find(found, &table.name) else {
            out.push(format!("the table `{}` is missing", table.name));
            continue;
        };
        let has = |name: &str| there.columns.keys().any(|c| c.eq_ignore_ascii_case(name));
        out.extend(
            table.columns.iter().filter(|c| !has(&c.name)).map(|c| format!("`{}.{}` is missing", table.name, c.name)),
        );
        let sealed = table.columns.iter().filter(|c| c.seal().is_some());
        out.extend(
            sealed.map(|c| format!("`{}.{}` is sealed, and nothing is in a file from before", table.name, c.name)),
        );
        let known = |name: &str| table.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name));
        let extra = there.columns.iter().filter(|(name, column)| !known(name) && !column.is_key);
        out.extend(extra.map(|(name, _)| format!("`{}.{name}` is not declared", table.name)));
    }
    out
}

fn find<'p>(found: &'p Physical, name: &str) -> Option<(&'p String, &'p PhysicalTable)> {
    found.tables.iter().find(|(there, _)| there.eq_ignore_ascii_case(name))
}

/// Values that are none of their column's type.
#[derive(Default)]
struct Unfit {
    count: u64,
    examples: Vec<String>,
    /// Different ones of them.
    values: Vec<Value>,
}

impl Unfit {
    fn add(&mut self, row: i64, value: ValueRef<'_>, misfit: Misfit) {
        self.count += 1;
        if self.examples.len() < MOST_EXAMPLES {
            self.examples.push(format!("in row {row}, {misfit}"));
        }
        let value = value.to_value();
        if self.values.len() < MOST_VALUES && !self.values.contains(&value) {
            self.values.push(value);
        }
    }
}

/// How many different values are looked at for a conversion.
const MOST_VALUES: usize = 24;

/// How many examples are told of each column.
const MOST_EXAMPLES: usize = 2;

/// How many rows are looked at between two looks at whether to go on.
const LOOK_EVERY: u64 = 1_000;

/// Where the values of each column come from.
fn sources(table: &Table, conversions: &Conversions) -> Vec<String> {
    let source = |column: &ColumnDefinition| {
        let converted = conversions.iter().find(|(t, c, _)| *t == table.name && *c == column.name);
        converted.map_or_else(|| quoted(&column.name), |(_, _, expression)| format!("({expression})"))
    };
    table.columns.iter().map(source).collect()
}

/// The value as a table that checks types stores it: what is the same in its column's type becomes that.
fn taken_in(column: &ColumnDefinition, value: ValueRef<'_>) -> Value {
    let number = |text: &str| text.trim().parse::<f64>().ok().filter(|x| x.is_finite());
    match (column.kind.storage(), value) {
        ("INTEGER", ValueRef::Real(x)) if x.fract() == 0.0 && x.abs() < 9e18 => Value::Integer(x as i64),
        ("INTEGER", ValueRef::Text(text)) => match (text.trim().parse::<i64>(), number(text)) {
            (Ok(whole), _) => Value::Integer(whole),
            (Err(_), Some(x)) if x.fract() == 0.0 && x.abs() < 9e18 => Value::Integer(x as i64),
            _ => value.to_value(),
        },
        ("REAL", ValueRef::Integer(whole)) => Value::Real(whole as f64),
        ("REAL", ValueRef::Text(text)) => number(text).map_or_else(|| value.to_value(), Value::Real),
        ("TEXT", ValueRef::Integer(whole)) => Value::Text(whole.to_string()),
        ("TEXT", ValueRef::Real(x)) => Value::Text(format!("{x:?}")),
        _ => value.to_value(),
    }
}

/// Writes a table of another program anew as one of ours: its row numbers become keys.
fn taken_over(table: &Table, there: &str, sources: &[String]) -> Rebuild {
    let stand_in = format!("velvet_new_{}", table.name);
    let columns: Vec<String> = table.columns.iter().map(|c| quoted(&c.name)).collect();
    let list = columns.join(", ");
    Rebuild {
        words: vec![format!("the table `{}` is taken over", table.name)],
        table: there.to_owned(),
        becomes: table.name.clone(),
        key: "rowid".into(),
        create: create_table(&Table { name: stand_in.clone(), ..table.clone() }),
        copy: format!(
            "INSERT INTO {} ({}, {list}) SELECT rowid, {} FROM {} WHERE rowid > ?1 AND rowid <= ?2",
            quoted(&stand_in),
            quoted(KEY_COLUMN),
            sources.join(", "),
            quoted(there),
        ),
        stand_in,
        indexes: table.indexes.iter().map(|i| create_index(&table.name, i)).collect(),
    }
}
