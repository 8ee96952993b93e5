//! The structure of a file, and how it stands to a history.

use super::file::File;
use crate::engine::{Entry, EntryKind};
use crate::error::{Cause, Error};
use serde::Serialize;
use velvet_core::evolve::History;
use velvet_core::schema::physical::{Physical, PhysicalTable};
use velvet_core::schema::structure::{Holds, Kind};
use velvet_core::value::name::KEY_COLUMN;

/// A table's structure, as the file has it.
#[derive(Clone, Debug, Serialize)]
pub struct TableStructure {
    /// Its name.
    pub name: String,
    /// What it holds; nothing in a file that no app of ours made.
    pub holds: Option<Holds>,
    /// Its columns, in order.
    pub columns: Vec<ColumnStructure>,
    /// Its indexes.
    pub indexes: Vec<IndexStructure>,
    /// The columns whose words are searched.
    pub searchable: Vec<String>,
    /// Whether what changes is kept, to be shared with other devices.
    pub shared: bool,
}

/// A column's structure, as the file has it.
#[derive(Clone, Debug, Serialize)]
pub struct ColumnStructure {
    /// Its name.
    pub name: String,
    /// What it was declared to hold, where the file says.
    pub kind: Option<Kind>,
    /// The same in words; its type in the file where it says nothing else.
    #[serde(skip)]
    pub holds: String,
    /// Its type in the file, in small letters.
    #[serde(rename = "stored_as")]
    pub storage: String,
    /// Whether it must hold something.
    pub required: bool,
    /// The literal of its default.
    pub default: Option<String>,
    /// What it links to.
    pub links_to: Option<LinkStructure>,
    /// Whether its values stay out of trails, and of copies without what is private.
    pub private: bool,
}

/// What a column links to.
#[derive(Clone, Debug, Serialize)]
pub struct LinkStructure {
    /// The table.
    pub table: String,
    /// The column there.
    pub column: String,
    /// What happens when the row there is removed, as the file says it: `no-action`, `restrict`, `set-null`, `set-default` or `cascade`.
    pub on_removal: String,
}

/// An index.
#[derive(Clone, Debug, Serialize)]
pub struct IndexStructure {
    /// Its columns, in order.
    pub columns: Vec<String>,
    /// Whether no two rows have the same values there.
    pub unique: bool,
}

/// How a file stands to a history.
#[derive(Clone, Debug)]
pub struct Against {
    /// The version of the file.
    pub version: i64,
    /// The newest version of the history.
    pub newest: u32,
    /// How the file differs from that version as it was recorded, each as a sentence.
    pub differences: Vec<String>,
    /// What an upgrade to the newest version would do, each in words.
    pub ahead: Vec<(u32, Vec<String>)>,
}

impl File {
    /// The structure of its tables, without those of its own bookkeeping.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn structure(&self) -> Result<Vec<TableStructure>, Error> {
        let physical = self.read("cannot read the structure", |c| Ok(c.physical()?))?;
        let mut tables = Vec::new();
        for name in self.table_names()? {
            // A view, or a virtual table, has columns and nothing else; a view over what is gone has not even those.
            let nothing = PhysicalTable::default();
            let found = physical.tables.get(&name).unwrap_or(&nothing);
            let there = match self.exact(name.clone()) {
                Ok(there) => there,
                Err(error) if error.is_cancelled() => return Err(error),
                Err(error) => {
                    self.leave_out(&format!("`{name}`"), &error);
                    continue;
                }
            };
            let declared = self.declared().and_then(|s| s.table(&name));
            let columns = there.columns.into_iter().map(|column| {
                let physical = found.columns.get(&column.name).cloned().unwrap_or_default();
                let link = found.links.iter().find(|l| l.0 == column.name);
                let definition = declared.and_then(|t| t.column(&column.name));
                let words = definition.map(|c| c.in_words().replace(", optional", ""));
                let holds = match (words, link) {
                    (Some(words), _) => words,
                    (None, Some((_, table, to, _))) => format!("a link to {table}.{to}"),
                    (None, None) if physical.is_key && column.name == KEY_COLUMN => "the row number".to_owned(),
                    (None, None) => physical.storage.to_lowercase(),
                };
                ColumnStructure {
                    kind: definition.map(|c| c.kind.clone()),
                    holds,
                    required: physical.required || physical.is_key,
                    private: definition.is_some_and(|c| c.private),
                    storage: physical.storage.to_lowercase(),
                    default: physical.default,
                    links_to: link.map(|(_, table, to, action)| LinkStructure {
                        table: table.clone(),
                        column: to.clone(),
                        on_removal: action.to_lowercase().replace(' ', "-"),
                    }),
                    name: column.name,
                }
            });
            tables.push(TableStructure {
                holds: self.holds(&name),
                name,
                columns: columns.collect(),
                indexes: found
                    .indexes
                    .iter()
                    .map(|(columns, unique)| IndexStructure { columns: columns.clone(), unique: *unique })
                    .collect(),
                searchable: found.searchable.iter().cloned().collect(),
                shared: found.shared,
            });
        }
        Ok(tables)
    }

    /// The statements that create its tables, views, indexes and triggers, as the file has them.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn statements(&self) -> Result<Vec<String>, Error> {
        // What a virtual table keeps is created with it.
        let is_shown = |e: &Entry| e.kind != EntryKind::Shadow && !e.is_of_engine() && !e.statement.is_empty();
        Ok(self.catalogue()?.iter().filter(|e| is_shown(e)).map(|e| e.statement.clone()).collect())
    }

    /// How the file stands to a history.
    ///
    /// # Errors
    /// When the history does not add up, or does not know the file's version ([`Error::is_bad_query`]).
    pub fn against(&self, history: &str) -> Result<Against, Error> {
        let problem =
            |p: velvet_core::evolve::HistoryProblem| Error::new(Cause::BadQuery, p.to_string()).in_file(self.path());
        let history = History::parse(history).map_err(problem)?;
        let version = self.read("cannot read the version", |c| Ok(c.version()?))?;
        let known = u32::try_from(version).unwrap_or(0);
        if !(1..=history.newest).contains(&known) {
            let History { app, newest, .. } = &history;
            let why =
                format!("the file is at version {version}, and the history of `{app}` has versions 1 to {newest}");
            let error = Error::new(Cause::BadQuery, why).untouched("Nothing was compared");
            return Err(error.advise("Check that both are of the same app").in_file(self.path()));
        }
        let recorded = history.structure(known).map_err(problem)?;
        let found = self.read("cannot read the structure", |c| Ok(c.physical()?))?;
        let mut differences = Physical::of(&recorded).differences(&found);
        if let Some(declared) = self.declared() {
            differences.extend(
                recorded.differences(declared).into_iter().filter(|_| differences.is_empty()).collect::<Vec<_>>(),
            );
        }
        let ahead = history.since(known).map(|v| (v.version, v.steps.iter().map(ToString::to_string).collect()));
        Ok(Against { version, newest: history.newest, differences, ahead: ahead.collect() })
    }
}
