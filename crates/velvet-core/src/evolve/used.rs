//! The answers that earlier versions of a history have recorded: each was meant for one change, and has been carried out.

use super::Step;

/// Answers by the names that tables and columns have after all of these versions.
#[derive(Debug, Default)]
pub(super) struct Used {
    /// Tables, each with its former name.
    tables: Vec<(String, String)>,
    /// Columns, each with its table and its former name.
    columns: Vec<(String, String, String)>,
    /// Fill expressions, each with its table and column.
    fills: Vec<(String, String, String)>,
}

impl Used {
    /// The answers in these steps, in order.
    pub(super) fn of(steps: &[Step]) -> Used {
        let mut used = Used::default();
        for step in steps {
            match step {
                Step::RenameTable { table, to } => {
                    let follow = |name: &mut String| {
                        if name == table {
                            name.clone_from(to);
                        }
                    };
                    used.columns.iter_mut().chain(&mut used.fills).for_each(|(of, ..)| follow(of));
                    used.tables.iter_mut().for_each(|(of, _)| follow(of));
                    used.tables.push((to.clone(), table.clone()));
                }
                Step::RenameColumn { table, column, to } => {
                    let all = used.columns.iter_mut().chain(&mut used.fills);
                    all.filter(|(of, name, _)| of == table && name == column)
                        .for_each(|(_, name, _)| name.clone_from(to));
                    used.columns.push((table.clone(), to.clone(), column.clone()));
                }
                Step::AddColumn { table, column, fill: Some(fill) }
                | Step::ChangeColumn { table, column, fill: Some(fill) } => {
                    used.fills.push((table.clone(), column.name.clone(), fill.clone()));
                }
                _ => {}
            }
        }
        used
    }

    /// Whether this name was recorded as having been `was`: a column's of a table, or a table's.
    pub(super) fn is_renamed(&self, table: Option<&str>, name: &str, was: &str) -> bool {
        match table {
            Some(table) => {
                self.columns.iter().any(|(of, column, before)| of == table && column == name && before == was)
            }
            None => self.tables.iter().any(|(table, before)| table == name && before == was),
        }
    }

    /// Whether a column was recorded to be filled so.
    pub(super) fn is_filled(&self, table: &str, column: &str, fill: &str) -> bool {
        self.fills.iter().any(|(of, name, by)| of == table && name == column && by == fill)
    }
}
