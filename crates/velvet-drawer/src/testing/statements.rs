//! Statements that an app writes itself are right before they ship.

use super::sample_rows;
use crate::drawer::Drawer;
use crate::engine::Statement;
use crate::error::Error;
use crate::schema::Schema;
use crate::sql::{Asked, ReadAs};
use std::fmt::Write;
use velvet_core::query::excerpt::Wanted;
use velvet_core::schema::structure::{Kind, Structure};
use velvet_core::{Excerpt, Value};

/// Takes the statements that are to be checked.
pub struct Statements {
    /// A drawer without rows, and one with rows of every kind.
    drawers: [Drawer; 2],
    problems: Vec<String>,
}

/// Sees that statements the app writes itself fit its schema: that their tables and columns are there, that what they
/// return is what it is read as, also where there are no rows or values are missing, and that those which should only read do.
///
/// ```
/// # use velvet_drawer::{Record, Schema};
/// # #[derive(Record)] struct Piece { clay: String, grams: u32 }
/// # fn schema() -> Schema { Schema::new("kilnbook").record::<Piece>() }
/// const BY_CLAY: &str = "select clay, count(*) from piece where grams > :grams group by clay";
/// const HEAVIER: &str = "update piece set grams = grams + :more";
///
/// # /*
/// #[test]
/// # */
/// fn our_statements_are_valid() {
///     velvet_drawer::testing::statements_are_valid(&schema(), |check| {
///         check.rows::<(String, u64)>(BY_CLAY);
///         check.writes(HEAVIER);
///     });
/// }
/// # our_statements_are_valid();
/// ```
///
/// # Panics
/// When one does not fit, with everything that is wrong with all of them.
#[track_caller]
pub fn statements_are_valid(schema: &Schema, statements: impl FnOnce(&mut Statements)) {
    let mut check = match Statements::new(schema) {
        Ok(check) => check,
        Err(error) => panic!("\n\n{error}\n"),
    };
    statements(&mut check);
    if !check.problems.is_empty() {
        let mut all = String::new();
        for problem in &check.problems {
            // Writing to a string does not fail.
            let _ = writeln!(all, "  - {problem}");
        }
        panic!("\n\nStatements do not fit the schema:\n{all}");
    }
}

/// What is bound in place of each value, one after the other, so that most conditions are satisfied by one of them.
fn stand_ins() -> [Value; 8] {
    let bytes = Value::Bytes(vec![0]);
    [Value::Missing, 0.into(), 1.into(), i64::MAX.into(), "".into(), "plain".into(), "2025-03-08".into(), bytes]
}

impl Statements {
    fn new(schema: &Schema) -> Result<Statements, Error> {
        let (empty, filled) = (Drawer::in_memory(schema.clone())?, Drawer::in_memory(schema.clone())?);
        filled.inner.with_writer(|scope| {
            let declared = &scope.inner.declared;
            let fits = |table: &str, column: &str, value: &Value| declared.fits(table, column, value.as_ref()).is_ok();
            // A table whose values nobody can make up stays empty.
            scope.doing(
                || "cannot fill a drawer with rows",
                || Ok(sample_rows::fill(scope.connection, &declared.structure, &fits, &mut |_, _| ())?),
            )
        })?;
        Ok(Statements { drawers: [empty, filled], problems: Vec::new() })
    }

    /// A statement that only reads, and what its rows are read as.
    pub fn rows<X: Excerpt>(&mut self, text: &str) {
        for drawer in &self.drawers {
            let tried = drawer.inner.reading(|scope| {
                let asked = Asked { scope, text };
                let mut statement = asked.prepared(true)?;
                let fit = asked.fit::<X>(&statement)?;
                if let Some(problem) = mismatch(&drawer.inner.declared.structure, &fit, &statement) {
                    return Err(asked.wrong(&problem));
                }
                stand_ins().iter().try_for_each(|value| {
                    asked.bind_everywhere(&mut statement, value)?;
                    asked.each::<X, ()>(&mut statement, |_| ())
                })
            });
            if let Err(error) = tried {
                return self.problems.push(said(&error));
            }
        }
    }

    /// A statement that writes and returns no rows.
    pub fn writes(&mut self, text: &str) {
        for drawer in &self.drawers {
            let tried = drawer.write(|tx| {
                let asked = Asked { scope: tx.scope().to_read(), text };
                let names = asked.prepared(false)?.arguments().into_iter().flatten().map(str::to_owned).collect();
                fitting(names, |values| {
                    tx.part(|_| {
                        let mut statement = asked.prepared(false)?;
                        asked.bind_each(&mut statement, values)?;
                        asked.run(&mut statement)
                    })
                })
            });
            if let Err(error) = tried {
                return self.problems.push(said(&error));
            }
        }
    }
}

/// Runs a statement that writes with values that stand in for its own, until some fit. One that no values fit can never be run.
///
/// The engine refuses at the first column that does not fit; so a value that moves it on to another refusal is kept.
fn fitting(names: Vec<String>, mut run: impl FnMut(&[(String, Value)]) -> Result<u64, Error>) -> Result<(), Error> {
    let mut values: Vec<(String, Value)> = names.into_iter().map(|name| (name, 1.into())).collect();
    let mut refusal = match run(&values) {
        Err(error) if error.is_misfit() => error,
        Err(error) if error.is_bad_query() => return Err(error),
        // A value that only stands in for another may well clash, or lead nowhere, or be that of no row.
        _ => return Ok(()),
    };
    let mut left = values.len() * values.len();
    'refused: while left > 0 {
        left -= 1;
        for at in 0..values.len() {
            for value in stand_ins() {
                let before = std::mem::replace(&mut values[at].1, value);
                match run(&values) {
                    Err(error) if error.is_misfit() && error.to_string() == refusal.to_string() => {
                        values[at].1 = before
                    }
                    // With this one it writes to no row, and so nothing that could be refused.
                    Ok(0) => values[at].1 = before,
                    Err(error) if error.is_misfit() => {
                        refusal = error;
                        continue 'refused;
                    }
                    Err(error) if error.is_bad_query() => return Err(error),
                    _ => return Ok(()),
                }
            }
        }
        break;
    }
    Err(refusal)
}

fn mismatch(structure: &Structure, fit: &ReadAs, statement: &Statement<'_>) -> Option<String> {
    let origins = statement.origins();
    fit.wanted.iter().zip(fit.places()).find_map(|(wanted, place)| {
        let (table, column) = origins.get(*place)?.as_ref()?;
        let declared = structure.table(table)?.column(column)?;
        if is_read_as(&declared.kind, &wanted.kind) {
            return None;
        }
        let returned = statement.returns();
        let name = wanted.name.or(returned.get(*place).copied())?;
        Some(format!(
            "its column `{name}` is `{table}.{column}`, which holds {}, but is read as {}",
            article(declared.kind.clone()),
            article(wanted.kind.clone())
        ))
    })
}

/// Whether values of a column can be read as another type at all. Whether each is in its range, the rows show.
fn is_read_as(kind: &Kind, wanted: &Kind) -> bool {
    let whole =
        |kind: &Kind| kind.storage() == "INTEGER" && !matches!(kind, Kind::Bool | Kind::Duration | Kind::Link { .. });
    match wanted {
        Kind::I64 => kind.storage() == "INTEGER",
        Kind::Text => kind.storage() == "TEXT",
        Kind::F32 | Kind::F64 => kind.storage() == "REAL",
        wanted if whole(wanted) => whole(kind),
        wanted => kind == wanted,
    }
}

fn article(kind: Kind) -> String {
    Wanted { name: None, kind, optional: false }.in_words()
}

/// The message without the file, which is none.
fn said(error: &Error) -> String {
    error.to_string().replace(" Nothing was written by it.", "").replace(" File: (in memory)", "")
}
