//! What hangs on a table in the file, beside its rows.

use super::Step;
use crate::schema::structure::{ATTACHMENT_PART, Structure, Table};
use crate::statement::{
    Trail, create_attachments, create_index, create_search, create_shared, create_table, create_trail, create_unlinked,
    drop_attachments, drop_search, drop_shared, drop_trail, drop_unlinked, fill_shared, forget_shared, rename_shared,
    rename_trail, told_by_key_of,
};

/// What a step of an upgrade does to its table.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Writes {
    /// It is changed where it is.
    InPlace,
    /// All its rows go to a new table.
    Anew,
}

/// What hangs on a table in the file, beside its rows: it hears of each write by triggers, and keeps something of its own.
pub trait Attendant {
    /// What is done when it is made, in words.
    fn words(&self, table: &str) -> String;

    /// The statements that make it for a table; none where the table has none.
    fn make(&self, structure: &Structure, table: &Table) -> Vec<String>;

    /// The statements that tell it of all rows that are there.
    fn fill(&self, _table: &Table) -> Vec<String> {
        Vec::new()
    }

    /// The statements that remove it, so that the table can be changed. What it keeps beside the table stays.
    fn remove(&self, table: &str) -> Vec<String>;

    /// Whether that of a table stands through a step of an upgrade.
    fn survives(&self, step: &Step, writes: Writes, before: &Structure, table: &str) -> bool;

    /// What becomes of what it keeps beside the table that a step is about.
    fn keeps(&self, _step: &Step) -> Keeps {
        Keeps::All
    }
}

/// What becomes of what is kept beside a table.
pub enum Keeps {
    /// All of it stays.
    All,
    /// It goes on under another name of the table, by this statement.
    Renamed(String, String),
    /// It is forgotten, by this statement.
    Nothing(String),
}

/// Those that follow from the structure alone.
pub const ATTENDANTS: [&dyn Attendant; 4] = [&SearchIndex, &SharedChanges, &Unlinked, &Attachments];

/// The statements that create a structure in an empty file, in the order in which they must run.
pub fn create(structure: &Structure) -> Vec<String> {
    let tables = structure.tables.iter().map(create_table);
    let indexes = structure.tables.iter().flat_map(|t| t.indexes.iter().map(|i| create_index(&t.name, i)));
    let attendants = ATTENDANTS.iter().flat_map(|a| structure.tables.iter().flat_map(|t| a.make(structure, t)));
    tables.chain(indexes).chain(attendants).collect()
}

/// The statements that make all that hangs on a table, and tell it of the rows that are there.
pub fn attend(structure: &Structure, table: &Table) -> Vec<String> {
    ATTENDANTS.iter().flat_map(|a| a.make(structure, table).into_iter().chain(a.fill(table))).collect()
}

/// The index of the words in a table's searchable columns.
pub struct SearchIndex;

impl Attendant for SearchIndex {
    fn words(&self, table: &str) -> String {
        format!("build the full-text search index of `{table}`")
    }

    fn make(&self, _structure: &Structure, table: &Table) -> Vec<String> {
        create_search(table)
    }

    fn remove(&self, table: &str) -> Vec<String> {
        drop_search(table)
    }

    fn survives(&self, step: &Step, writes: Writes, _before: &Structure, table: &str) -> bool {
        match step {
            _ if step.table() != Some(table) => true,
            Step::AddColumn { .. } | Step::ChangeColumn { .. } | Step::DropColumn { .. } => writes == Writes::InPlace,
            Step::RenameTable { .. } | Step::RenameColumn { .. } | Step::DropTable { .. } | Step::Searchable { .. } => {
                false
            }
            _ => true,
        }
    }
}

/// What changed in a table, kept for other devices.
pub struct SharedChanges;

impl Attendant for SharedChanges {
    fn words(&self, table: &str) -> String {
        format!("record changes of `{table}`, for sharing")
    }

    fn make(&self, structure: &Structure, table: &Table) -> Vec<String> {
        create_shared(structure, table)
    }

    fn fill(&self, table: &Table) -> Vec<String> {
        fill_shared(table).into_iter().collect()
    }

    fn remove(&self, table: &str) -> Vec<String> {
        drop_shared(table)
    }

    fn survives(&self, step: &Step, _: Writes, before: &Structure, table: &str) -> bool {
        let Some(changed) = step.table() else { return true };
        // Those of other tables speak of this one too: the records in it are told by a key in theirs.
        let speaks_of_it = || told_by_key_of(before, table).iter().any(|(dependant, _, _)| *dependant == changed);
        let is_of_others = matches!(
            step,
            Step::AddTable { .. } | Step::Searchable { .. } | Step::AddIndex { .. } | Step::DropIndex { .. }
        );
        is_of_others || !(changed == table || speaks_of_it())
    }

    fn keeps(&self, step: &Step) -> Keeps {
        match step {
            Step::RenameTable { table, to } => Keeps::Renamed(to.clone(), rename_shared(table, to)),
            Step::DropTable { table } | Step::Shared { table, .. } | Step::ChangeOwnKey { table, .. } => {
                Keeps::Nothing(forget_shared(table))
            }
            _ => Keeps::All,
        }
    }
}

/// Whether a step changes what triggers that name columns, or other tables, would not survive.
fn changes_columns(step: &Step) -> bool {
    !matches!(
        step,
        Step::AddTable { .. }
            | Step::Searchable { .. }
            | Step::Shared { .. }
            | Step::AddIndex { .. }
            | Step::DropIndex { .. }
            | Step::Statement { .. }
            | Step::Code { .. }
    )
}

/// What removes the records that nothing links to any more.
pub struct Unlinked;

impl Attendant for Unlinked {
    fn words(&self, table: &str) -> String {
        format!("from now on, remove what only a removed row of `{table}` linked to")
    }

    fn make(&self, structure: &Structure, table: &Table) -> Vec<String> {
        create_unlinked(structure, table)
    }

    fn remove(&self, table: &str) -> Vec<String> {
        drop_unlinked(table)
    }

    /// It speaks of every table that links to the same.
    fn survives(&self, step: &Step, _: Writes, _before: &Structure, _table: &str) -> bool {
        !changes_columns(step)
    }
}

/// What removes the contents of attachments that are gone.
pub struct Attachments;

impl Attendant for Attachments {
    fn words(&self, table: &str) -> String {
        format!("from now on, remove the content with its `{table}`")
    }

    fn make(&self, structure: &Structure, table: &Table) -> Vec<String> {
        create_attachments(structure, table)
    }

    fn remove(&self, table: &str) -> Vec<String> {
        drop_attachments(table)
    }

    fn survives(&self, step: &Step, _: Writes, _before: &Structure, table: &str) -> bool {
        let is_of_it = step.table().is_some_and(|of| of == table || of == ATTACHMENT_PART);
        !(is_of_it && changes_columns(step))
    }
}

/// The trails of tables, as far as an app wants them. They name all columns, so an upgrade goes on without them.
pub struct Trails<'w>(pub &'w dyn Fn(&str) -> Trail);

impl Attendant for Trails<'_> {
    fn words(&self, table: &str) -> String {
        format!("keep the trail of `{table}`")
    }

    fn make(&self, _structure: &Structure, table: &Table) -> Vec<String> {
        create_trail(table, (self.0)(&table.name))
    }

    fn remove(&self, table: &str) -> Vec<String> {
        drop_trail(table)
    }

    fn survives(&self, _step: &Step, _: Writes, _before: &Structure, _table: &str) -> bool {
        false
    }

    fn keeps(&self, step: &Step) -> Keeps {
        match step {
            Step::RenameTable { table, to } => Keeps::Renamed(to.clone(), rename_trail(table, to)),
            _ => Keeps::All,
        }
    }
}
