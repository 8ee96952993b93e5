//! What was written to records, and by which start of the app.

use super::compare::Difference;
use super::file::File;
use super::forms;
use crate::engine::{Connection, Fault, FaultKind, Row};
use crate::error::Error;
use serde::Serialize;
use serde_json::{Map, Value as Json};
use std::collections::{BTreeMap, HashMap};
use velvet_core::exchange::of_json;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::statement::{TRAIL, WRITES};
use velvet_core::structure::Kind;
use velvet_core::{Value, ValueRef};

/// Which entries of the trail to read.
#[derive(Clone, Debug, Default)]
pub struct TrailOf {
    /// Those of this table only.
    pub table: Option<String>,
    /// Those of the record with this row number only.
    pub row: Option<i64>,
    /// Those of this session only.
    pub session: Option<i64>,
    /// Those of this kind only.
    pub did: Option<Did>,
    /// Those from this time stamp in UTC on, that included: as the file has it, or the beginning of one, such as `2025-03-08T09`.
    pub since: Option<String>,
    /// Those before this time stamp in UTC.
    pub until: Option<String>,
    /// At most this many, of the newest.
    pub limit: Option<u64>,
}

/// The entries of a trail by the records that they are of.
#[derive(Clone, Debug, Default)]
pub struct TrailByRecord {
    /// Those of each record, newest first.
    entries: HashMap<(String, i64), Vec<TrailEntry>>,
}

impl TrailByRecord {
    /// The entry that made a difference between an earlier copy of the file and this one: the last one that did to the record what differs.
    /// Nothing where none was kept, and where rows are not matched by their numbers: those may be of another drawer.
    pub fn made(&self, difference: &Difference<'_>) -> Option<&TrailEntry> {
        let columns = if let Difference::Changed { columns, .. } = difference { *columns } else { &[] };
        let wrote = |entry: &&TrailEntry| {
            let differs = |c: &WrittenColumn| columns.iter().any(|changed| changed.name == c.name);
            let is_it = columns.is_empty() || entry.columns.is_empty() || entry.columns.iter().any(differs);
            entry.did == difference.did() && is_it
        };
        self.entries.get(&(difference.table().to_owned(), difference.row_number()?))?.iter().find(wrote)
    }
}

impl TrailOf {
    fn asks_for(&self, entry: &TrailEntry) -> bool {
        self.session.is_none_or(|session| entry.session == Some(session))
            && self.did.is_none_or(|did| entry.did == did)
            && self.since.as_ref().is_none_or(|since| entry.at >= *since)
            && self.until.as_ref().is_none_or(|until| entry.at < *until)
    }

    /// Whether some entries are left out for what they are, and not for how many there are.
    pub fn is_part(&self) -> bool {
        let of_time = self.since.is_some() || self.until.is_some();
        self.table.is_some() || self.row.is_some() || self.session.is_some() || self.did.is_some() || of_time
    }
}

/// What was written to one record by one statement.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TrailEntry {
    /// Its number; later entries have larger ones.
    #[serde(rename = "entry")]
    pub number: i64,
    /// The table.
    pub table: String,
    /// The row number of the record.
    pub row: i64,
    /// What was done to it.
    pub did: Did,
    /// When, as a time stamp in UTC.
    pub at: String,
    /// The session that did it. Nothing where another program did, or the app keeps no sessions.
    pub session: Option<i64>,
    /// The number of the transaction: what has the same was kept together. Nothing where another program did it.
    pub write: Option<i64>,
    /// The columns that were written, where the trail says: those that changed; of an inserted or removed record all that are
    /// known.
    #[serde(serialize_with = "forms::written")]
    pub columns: Vec<WrittenColumn>,
}

/// What was done to a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Did {
    /// It was inserted.
    Inserted,
    /// It was changed.
    Changed,
    /// It was removed.
    Removed,
}

/// A column that was written.
#[derive(Clone, Debug, PartialEq)]
pub struct WrittenColumn {
    /// Its name, as it was then.
    pub name: String,
    /// What the column of that name is declared to hold now, where the file says.
    pub kind: Option<Kind>,
    /// What stood there before.
    pub before: Told,
    /// What stood there afterwards.
    pub after: Told,
}

/// What is told of a value.
#[derive(Clone, Debug, PartialEq)]
pub enum Told {
    /// The value.
    Value(Value),
    /// The record was not there.
    NotThere,
    /// The column is private, so its values are left out.
    Private,
    /// The column is sealed, so that only somebody who has the key could read it.
    Sealed,
    /// It was too long to be kept; so many characters, or bytes.
    TooLong(u64),
    /// The trail did not keep it.
    Unknown,
}

/// What is known of a record at one point of its trail, going back from now.
enum Known {
    Columns(BTreeMap<String, Told>),
    NotThere,
    Nothing,
}

impl Known {
    fn column(&self, name: &str) -> Told {
        match self {
            Known::Columns(columns) => columns.get(name).cloned().unwrap_or(Told::Unknown),
            Known::NotThere => Told::NotThere,
            Known::Nothing => Told::Unknown,
        }
    }
}

impl File {
    /// What was written to records, newest first, as far as the app keeps a trail ([`crate::Options::trail`]). What came after a
    /// value is told by the next entry of the same record, or by the record itself.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn trail(&self, of: &TrailOf) -> Result<Vec<TrailEntry>, Error> {
        if !self.is_ours() {
            return Ok(Vec::new());
        }
        self.read("cannot read the trail", |c| Ok(self.entries(c, of)?))
    }

    /// The trail by the records that it is of, to look up many.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn trail_by_record(&self) -> Result<TrailByRecord, Error> {
        let mut entries: HashMap<(String, i64), Vec<TrailEntry>> = HashMap::new();
        for entry in self.trail(&TrailOf::default())? {
            entries.entry((entry.table.clone(), entry.row)).or_default().push(entry);
        }
        Ok(TrailByRecord { entries })
    }

    fn entries(&self, connection: &Connection, of: &TrailOf) -> Result<Vec<TrailEntry>, Fault> {
        let text = format!(
            "SELECT t.entry, t.table_name, t.key, t.did, coalesce(w.at, t.write), w.session, t.write, t.before FROM {TRAIL} AS t \
             LEFT JOIN {WRITES} AS w ON w.write = t.write WHERE coalesce(t.table_name = ?1, 1) AND coalesce(t.key = ?2, 1) \
             AND t.before IS NOT '{{}}' ORDER BY t.entry DESC"
        );
        let mut statement = match connection.prepare(&text) {
            Err(Fault { kind: FaultKind::NoTable(_) | FaultKind::NoColumn(_), .. }) => return Ok(Vec::new()),
            other => other?,
        };
        statement.bind_all([of.table.as_ref().into(), of.row.into()])?;
        let limit = of.limit.map_or(usize::MAX, |n| usize::try_from(n).unwrap_or(usize::MAX));
        let mut known: HashMap<(String, i64), Known> = HashMap::new();
        let mut all = Vec::new();
        let mut rows = statement.rows();
        while all.len() < limit
            && let Some(row) = rows.next()?
        {
            let (table, key) = (row.text(1).to_owned(), row.integer(2));
            let state = match known.remove(&(table.clone(), key)) {
                Some(state) => state,
                None => self.stands_now(connection, &table, key)?,
            };
            let (entry, before) = self.entry(row, state);
            known.insert((table, key), before);
            if of.asks_for(&entry) {
                all.push(entry);
            }
        }
        Ok(all)
    }

    /// The record as it is stored now.
    fn stands_now(&self, connection: &Connection, table: &str, key: i64) -> Result<Known, Fault> {
        let text = format!("SELECT * FROM {} WHERE {} = ?1", quoted(table), quoted(KEY_COLUMN));
        let declared = self.declared().and_then(|s| s.table(table));
        let column = |name: &str| declared.and_then(|t| t.column(name));
        let known = connection.one(&text, [key.into()], |row| {
            let cell = |at: usize| {
                let name = row.name(at);
                let told = match row.value(at) {
                    _ if column(name).is_some_and(|c| c.private) => Told::Private,
                    value if value != ValueRef::Missing && column(name).is_some_and(|c| c.seal().is_some()) => {
                        Told::Sealed
                    }
                    value => Told::Value(value.to_value()),
                };
                (name != KEY_COLUMN).then(|| (name.to_owned(), told))
            };
            Known::Columns((0..row.count()).filter_map(cell).collect())
        });
        match known {
            // The table was dropped since.
            Err(Fault { kind: FaultKind::NoTable(_) | FaultKind::NoColumn(_), .. }) => Ok(Known::Nothing),
            known => Ok(known?.unwrap_or(Known::NotThere)),
        }
    }

    /// An entry, and what is known of the record before it. `after` is what is known of it afterwards.
    fn entry(&self, row: Row<'_, '_>, after: Known) -> (TrailEntry, Known) {
        let number = |at: usize| if let ValueRef::Integer(n) = row.value(at) { Some(n) } else { None };
        let did = match row.text(3) {
            "inserted" => Did::Inserted,
            "removed" => Did::Removed,
            _ => Did::Changed,
        };
        let kept = serde_json::from_str::<Map<String, Json>>(row.text(7)).ok();
        let (columns, before) = match (did, kept) {
            (Did::Inserted, _) => {
                let written = |(name, told): (&String, &Told)| WrittenColumn {
                    name: name.clone(),
                    before: Told::NotThere,
                    after: told.clone(),
                    kind: None,
                };
                let columns = if let Known::Columns(columns) = &after {
                    columns.iter().map(written).collect()
                } else {
                    Vec::new()
                };
                (self.in_order(row.text(1), columns), Known::NotThere)
            }
            (_, None) => (Vec::new(), Known::Nothing),
            (_, Some(kept)) => {
                let told: BTreeMap<String, Told> = kept.iter().map(|(name, json)| (name.clone(), told(json))).collect();
                let written = |(name, before): (&String, &Told)| WrittenColumn {
                    name: name.clone(),
                    before: before.clone(),
                    after: after.column(name),
                    kind: None,
                };
                let columns = self.in_order(row.text(1), told.iter().map(written).collect());
                let before = match after {
                    Known::Columns(mut columns) => {
                        columns.extend(told);
                        Known::Columns(columns)
                    }
                    _ => Known::Columns(told),
                };
                (columns, before)
            }
        };
        let entry = TrailEntry {
            number: row.integer(0),
            table: row.text(1).to_owned(),
            row: row.integer(2),
            did,
            at: row.text(4).to_owned(),
            session: number(5),
            write: number(6),
            columns,
        };
        (entry, before)
    }

    /// The columns in the order in which they are declared.
    fn in_order(&self, table: &str, mut columns: Vec<WrittenColumn>) -> Vec<WrittenColumn> {
        if let Some(table) = self.declared().and_then(|s| s.table(table)) {
            columns.sort_by_key(|c| table.columns.iter().position(|d| d.name == c.name).unwrap_or(usize::MAX));
            columns.iter_mut().for_each(|c| c.kind = table.column(&c.name).map(|declared| declared.kind.clone()));
        }
        columns
    }
}

/// A value as the trail keeps it.
fn told(json: &Json) -> Told {
    match json.as_object().and_then(|object| object.iter().next()) {
        Some((word, _)) if word == "private" => Told::Private,
        Some((word, _)) if word == "sealed" => Told::Sealed,
        Some((word, length)) if word == "left_out" => Told::TooLong(length.as_u64().unwrap_or(0)),
        _ => of_json(&json.to_string(), None).map_or(Told::Unknown, Told::Value),
    }
}
