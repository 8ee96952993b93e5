//! Files of every version open at the newest.

use super::sample_rows::{self, ROWS};
use crate::drawer::Drawer;
use crate::engine::{Connection, Fault, Settings};
use crate::inspect::{File, Page};
use crate::opening::About;
use crate::schema::{Declared, Schema};
use std::path::Path;
use std::time::Duration;
use velvet_core::evolution::{Change, History};
use velvet_core::structure::Structure;
use velvet_core::{Value, fingerprint, statement};

/// Makes a file at every past version, with rows that have nothing, extremes, every script and links in them, opens each
/// with `schema`, and sees that it comes out with the newest structure, all rows and all values that no change is about.
///
/// # Panics
/// When a version does not upgrade, or something is missing afterwards, with what.
#[track_caller]
pub fn every_version_upgrades(schema: &Schema) {
    every_version_upgrades_and(schema, |_, _| ());
}

/// As [`every_version_upgrades`], and hands each upgraded drawer to `look`, with the version that it had.
///
/// # Panics
/// As [`every_version_upgrades`].
#[track_caller]
pub fn every_version_upgrades_and(schema: &Schema, mut look: impl FnMut(u32, &Drawer)) {
    let result = all_versions(schema, &mut look);
    if let Err(why) = result {
        panic!("\n\n{why}\n");
    }
}

fn all_versions(schema: &Schema, look: &mut dyn FnMut(u32, &Drawer)) -> Result<(), String> {
    let declared = schema.clone().declared().map_err(|e| e.to_string())?;
    let Some(text) = &declared.history else { return Ok(()) };
    let history = History::parse(text).map_err(|p| p.to_string())?;
    for version in 1..history.newest {
        one_version(schema, &declared, &history, version, look)
            .map_err(|why| format!("A file of version {version} does not come out right: {why}"))?;
    }
    Ok(())
}

fn one_version(
    schema: &Schema,
    declared: &Declared,
    history: &History,
    version: u32,
    look: &mut dyn FnMut(u32, &Drawer),
) -> Result<(), String> {
    let folder = tempfile::tempdir().map_err(|e| e.to_string())?;
    let path = folder.path().join("sample.drawer");
    let structure = history.structure(version).map_err(|p| p.to_string())?;
    let old = Declared { version, fingerprint: fingerprint::of(&structure), structure, ..declared.clone() };
    make(&path, &old).map_err(|fault| format!("it could not be made: {}", fault.message))?;
    let before = read(&path, &old.structure)?;
    let drawer = Drawer::open(&path, schema.clone()).map_err(|e| e.to_string())?;
    look(version, &drawer);
    drawer.close().map_err(|e| e.to_string())?;
    let changes: Vec<&Change> = history.since(version).flat_map(|v| &v.changes).collect();
    if changes.iter().any(|c| c.is_by_hand()) {
        // Statements and code may do anything to any row; what they should come to, only `look` can know.
        return Ok(());
    }
    let after = read(&path, &declared.structure)?;
    carried(&old.structure, &changes, &before, &after)
}

/// Makes a file of an old version, with rows.
fn make(path: &Path, declared: &Declared) -> Result<(), Fault> {
    let settings = Settings::of_ours(Duration::ZERO, true);
    let connection = Connection::writer(path, &settings)?;
    for text in statement::create(&declared.structure) {
        connection.run(&text)?;
    }
    About::write(&connection, declared)?;
    sample_rows::fill(&connection, &declared.structure)?;
    connection.close()
}

/// The columns of a file: table, column, and its values by key.
type Columns = Vec<(String, String, Vec<Value>)>;

fn read(path: &Path, structure: &Structure) -> Result<Columns, String> {
    let file = File::open(path).map_err(|e| e.to_string())?;
    let mut all = Columns::new();
    for table in &structure.tables {
        let found = file.table(&table.name).map_err(|e| e.to_string())?;
        let start = all.len();
        all.extend(table.column_names().map(|c| (table.name.clone(), c.to_owned(), Vec::new())));
        let page = Page { columns: table.column_names().map(str::to_owned).collect(), ..Page::default() };
        let read = file.rows(&found, &page, &mut |row| {
            for (column, value) in all[start..].iter_mut().zip(row) {
                column.2.push(value.to_value());
            }
            Ok(())
        });
        read.map_err(|e| e.to_string())?;
    }
    Ok(all)
}

/// Sees that every column that no change is about has the same values, wherever it is now.
fn carried(old: &Structure, changes: &[&Change], before: &Columns, after: &Columns) -> Result<(), String> {
    for (table, column, values) in before {
        let Some((now_table, now_column)) = now(table, column, changes) else { continue };
        let found = after.iter().find(|(t, c, _)| *t == now_table && *c == now_column);
        let Some((_, _, found)) = found else { return Err(format!("`{now_table}.{now_column}` is gone")) };
        if found.len() != values.len() {
            return Err(format!("`{now_table}` had {} rows and has {}", values.len(), found.len()));
        }
        if let Some(at) = (0..values.len()).find(|at| values[*at] != found[*at]) {
            let (was, is) = (values[at].literal(), found[at].literal());
            return Err(format!("`{now_table}.{now_column}` of row {} was {was} and is {is}", at + 1));
        }
    }
    debug_assert!(old.tables.is_empty() || before.iter().all(|(_, _, values)| values.len() as i64 == ROWS));
    Ok(())
}

/// Where a column is after the changes; nothing when one of them is about it.
fn now(table: &str, column: &str, changes: &[&Change]) -> Option<(String, String)> {
    let (mut table, mut column) = (table.to_owned(), column.to_owned());
    for change in changes {
        match change {
            Change::RenameTable { table: from, to } if *from == table => table.clone_from(to),
            Change::RenameColumn { table: t, column: from, to } if *t == table && *from == column => {
                column.clone_from(to)
            }
            Change::DropTable { table: t } if *t == table => return None,
            Change::DropColumn { table: t, column: c } if *t == table && *c == column => return None,
            Change::ChangeColumn { table: t, column: c, .. } if *t == table && c.name == column => return None,
            _ => {}
        }
    }
    Some((table, column))
}

/// Opens a copy of a file that is shipped with the app, and sees that it fits.
///
/// # Panics
/// When it is missing, or does not open with `schema`, with the reason.
#[track_caller]
pub fn shipped_file_fits(schema: &Schema, path: impl AsRef<Path>) {
    let path = path.as_ref();
    let fits = std::fs::read(path)
        .map_err(|e| format!("it cannot be read: {e}"))
        .and_then(|bytes| Drawer::from_bytes(&bytes, schema.clone()).map_err(|e| e.to_string()));
    if let Err(why) = fits {
        panic!("\n\nThe shipped file {} does not fit: {why}\n", path.display());
    }
}
