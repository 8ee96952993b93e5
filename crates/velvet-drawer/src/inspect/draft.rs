//! Record types to begin with, drafted from a file.

use super::file::File;
use crate::engine::EntryKind;
use crate::error::Error;
use crate::schema::about::About;
use velvet_core::schema::draft::{Drafted, PlainColumn, PlainTable, guessed, in_rust};
use velvet_core::schema::structure::{ATTACHMENT_PART, Holds, Table};
use velvet_core::value::name::quoted;

impl File {
    /// Record types for the tables of the file, and the schema that they make, as Rust to begin with.
    ///
    /// Of a plain file of another program they are guessed by what the file declares and by all values in it: own keys, links, what is optional or unique,
    /// choices where a few texts come again and again, dates. With them [`Options::adopt`](crate::Options::adopt) takes the file over. Of a
    /// drawer they are what its app declared, but for types of the app's own, settings and named values.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema, inspect::File};
    /// # #[derive(Record)] struct Glaze { #[record(own_key)] name: String, cone: Option<i32> }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?.close()?;
    /// let types = File::open(&path)?.types_in_rust()?;
    /// assert!(types.contains("    #[record(own_key)]\n    pub name: String,\n    pub cone: Option<i32>,"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn types_in_rust(&self) -> Result<String, Error> {
        let stem = self.path().file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let app = match self.declared() {
            Some(_) => self.read("cannot read whose file it is", |c| Ok(About::fact(c, "app")?))?.unwrap_or(stem),
            None => stem,
        };
        let drafts = match self.declared() {
            Some(structure) => structure.tables.iter().filter(|t| t.name != ATTACHMENT_PART).map(declared).collect(),
            None => self.plain_tables()?,
        };
        Ok(in_rust(&app, &drafts))
    }

    fn plain_tables(&self) -> Result<Vec<Drafted>, Error> {
        let doing = "cannot read what the tables hold";
        let physical = self.read(doing, |c| Ok(c.physical()?))?;
        let mut tables = Vec::new();
        let mut drafts = Vec::new();
        for name in self.table_names()? {
            let kind = self.catalogue()?.iter().find(|entry| entry.name == name).map(|entry| entry.kind);
            if kind != Some(EntryKind::Table) {
                let what = if kind == Some(EntryKind::View) { "a view" } else { "a virtual table" };
                let note = format!("it is {what}, which stays in the file as it is");
                drafts.push(Drafted { name, notes: vec![(None, note)], ..Drafted::default() });
                continue;
            }
            let found = physical.tables.get(&name).cloned().unwrap_or_default();
            let entries = self.read(doing, |c| Ok(c.columns_of(&name)?))?;
            let mut key: Vec<_> = entries.iter().filter(|e| e.key_place > 0).collect();
            key.sort_by_key(|e| e.key_place);
            let row_number = match key[..] {
                [one] if one.storage.eq_ignore_ascii_case("INTEGER") => Some(one.name.clone()),
                _ => None,
            };
            let mut table = PlainTable {
                primary_key: key.into_iter().map(|e| e.name.clone()).collect(),
                indexes: found.indexes.iter().cloned().collect(),
                name,
                columns: Vec::new(),
            };
            for entry in &entries {
                let there = found.columns.get(&entry.name).cloned().unwrap_or_default();
                let link = found.links.iter().find(|link| link.0 == entry.name);
                table.columns.push(PlainColumn {
                    name: entry.name.clone(),
                    storage: entry.storage.to_ascii_uppercase(),
                    is_row_number: row_number.as_deref() == Some(&entry.name),
                    required: entry.required,
                    ignores_case: there.ignores_case,
                    is_computed: !entry.is_stored,
                    default: entry.default.clone(),
                    link: link.map(|(_, table, to, action)| (table.clone(), to.clone(), action.clone())),
                    values: Default::default(),
                });
            }
            let list: Vec<String> = entries.iter().map(|e| quoted(&e.name)).collect();
            let text = format!("SELECT {} FROM {}", list.join(", "), quoted(&table.name));
            self.read(doing, |c| {
                Ok(c.rows(&text, [], |row| {
                    table.columns.iter_mut().enumerate().for_each(|(at, column)| column.values.add(row.value(at)));
                    Ok::<_, crate::engine::Fault>(())
                })?)
            })?;
            tables.push(table);
        }
        let row_numbered = |table: &str, column: &str| {
            let found = tables.iter().filter(|t| t.name.eq_ignore_ascii_case(table));
            let mut numbers = found.flat_map(|t| &t.columns).filter(|c| c.is_row_number);
            numbers.any(|c| column.is_empty() || c.name.eq_ignore_ascii_case(column))
        };
        drafts.splice(0..0, tables.iter().map(|table| guessed(table, row_numbered)));
        Ok(drafts)
    }
}

fn declared(table: &Table) -> Drafted {
    let holds = table.holds();
    let mut draft = Drafted { name: table.name.clone(), holds: Some(holds), ..Drafted::default() };
    match holds {
        Holds::Records => draft.table = Some(table.clone()),
        Holds::Attachments => {}
        _ => draft.notes.push((None, format!("it holds {}, which are declared otherwise", holds.in_words()))),
    }
    draft
}
