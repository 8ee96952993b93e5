//! A structure as the engine keeps it, to compare what is declared with what is there.

use crate::schema::structure::{Kind, OnDelete, Structure, Table};
use crate::value::name::KEY_COLUMN;
use std::collections::{BTreeMap, BTreeSet};

/// The tables of a file, by name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Physical {
    /// The tables.
    pub tables: BTreeMap<String, PhysicalTable>,
}

/// A table as the engine keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PhysicalTable {
    /// Whether the engine checks the types of values.
    pub strict: bool,
    /// The columns, by name.
    pub columns: BTreeMap<String, PhysicalColumn>,
    /// The links: the column, the table it leads to, the column there, and what happens on removal.
    pub links: BTreeSet<(String, String, String, String)>,
    /// The indexes: the columns, and whether they are unique.
    pub indexes: BTreeSet<(Vec<String>, bool)>,
    /// The columns whose words are searched, where the triggers that tell the search index are all there.
    pub searchable: BTreeSet<String>,
    /// Whether the triggers that keep what changes are all there.
    pub shared: bool,
}

/// A column as the engine keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PhysicalColumn {
    /// The declared type.
    pub storage: String,
    /// Whether it must hold something.
    pub required: bool,
    /// The literal of its default.
    pub default: Option<String>,
    /// Whether it is the row number.
    pub is_key: bool,
    /// Whether its values are unique by themselves, and those are the same where only large and small letters differ.
    pub ignores_case: bool,
}

impl Physical {
    /// What the engine keeps of a declared structure.
    pub fn of(structure: &Structure) -> Physical {
        Physical { tables: structure.tables.iter().map(|t| (t.name.clone(), PhysicalTable::of(t))).collect() }
    }

    /// How `found` differs from this, each as a sentence. Further tables in `found` do not count.
    pub fn differences(&self, found: &Physical) -> Vec<String> {
        let mut out = Vec::new();
        for (name, table) in &self.tables {
            match found.tables.get(name) {
                None => out.push(format!("the table `{name}` is missing")),
                Some(there) => table.push_differences(name, there, &mut out),
            }
        }
        out
    }
}

impl PhysicalTable {
    fn of(table: &Table) -> PhysicalTable {
        let key = PhysicalColumn { storage: "INTEGER".into(), is_key: true, ..PhysicalColumn::default() };
        let columns = table.columns.iter().map(|c| {
            let column = PhysicalColumn {
                storage: c.kind.storage().into(),
                required: !c.optional,
                default: c.default.clone(),
                is_key: false,
                ignores_case: c.ignore_case,
            };
            (c.name.clone(), column)
        });
        let links = table.columns.iter().filter_map(|c| {
            let Kind::Link { table } = &c.kind else { return None };
            let action = match c.on_delete {
                Some(OnDelete::Clear) => "SET NULL",
                Some(OnDelete::Remove) => "CASCADE",
                Some(OnDelete::Refuse) | None => "NO ACTION",
            };
            Some((c.name.clone(), table.clone(), KEY_COLUMN.into(), action.into()))
        });
        PhysicalTable {
            strict: true,
            columns: std::iter::once((KEY_COLUMN.into(), key)).chain(columns).collect(),
            links: links.collect(),
            indexes: table.indexes.iter().map(|i| (i.columns.clone(), i.unique)).collect(),
            searchable: table.searchable.iter().cloned().collect(),
            shared: table.shared,
        }
    }

    fn push_differences(&self, name: &str, found: &PhysicalTable, out: &mut Vec<String>) {
        if self.strict != found.strict {
            out.push(format!("the table `{name}` is not STRICT"));
        }
        for (column, declared) in &self.columns {
            match found.columns.get(column) {
                None => out.push(format!("`{name}.{column}` is missing")),
                Some(there) if there != declared => out.push(format!(
                    "`{name}.{column}` is {} where {} is declared",
                    there.in_words(),
                    declared.in_words()
                )),
                Some(_) => {}
            }
        }
        for column in found.columns.keys().filter(|c| !self.columns.contains_key(*c)) {
            out.push(format!("`{name}.{column}` is there but not declared"));
        }
        for (column, to, _, action) in self.links.difference(&found.links) {
            out.push(format!("the link from `{name}.{column}` to `{to}` (on removal: {action}) is missing"));
        }
        for (column, to, _, action) in found.links.difference(&self.links) {
            out.push(format!(
                "a link from `{name}.{column}` to `{to}` (on removal: {action}) is there but not declared"
            ));
        }
        let index = |(columns, unique): &(Vec<String>, bool)| {
            format!("{} on `{name}`({})", if *unique { "the unique index" } else { "the index" }, columns.join(", "))
        };
        if self.shared != found.shared {
            let what = if found.shared { "is kept but not declared as shared" } else { "is not kept" };
            out.push(format!("what changes in `{name}` {what}"));
        }
        if self.searchable != found.searchable {
            let list = |columns: &BTreeSet<String>| columns.iter().cloned().collect::<Vec<_>>().join(", ");
            let (declared, there) = (list(&self.searchable), list(&found.searchable));
            out.push(format!("the search index of `{name}` has the columns ({there}) where ({declared}) are declared"));
        }
        out.extend(self.indexes.difference(&found.indexes).map(|i| format!("{} is missing", index(i))));
        out.extend(found.indexes.difference(&self.indexes).map(|i| format!("{} is there but not declared", index(i))));
    }
}

impl PhysicalColumn {
    fn in_words(&self) -> String {
        let required = if self.required { " NOT NULL" } else { "" };
        let default = self.default.as_ref().map(|d| format!(" DEFAULT {d}")).unwrap_or_default();
        let collation = if self.ignores_case { " COLLATE NOCASE" } else { "" };
        let key = if self.is_key { " (the row number)" } else { "" };
        format!("{}{key}{required}{collation}{default}", self.storage)
    }
}
