//! What was written to records, and by which start of the app.

use super::compare::{Did, Difference};
use super::file::File;
use super::forms;
use crate::engine::{Connection, Fault, FaultKind, Row};
use crate::error::Error;
use serde::Serialize;
use serde_json::{Map, Value as Json};
use std::collections::{BTreeMap, HashMap};
use velvet_core::exchange::of_json;
use velvet_core::schema::structure::Kind;
use velvet_core::statement::{SPANS, TRAIL, WRITES};
use velvet_core::value::name::{KEY_COLUMN, quoted};
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
    /// The newest entry that the earlier file has too.
    since: i64,
}

impl TrailByRecord {
    /// The entry that made a difference between an earlier copy of the file and this one: the last one that did to the record what differs.
    /// `None` if none was kept, something that the trail did not hear of may have made it, or rows are not matched by their numbers: those may be of another drawer.
    pub fn made(&self, difference: &Difference<'_>) -> Option<&TrailEntry> {
        let columns = if let Difference::Changed { columns, .. } = difference { *columns } else { &[] };
        let wrote = |entry: &&TrailEntry| {
            let differs = |c: &WrittenColumn| columns.iter().any(|changed| changed.name == c.name);
            let is_it = columns.is_empty() || entry.columns.is_empty() || entry.columns.iter().any(differs);
            entry.did == difference.did() && is_it
        };
        let entries = self.entries.get(&(difference.table().to_owned(), difference.row_number()?))?;
        let newer = entries.iter().take_while(|entry| entry.number > self.since && !entry.has_gap_after);
        newer.into_iter().find(wrote)
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
    /// Whether something that the trail did not hear of may have come between this and the next entry of the record, or now.
    #[serde(skip)]
    has_gap_after: bool,
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
    /// Something that the trail did not hear of may have come in between.
    NotKnown(Gap),
}

/// What a trail did not hear of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gap {
    /// The trail was off, or began only later.
    Off,
    /// An upgrade wrote rows.
    Upgrade,
    /// Another program replaced the row, gave it another row number, or removed it in a way that triggers do not hear of.
    Replaced,
}

/// From which entry to which the trail of a table was kept without a gap.
struct Span {
    table: String,
    from: i64,
    to: Option<i64>,
    ended: Gap,
}

/// How what is known of a record goes on after an entry.
struct Follows {
    /// The next entry of the record; `None` for how it is stored now.
    entry: Option<i64>,
    /// Whether that entry says that the record was inserted.
    is_inserted: bool,
    known: Known,
}

/// What is known of a record at one point of its trail, going back from now.
enum Known {
    Columns(BTreeMap<String, Told>),
    NotThere,
    Nothing,
    Gap(Gap),
}

impl Known {
    fn column(&self, name: &str) -> Told {
        match self {
            Known::Columns(columns) => columns.get(name).cloned().unwrap_or(Told::Unknown),
            Known::NotThere => Told::NotThere,
            Known::Nothing => Told::Unknown,
            Known::Gap(gap) => Told::NotKnown(*gap),
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

    /// The trail by the records that it is of, to look up what made the differences from an earlier copy of the file.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn trail_since(&self, earlier: &File) -> Result<TrailByRecord, Error> {
        let mut entries: HashMap<(String, i64), Vec<TrailEntry>> = HashMap::new();
        let all = self.trail(&TrailOf::default())?;
        let before = earlier.trail(&TrailOf { limit: Some(1), ..TrailOf::default() })?;
        let is_same = |a: &TrailEntry, b: &TrailEntry| {
            (a.number, &a.table, a.row, a.did, &a.at, a.write) == (b.number, &b.table, b.row, b.did, &b.at, b.write)
        };
        let since = match before.first() {
            None => 0,
            Some(last) if all.iter().any(|entry| is_same(entry, last)) => last.number,
            // The trail of the earlier file is not a part of this one, or was forgotten.
            Some(last) if all.last().is_some_and(|oldest| oldest.number > last.number) => last.number,
            Some(_) => i64::MAX,
        };
        for entry in all {
            entries.entry((entry.table.clone(), entry.row)).or_default().push(entry);
        }
        Ok(TrailByRecord { entries, since })
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
        let (spans, moved) = (spans(connection)?, moved(connection)?);
        let mut known: HashMap<(String, i64), Follows> = HashMap::new();
        let mut all = Vec::new();
        let mut rows = statement.rows();
        while all.len() < limit
            && let Some(row) = rows.next()?
        {
            let (table, key) = (row.text(1).to_owned(), row.integer(2));
            let next = match known.remove(&(table.clone(), key)) {
                Some(next) => next,
                None => Follows { entry: None, is_inserted: false, known: self.stands_now(connection, &table, key)? },
            };
            let number = row.integer(0);
            let next_moved =
                moved.get(&table).and_then(|moved| moved.get(moved.partition_point(|entry| *entry <= number)));
            let after = match next_moved.is_some_and(|moved| next.entry.is_none_or(|next| *moved < next)) {
                true if row.text(3) != "removed" => Known::Gap(Gap::Replaced),
                _ => after(&spans, &table, (number, row.text(3)), next),
            };
            let (entry, before) = self.entry(row, after);
            let is_inserted = entry.did == Did::Inserted;
            known.insert((table, key), Follows { entry: Some(number), is_inserted, known: before });
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
        let has_gap_after = matches!(after, Known::Gap(_));
        let (columns, before) = match (did, kept) {
            (Did::Inserted, _) => {
                let written = |(name, told): (&String, &Told)| WrittenColumn {
                    name: name.clone(),
                    before: Told::NotThere,
                    after: told.clone(),
                    kind: None,
                };
                let columns = match &after {
                    Known::Columns(columns) => columns.iter().map(written).collect(),
                    Known::Gap(gap) => {
                        let declared = self.declared().and_then(|s| s.table(row.text(1)));
                        let names = declared.into_iter().flat_map(|table| table.column_names());
                        names
                            .map(|name| written((&name.to_owned(), &Told::NotKnown(*gap))))
                            .filter(|c| c.name != KEY_COLUMN)
                            .collect()
                    }
                    _ => Vec::new(),
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
            has_gap_after,
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

fn spans(connection: &Connection) -> Result<Vec<Span>, Fault> {
    let text = format!("SELECT table_name, from_entry, to_entry, ended FROM {SPANS} ORDER BY span");
    let span = |row: Row<'_, '_>| Span {
        table: row.text(0).to_owned(),
        from: row.integer(1),
        to: if let ValueRef::Integer(to) = row.value(2) { Some(to) } else { None },
        ended: if row.text(3) == "upgrade" { Gap::Upgrade } else { Gap::Off },
    };
    match connection.list(&text, [], span) {
        Err(Fault { kind: FaultKind::NoTable(_) | FaultKind::NoColumn(_), .. }) => Ok(Vec::new()),
        spans => spans,
    }
}

/// The entries that say of a row that it was written, and no column of it: its row number may have been changed, and the row that had the new one replaced.
/// A trail of keys alone never says which columns; there, those of other programs count. What the app's own SQL replaces is heard of.
fn moved(connection: &Connection) -> Result<HashMap<String, Vec<i64>>, Fault> {
    let mut moved: HashMap<String, Vec<i64>> = HashMap::new();
    connection.rows(
        &format!(
            "SELECT table_name, entry FROM {TRAIL} WHERE before = '{{}}' \
             OR before IS NULL AND did = 'changed' AND typeof(write) = 'text' ORDER BY entry"
        ),
        [],
        |row| {
            moved.entry(row.text(0).to_owned()).or_default().push(row.integer(1));
            Ok::<_, Fault>(())
        },
    )?;
    Ok(moved)
}

/// What is known of a record after an entry of its trail, by what follows.
fn after(spans: &[Span], table: &str, (number, did): (i64, &str), next: Follows) -> Known {
    if did == "removed" {
        return Known::NotThere;
    }
    let of_entry =
        spans.iter().rev().find(|s| s.table == table && s.from <= number && s.to.is_none_or(|to| to >= number));
    let is_without_gap =
        of_entry.is_some_and(|span| span.to.is_none_or(|to| next.entry.is_some_and(|next| next <= to)));
    match next.known {
        _ if !is_without_gap => Known::Gap(of_entry.map_or(Gap::Off, |span| span.ended)),
        // It was here after this entry, and nothing heard of how it went.
        Known::NotThere => Known::Gap(Gap::Replaced),
        _ if next.is_inserted => Known::Gap(Gap::Replaced),
        known => known,
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
