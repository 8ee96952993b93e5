//! Records that had another own key, or are gone: what their trail tells of them.

use super::compare::Did;
use super::file::{File, FoundTable};
use super::trail::{Told, TrailEntry, TrailOf};
use crate::error::Error;
use serde::Serialize;
use std::collections::BTreeSet;
use velvet_core::Value;

/// A record that had an own key that it does not have any more.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Former {
    /// Its table.
    pub table: String,
    /// Its row number.
    pub row: i64,
    /// The entry by which it lost that key: the record was changed, or removed.
    pub lost_by: TrailEntry,
    /// The entry by which it was removed, where it is gone.
    pub removed_by: Option<TrailEntry>,
    /// The own key that it has now; nothing where it is gone.
    pub now: Option<Value>,
}

impl File {
    /// The records of a table that had this own key before, and have another one now or are gone; the last to have it first. Only what a trail tells that
    /// keeps what stood there before ([`crate::Trail::Before`]), as far back as it goes.
    ///
    /// # Errors
    /// When the file cannot be read.
    ///
    /// ```
    /// use velvet_drawer::inspect::File;
    /// use velvet_drawer::{Drawer, Record, Schema, Trail};
    /// # #[derive(Record)] struct Piece { #[record(own_key)] mark: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let drawer = Drawer::options().trail(Trail::Before).open(&path, Schema::new("kilnbook").record::<Piece>())?;
    /// let piece = drawer.insert(Piece { mark: "K-104".into() })?;
    /// drawer.change(piece.key(), |piece| piece.mark = "K-140".into())?;
    ///
    /// let file = File::open(&path)?;
    /// let former = file.formerly(&file.table("piece")?, "K-104")?;
    /// assert_eq!((former[0].row, former[0].now.clone()), (piece.key().number(), Some("K-140".into())));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn formerly(&self, table: &FoundTable, own_key: &str) -> Result<Vec<Former>, Error> {
        let Some(column) = self.own_key(&table.name) else { return Ok(Vec::new()) };
        let of = TrailOf { table: Some(table.name.clone()), ..TrailOf::default() };
        let trail = self.trail(&of)?;
        let had_it = |entry: &&TrailEntry| {
            let is_it = |told: &Told| matches!(told, Told::Value(value) if is_typed(value, own_key));
            entry.did != Did::Inserted && entry.columns.iter().any(|c| c.name == column && is_it(&c.before))
        };
        let mut told = BTreeSet::new();
        let mut all = Vec::new();
        for lost_by in trail.iter().filter(had_it) {
            if !told.insert(lost_by.row) {
                continue;
            }
            let now = self
                .one(table, &format!("#{}", lost_by.row))
                .ok()
                .and_then(|row| row.columns.into_iter().find(|(c, _)| c.name == column).map(|(_, value)| value));
            // It may have come back to it since.
            if now.as_ref().is_some_and(|now| is_typed(now, own_key)) {
                continue;
            }
            let removal = |entry: &&TrailEntry| entry.row == lost_by.row && entry.did == Did::Removed;
            let removed_by = if now.is_none() { trail.iter().find(removal).cloned() } else { None };
            all.push(Former { table: table.name.clone(), row: lost_by.row, lost_by: lost_by.clone(), removed_by, now });
        }
        Ok(all)
    }
}

/// Whether a value is what somebody typed for it, in large letters or small.
fn is_typed(value: &Value, typed: &str) -> bool {
    match value {
        Value::Text(text) => text.to_lowercase() == typed.to_lowercase(),
        Value::Integer(number) => typed.parse() == Ok(*number),
        _ => false,
    }
}
