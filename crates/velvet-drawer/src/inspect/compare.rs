//! Two copies of a file, or two files of one app, record by record.

use super::cell::{Cell, ChangedCell};
use super::file::{File, FoundTable};
use super::structure::{ColumnStructure, TableStructure};
use crate::engine::{Connection, Row};
use crate::error::Error;
use crate::schema::about::About;
use crate::work::progress;
use serde::Serialize;
use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};
use velvet_core::ValueRef;
use velvet_core::exchange::compare::{order_ignoring_case, order_of_rows};
use velvet_core::schema::structure::{ATTACHMENT, ATTACHMENT_PART, Kind, Table};
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// What a comparison came to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Comparison {
    /// How the structures differ, each as a sentence.
    pub structure: Vec<String>,
    /// The tables that are in both.
    pub tables: Vec<TableComparison>,
}

/// How a table differs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct TableComparison {
    /// Its name.
    pub name: String,
    /// The columns by which its rows are matched. All of them where nothing tells one row from another; a change is then a
    /// removal and an addition.
    pub matched_by: Vec<String>,
    /// How many rows are only in the file after.
    pub added: u64,
    /// How many rows are only in the file before.
    pub removed: u64,
    /// How many rows are in both and differ.
    pub changed: u64,
    /// How many rows are the same in both.
    pub same: u64,
    /// Whether the rows are the same, but were inserted in another order: a list that is not sorted shows them otherwise.
    pub only_order: bool,
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

/// One row that differs. Values are those of the columns that both tables have.
#[derive(Debug)]
pub enum Difference<'a> {
    /// A row that is only in the file after.
    Added {
        /// Its table.
        table: &'a str,
        /// The columns and values by which it is known.
        known_by: &'a [Cell<'a>],
        /// All columns and their values.
        row: &'a [Cell<'a>],
    },
    /// A row that is only in the file before.
    Removed {
        /// Its table.
        table: &'a str,
        /// The columns and values by which it is known.
        known_by: &'a [Cell<'a>],
        /// All columns and their values.
        row: &'a [Cell<'a>],
    },
    /// A row that is in both.
    Changed {
        /// Its table.
        table: &'a str,
        /// The columns and values by which it is known.
        known_by: &'a [Cell<'a>],
        /// The columns that differ.
        columns: &'a [ChangedCell<'a>],
    },
}

impl<'a> Difference<'a> {
    /// The table of the row.
    pub fn table(&self) -> &'a str {
        match self {
            Difference::Added { table, .. } | Difference::Removed { table, .. } | Difference::Changed { table, .. } => {
                table
            }
        }
    }

    /// The columns and values by which the row is known.
    pub fn known_by(&self) -> &'a [Cell<'a>] {
        match self {
            Difference::Added { known_by, .. }
            | Difference::Removed { known_by, .. }
            | Difference::Changed { known_by, .. } => known_by,
        }
    }

    /// What was done to the row.
    pub fn did(&self) -> Did {
        match self {
            Difference::Added { .. } => Did::Inserted,
            Difference::Removed { .. } => Did::Removed,
            Difference::Changed { .. } => Did::Changed,
        }
    }

    /// Its row number, where it is known by that.
    pub fn row_number(&self) -> Option<i64> {
        self.known_by().iter().find(|cell| cell.name == KEY_COLUMN).and_then(|cell| match cell.value {
            ValueRef::Integer(number) => Some(number),
            _ => None,
        })
    }
}

impl Comparison {
    /// Whether nothing differs, the order of rows not counted.
    pub fn is_same(&self) -> bool {
        self.structure.is_empty() && self.tables.iter().all(|t| t.added + t.removed + t.changed == 0)
    }
}

impl File {
    /// Compares this file with a later one, in memory that does not grow with them. Each row that differs goes to `each`, as it is
    /// found; `looked_at` hears now and then how many rows were.
    ///
    /// Rows of two copies of one drawer are matched by their row numbers, which are never given again; of two drawers of one app by
    /// the records' own keys, ignoring case where the key does; of other files by their primary keys.
    ///
    /// # Errors
    /// When a file cannot be read, and what `each` returns.
    ///
    /// ```
    /// use velvet_drawer::inspect::{Difference, File};
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let (yesterday, today) = (folder.path().join("a.drawer"), folder.path().join("b.drawer"));
    /// # let drawer = Drawer::open(&yesterday, Schema::new("kilnbook").record::<Piece>())?;
    /// # let bowl = drawer.insert(Piece { mark: "K-1".into(), grams: 640 })?;
    /// # drawer.close()?;
    /// # std::fs::copy(&yesterday, &today).unwrap();
    /// # let drawer = Drawer::open(&today, Schema::new("kilnbook").record::<Piece>())?;
    /// # drawer.change(bowl.key(), |p| p.grams = 590)?;
    /// # drawer.close()?;
    /// let (before, after) = (File::open(yesterday)?, File::open(today)?);
    /// let comparison = before.compare(&after, &mut |difference| {
    ///     if let Difference::Changed { columns, .. } = difference {
    ///         assert_eq!(columns[0].name, "grams");
    ///     }
    ///     Ok(())
    /// })?;
    /// assert_eq!((comparison.tables[0].changed, comparison.tables[0].added), (1, 0));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn compare(
        &self,
        after: &File,
        each: &mut dyn FnMut(Difference<'_>) -> Result<(), Error>,
    ) -> Result<Comparison, Error> {
        let (structure, structure_after) = (self.structure()?, after.structure()?);
        let mut comparison = Comparison { structure: differences(&structure, &structure_after), tables: Vec::new() };
        let created = |file: &File| {
            file.read("cannot read when it was created", |c| {
                if file.is_ours() { Ok(About::fact(c, "created_at")?) } else { Ok(None) }
            })
        };
        let is_copy = created(self)?.is_some_and(|at| created(after).is_ok_and(|other| other.as_ref() == Some(&at)));
        let views = self.views()?;
        let by_name: HashMap<&str, &TableStructure> = structure_after.iter().map(|t| (t.name.as_str(), t)).collect();
        let mut rows = 0;
        for table in &structure {
            let Some(table_after) = by_name.get(table.name.as_str()) else { continue };
            // The hashes of attachments say what is in them.
            if self.is_of_parts(&table.name) {
                continue;
            }
            let common = |c: &&ColumnStructure| table_after.columns.iter().any(|o| o.name == c.name);
            let mut columns: Vec<String> = table.columns.iter().filter(common).map(|c| c.name.clone()).collect();
            let matched_by = self.matched_by(&table.name, &columns, is_copy)?;
            let (mut told, mut ignores_case) = Default::default();
            // A row number says little to a person, so the own key goes with it.
            let own_key = self.own_key(&table.name).filter(|own_key| columns.contains(own_key));
            let known_by = matched_by.iter().chain(&own_key).cloned().collect::<Vec<_>>();
            if self.is_known_by_own_key(&table.name, &matched_by) {
                // Row numbers of two drawers have nothing to do with each other.
                columns.retain(|c| c != KEY_COLUMN);
                told = self.links_told_by_own_keys(&table.name);
                ignores_case = self.key_ignores_case(&table.name) && after.key_ignores_case(&table.name);
            }
            let mut comparing = Comparing {
                before: self,
                after,
                table: &table.name,
                columns,
                matched_by,
                known_by,
                told,
                ignores_case,
                kinds: Vec::new(),
            };
            match comparing.run(each, &mut rows) {
                Err(error) if error.is_beyond_bounds() || views.contains(&table.name) && !error.is_cancelled() => {
                    self.leave_out(&format!("`{}`", table.name), &error)
                }
                compared => comparison.tables.push(compared?),
            }
        }
        progress::tell(|| "comparing rows".to_owned(), rows, Some(rows));
        Ok(comparison)
    }

    /// Whether a table has the parts of attachments.
    pub(super) fn is_of_parts(&self, table: &str) -> bool {
        table == ATTACHMENT_PART && self.declared().is_some_and(|declared| declared.table(ATTACHMENT).is_some())
    }

    /// The column of the records' own key, where a table of our own has one.
    pub fn own_key(&self, table: &str) -> Option<String> {
        self.declared()?.table(table)?.own_key.clone()
    }

    fn is_known_by_own_key(&self, table: &str, matched_by: &[String]) -> bool {
        self.own_key(table).is_some_and(|own_key| matched_by == std::slice::from_ref(&own_key))
    }

    /// Whether the own key of a table is the same in small and large letters.
    fn key_ignores_case(&self, table: &str) -> bool {
        let own_key = |table: &'_ Table| table.column(table.own_key.as_ref()?).map(|c| c.ignore_case);
        self.declared().and_then(|structure| structure.table(table)).and_then(own_key).unwrap_or_default()
    }

    /// For each link of a table to records with an own key, that key as an expression.
    fn links_told_by_own_keys(&self, table: &str) -> BTreeMap<String, String> {
        let Some(structure) = self.declared() else { return BTreeMap::new() };
        let columns = structure.table(table).map_or(&[][..], |t| &t.columns);
        let told = columns.iter().filter_map(|column| {
            let Kind::Link { table: target } = &column.kind else { return None };
            let own_key = structure.table(target)?.own_key.as_ref()?;
            let (key, link) = (quoted(KEY_COLUMN), quoted(&column.name));
            let text = format!(
                "(SELECT linked.{} FROM {} AS linked WHERE linked.{key} = {}.{link})",
                quoted(own_key),
                quoted(target),
                quoted(table)
            );
            Some((column.name.clone(), text))
        });
        told.collect()
    }

    /// The columns by which rows of a table are told from each other.
    fn matched_by(&self, table: &str, columns: &[String], is_copy: bool) -> Result<Vec<String>, Error> {
        let has = |wanted: &[String]| !wanted.is_empty() && wanted.iter().all(|w| columns.contains(w));
        let own_key: Vec<String> = self.own_key(table).into_iter().collect();
        if !is_copy && has(&own_key) {
            return Ok(own_key);
        }
        let primary_key = self.primary_key(table)?;
        Ok(if has(&primary_key) { primary_key } else { columns.to_vec() })
    }
}

/// One table that is compared.
struct Comparing<'f> {
    before: &'f File,
    after: &'f File,
    table: &'f str,
    columns: Vec<String>,
    matched_by: Vec<String>,
    /// The columns by which a person knows a row; those that match first.
    known_by: Vec<String>,
    /// Columns that are told otherwise than they are stored, as expressions.
    told: BTreeMap<String, String>,
    /// Whether rows are matched by an own key that is the same in small and large letters.
    ignores_case: bool,
    /// What each column was declared to hold.
    kinds: Vec<Option<Kind>>,
}

impl Comparing<'_> {
    fn run(
        &mut self,
        each: &mut dyn FnMut(Difference<'_>) -> Result<(), Error>,
        rows: &mut u64,
    ) -> Result<TableComparison, Error> {
        // The columns that match come first, so that they are found at the beginning of a row.
        self.known_by.dedup();
        let rest: Vec<String> = self.columns.iter().filter(|c| !self.known_by.contains(c)).cloned().collect();
        self.columns = self.known_by.iter().cloned().chain(rest).collect();
        self.kinds = self.columns.iter().map(|column| self.kind(column)).collect();
        let mut found = TableComparison {
            name: self.table.to_owned(),
            matched_by: self.matched_by.clone(),
            ..TableComparison::default()
        };
        let doing = format!("cannot compare the rows of `{}`", self.table);
        self.before.read(&doing, |before| {
            self.after.read(&doing, |after| self.merge(before, after, &mut found, each, rows))
        })?;
        let are_rows_same = found.added + found.removed + found.changed == 0;
        found.only_order = are_rows_same && found.same > 1 && self.order_differs()?;
        Ok(found)
    }

    fn text(&self, order: &str) -> String {
        let told = |c: &String| self.told.get(c).cloned().unwrap_or_else(|| quoted(c));
        let columns: Vec<String> = self.columns.iter().map(told).collect();
        format!("SELECT {} FROM {} ORDER BY {order}", columns.join(", "), quoted(self.table))
    }

    /// Goes through both tables side by side.
    fn merge(
        &self,
        before: &Connection,
        after: &Connection,
        found: &mut TableComparison,
        each: &mut dyn FnMut(Difference<'_>) -> Result<(), Error>,
        rows: &mut u64,
    ) -> Result<(), Error> {
        let collation = if self.ignores_case { "NOCASE" } else { "BINARY" };
        let order: Vec<String> = self.matched_by.iter().map(|c| format!("{} COLLATE {collation}", quoted(c))).collect();
        let text = self.text(&order.join(", "));
        let (mut first, mut second) = (before.prepare(&text)?, after.prepare(&text)?);
        let (mut first, mut second) = (first.rows(), second.rows());
        let (mut old, mut new) = (first.next()?, second.next()?);
        let (keys, known) = (self.matched_by.len(), self.known_by.len());
        loop {
            let side = match (&old, &new) {
                (None, None) => break,
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (Some(old), Some(new)) if self.ignores_case => order_ignoring_case(old.value(0), new.value(0)),
                (Some(old), Some(new)) => {
                    order_of_rows((0..keys).map(|at| old.value(at)), (0..keys).map(|at| new.value(at)))
                }
            };
            match (side, &old, &new) {
                (Ordering::Less, Some(row), _) => {
                    found.removed += 1;
                    let row = self.named(row);
                    each(Difference::Removed { table: self.table, known_by: &row[..known], row: &row })
                }
                (Ordering::Greater, _, Some(row)) => {
                    found.added += 1;
                    let row = self.named(row);
                    each(Difference::Added { table: self.table, known_by: &row[..known], row: &row })
                }
                (_, Some(old), Some(new)) => self.changed(old, new, found, each),
                _ => Ok(()),
            }?;
            if side.is_le() {
                old = first.next()?;
            }
            if side.is_ge() {
                new = second.next()?;
            }
            *rows += 1;
            progress::tell_rows(|| "comparing rows".to_owned(), *rows, None);
        }
        Ok(())
    }

    /// What a column holds, where both files say the same.
    fn kind(&self, column: &str) -> Option<Kind> {
        let of = |file: &File| Some(file.declared()?.table(self.table)?.column(column)?.kind.clone());
        // What is told as an own key is no link.
        of(self.before).filter(|kind| of(self.after).as_ref() == Some(kind) && !self.told.contains_key(column))
    }

    /// Whether a column is a link that is told by an own key that is the same in small and large letters.
    fn is_link_ignoring_case(&self, at: usize) -> bool {
        let target = |file: &File| match &file.declared()?.table(self.table)?.column(&self.columns[at])?.kind {
            Kind::Link { table } => Some(file.key_ignores_case(table)),
            _ => None,
        };
        self.told.contains_key(&self.columns[at])
            && target(self.before) == Some(true)
            && target(self.after) == Some(true)
    }

    fn named<'r>(&'r self, row: &Row<'r, '_>) -> Vec<Cell<'r>> {
        let cell = |at: usize| Cell { name: &self.columns[at], value: row.value(at), kind: self.kinds[at].as_ref() };
        (0..self.columns.len()).map(cell).collect()
    }

    fn changed(
        &self,
        old: &Row<'_, '_>,
        new: &Row<'_, '_>,
        found: &mut TableComparison,
        each: &mut dyn FnMut(Difference<'_>) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let is_same = |at: &usize| {
            let (old, new) = (old.value(*at), new.value(*at));
            old == new || self.is_link_ignoring_case(*at) && order_ignoring_case(old, new).is_eq()
        };
        if (0..self.columns.len()).all(|at| is_same(&at)) {
            found.same += 1;
            return Ok(());
        }
        found.changed += 1;
        let known_by = self.named(old);
        let differ = (0..self.columns.len()).filter(|at| !is_same(at));
        let cell = |at: usize| ChangedCell {
            name: &self.columns[at],
            before: old.value(at),
            after: new.value(at),
            kind: self.kinds[at].as_ref(),
        };
        let columns: Vec<_> = differ.map(cell).collect();
        each(Difference::Changed { table: self.table, known_by: &known_by[..self.known_by.len()], columns: &columns })
    }

    /// Whether rows that are the same stand in another order. Where they are matched by their row numbers, they cannot.
    fn order_differs(&self) -> Result<bool, Error> {
        let order = |file: &File| file.exact(self.table.to_owned()).map(|t: FoundTable| t.insertion_order);
        let (Some(order_before), Some(order_after)) = (order(self.before)?, order(self.after)?) else {
            return Ok(false);
        };
        let (text, text_after) = (self.text(&order_before), self.text(&order_after));
        let doing = format!("cannot compare the order of the rows of `{}`", self.table);
        let keys = self.matched_by.len();
        self.before.read(&doing, |before| {
            self.after.read(&doing, |after| {
                let (mut first, mut second) = (before.prepare(&text)?, after.prepare(&text_after)?);
                let (mut first, mut second) = (first.rows(), second.rows());
                while let (Some(old), Some(new)) = (first.next()?, second.next()?) {
                    let is_same = |at| match (old.value(at), new.value(at)) {
                        (old, new) if self.ignores_case => order_ignoring_case(old, new).is_eq(),
                        (old, new) => old == new,
                    };
                    if !(0..keys).all(is_same) {
                        return Ok(true);
                    }
                }
                Ok(false)
            })
        })
    }
}

/// How two structures differ, each as a sentence.
fn differences(before: &[TableStructure], after: &[TableStructure]) -> Vec<String> {
    let mut out = Vec::new();
    let by_name = |all: &'_ [TableStructure]| -> HashMap<String, usize> {
        all.iter().enumerate().map(|(at, t)| (t.name.clone(), at)).collect()
    };
    let (at_before, at_after) = (by_name(before), by_name(after));
    for table in before {
        let name = &table.name;
        let Some(other) = at_after.get(name).map(|at| &after[*at]) else {
            out.push(format!("the table `{name}` is only in the file before"));
            continue;
        };
        for column in &table.columns {
            match other.columns.iter().find(|c| c.name == column.name) {
                None => out.push(format!("`{name}.{}` is only in the file before", column.name)),
                Some(there)
                    if (&there.holds, &there.storage, there.required)
                        != (&column.holds, &column.storage, column.required) =>
                {
                    out.push(format!(
                        "`{name}.{}` holds {} before and {} after",
                        column.name,
                        in_words(column),
                        in_words(there)
                    ));
                }
                Some(_) => {}
            }
        }
        let is_new = |c: &&ColumnStructure| !table.columns.iter().any(|o| o.name == c.name);
        out.extend(
            other.columns.iter().filter(is_new).map(|c| format!("`{name}.{}` is only in the file after", c.name)),
        );
    }
    let is_new = |t: &&TableStructure| !at_before.contains_key(&t.name);
    out.extend(after.iter().filter(is_new).map(|t| format!("the table `{}` is only in the file after", t.name)));
    out
}

fn in_words(column: &ColumnStructure) -> String {
    let missing = if column.required { "" } else { ", which may be missing" };
    format!("{}{missing}", column.holds)
}
