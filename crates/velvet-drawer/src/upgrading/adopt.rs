//! Taking over a plain file that an app kept before it used this library.

use super::{Upgrading, Watch, backup, physical, rebuild};
use crate::engine::Connection;
use crate::error::{Cause, Error};
use crate::opening::About;
use crate::schema::Declared;
use std::path::{Path, PathBuf};
use velvet_core::evolution::{History, Rebuild};
use velvet_core::fingerprint;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::physical::{Physical, PhysicalTable};
use velvet_core::statement::{create_index, create_search, create_shared, create_table, fill_shared};
use velvet_core::structure::{Structure, Table};

/// What taking over a file came to.
#[derive(Clone, Debug)]
pub struct Adopted {
    /// The version whose structure the file was found to have.
    pub version: u32,
    /// Where the file is kept as it was.
    pub backup: Option<PathBuf>,
}

/// Takes the file as the newest version whose tables and columns it has. Its rows keep their row numbers as keys; tables
/// of its own beside those stay as they are.
pub(crate) fn adopt(
    connection: &Connection,
    declared: &Declared,
    path: Option<&Path>,
    watch: &Watch,
) -> Result<Adopted, Error> {
    let doing = "cannot take over the file".to_owned();
    let adopting = Upgrading { connection, declared, from: declared.version, path, watch, doing };
    connection.enforce_links(false).map_err(|fault| adopting.refused(fault))?;
    let result = connection.transaction().map_err(|fault| adopting.refused(fault)).and_then(|transaction| {
        let adopted = adopting.take_over()?;
        transaction.commit().map_err(|fault| adopting.refused(fault))?;
        Ok(adopted)
    });
    connection.enforce_links(true).map_err(|fault| adopting.refused(fault))?;
    result.map_err(|e| e.untouched("The file was left as it was"))
}

impl Upgrading<'_> {
    fn refused(&self, fault: crate::engine::Fault) -> Error {
        Error::engine(&self.doing, fault).untouched("The file was left as it was")
    }

    fn take_over(&self) -> Result<Adopted, Error> {
        let found = physical::read(self.connection).map_err(|fault| self.refused(fault))?;
        let (version, structure) = self.version_of(&found)?;
        let backup = match self.path {
            Some(path) => Some(backup::keep(path, "before-adoption")?),
            None => None,
        };
        for table in &structure.tables {
            if let Some(there) = find(&found, &table.name) {
                rebuild::run(self.connection, &taken_over(table, there.0), self.watch, &self.doing)?;
            }
        }
        for statement in structure.tables.iter().flat_map(|t| attendants(&structure, t)) {
            self.connection.run(&statement).map_err(|fault| self.refused(fault))?;
        }
        self.links_hold()?;
        let expected = Physical::of(&structure);
        let now = physical::read(self.connection).map_err(|fault| self.refused(fault))?;
        let differences = expected.differences(&now);
        if !differences.is_empty() {
            return Err(Error::new(Cause::OtherStructure, format!("{}: {}", self.doing, differences.join("; "))));
        }
        let described =
            Declared { version, fingerprint: fingerprint::of(&structure), structure, ..self.declared.clone() };
        About::write(self.connection, &described).map_err(|fault| self.refused(fault))?;
        Ok(Adopted { version, backup })
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
        Err(Error::new(
            Cause::OtherStructure,
            format!("{}: it has the structure of no version; the nearest differs: {nearest}", self.doing),
        )
        .advise("Record the structure that it has as version 1, or bring its data in with Options::fill_new"))
    }
}

/// What goes with a table beside its rows.
fn attendants(structure: &Structure, table: &Table) -> Vec<String> {
    create_search(table).into_iter().chain(create_shared(structure, table)).chain(fill_shared(table)).collect()
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
        let known = |name: &str| table.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name));
        let extra = there.columns.iter().filter(|(name, column)| !known(name) && !column.is_key);
        out.extend(extra.map(|(name, _)| format!("`{}.{name}` is not declared", table.name)));
    }
    out
}

fn find<'p>(found: &'p Physical, name: &str) -> Option<(&'p String, &'p PhysicalTable)> {
    found.tables.iter().find(|(there, _)| there.eq_ignore_ascii_case(name))
}

/// Writes a table of another program anew as one of ours: its row numbers become keys.
fn taken_over(table: &Table, there: &str) -> Rebuild {
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
            "INSERT INTO {} ({}, {list}) SELECT rowid, {list} FROM {} WHERE rowid > ?1 AND rowid <= ?2",
            quoted(&stand_in),
            quoted(KEY_COLUMN),
            quoted(there),
        ),
        stand_in,
        indexes: table.indexes.iter().map(|i| create_index(&table.name, i)).collect(),
    }
}
