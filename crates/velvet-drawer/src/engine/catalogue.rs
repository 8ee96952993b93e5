//! What the engine keeps of the tables, columns, links and triggers of a file.

use super::{Connection, Fault};
use std::collections::{HashMap, HashSet};
use velvet_core::exchange::sql_text::{count_of_word, has_word};
use velvet_core::value::name::quoted;
use velvet_core::{Value, ValueRef};

/// Something that is in a file by name.
#[derive(Clone, Debug)]
pub(crate) struct Entry {
    pub(crate) kind: EntryKind,
    pub(crate) name: String,
    /// The table that it belongs to.
    pub(crate) table: String,
    /// The statement that made it; empty where the engine made it by itself.
    pub(crate) statement: String,
}

/// What kind of thing an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum EntryKind {
    /// A table that holds its rows itself.
    Table,
    /// A table whose rows code of the engine's makes of others.
    Virtual,
    /// A table in which a virtual one keeps what it shows.
    Shadow,
    View,
    Index,
    Trigger,
}

impl Entry {
    /// Whether the engine keeps it for itself.
    pub(crate) fn is_of_engine(&self) -> bool {
        self.name.starts_with("sqlite_")
    }

    /// Its kind, as the file has it.
    pub(crate) fn word(&self) -> &'static str {
        match self.kind {
            EntryKind::Table | EntryKind::Virtual | EntryKind::Shadow => "table",
            EntryKind::View => "view",
            EntryKind::Index => "index",
            EntryKind::Trigger => "trigger",
        }
    }
}

/// A column as the engine keeps it.
#[derive(Clone, Debug)]
pub(crate) struct ColumnEntry {
    pub(crate) name: String,
    pub(crate) storage: String,
    pub(crate) required: bool,
    pub(crate) default: Option<String>,
    /// Its place in the primary key, from 1; 0 where it is in none.
    pub(crate) key_place: i64,
    /// Whether it is stored; otherwise it is computed of others, or an argument of a virtual table.
    pub(crate) is_stored: bool,
    /// Whether it is an argument of a virtual table.
    pub(crate) is_argument: bool,
    /// Whether rows have a place for it.
    pub(crate) is_in_rows: bool,
}

/// An index as the engine keeps it.
#[derive(Clone, Debug)]
pub(crate) struct IndexEntry {
    pub(crate) name: String,
    pub(crate) unique: bool,
    /// Whether it is of all rows, and of columns alone.
    pub(crate) is_plain: bool,
    /// What made it: `c` a statement, `u` a UNIQUE, `pk` the primary key.
    pub(crate) origin: String,
    /// Its columns, with commas in between.
    pub(crate) columns: String,
}

/// One column of a link.
#[derive(Clone, Debug)]
pub(crate) struct LinkEntry {
    /// Which of the table's links it is of.
    pub(crate) link: i64,
    pub(crate) table: String,
    pub(crate) from: String,
    /// The column that it leads to; nothing for the primary key.
    pub(crate) to: Option<String>,
}

/// A row that links to one that is not there.
#[derive(Clone, Debug)]
pub(crate) struct BrokenLink {
    pub(crate) table: String,
    pub(crate) row: i64,
    pub(crate) to: String,
}

/// The module of the engine's that makes a virtual table; nothing where a statement creates something else.
fn virtual_module(statement: &str) -> Option<String> {
    let mut words = statement.split_whitespace();
    let is_virtual =
        ["create", "virtual"].iter().all(|w| words.next().is_some_and(|word| word.eq_ignore_ascii_case(w)));
    let rest = words.skip_while(|word| !word.eq_ignore_ascii_case("using")).nth(1).filter(|_| is_virtual);
    let module = |rest: &str| rest.split('(').next().unwrap_or_default().trim_matches('"').to_ascii_lowercase();
    is_virtual.then(|| rest.map(module).unwrap_or_default())
}

/// The tables in which a virtual one keeps what it shows, in small letters.
fn shadows(of: &Entry) -> Vec<String> {
    let ends: &[&str] = match virtual_module(&of.statement).as_deref() {
        Some("fts5") => &["data", "idx", "content", "docsize", "config"],
        Some("fts3" | "fts4") => &["content", "segments", "segdir", "docsize", "stat"],
        Some("rtree" | "rtree_i32" | "geopoly") => &["node", "rowid", "parent"],
        _ => &[],
    };
    ends.iter().map(|end| format!("{}_{end}", of.name).to_ascii_lowercase()).collect()
}

impl Connection {
    /// The names of the views and virtual tables in the file, each with whether it is a view.
    pub(crate) fn stand_ins(&self) -> Result<Vec<(String, bool)>, Fault> {
        let text = "SELECT name, type FROM sqlite_schema WHERE rootpage = 0 AND type <> 'trigger'";
        self.list(text, [], |row| (row.text(0).to_owned(), row.text(1) == "view"))
    }

    /// All that is in the file by name, in the order in which it was made.
    pub(crate) fn entries(&self) -> Result<Vec<Entry>, Fault> {
        // The engine's own list of tables works out what each view has for columns, which may never end.
        let mut all = self.list("SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY rowid", [], |row| {
            let [name, table, statement] = [1, 2, 3].map(|at| row.text(at).to_owned());
            let kind = match row.text(0) {
                "index" => EntryKind::Index,
                "trigger" => EntryKind::Trigger,
                "view" => EntryKind::View,
                _ if virtual_module(&statement).is_some() => EntryKind::Virtual,
                _ => EntryKind::Table,
            };
            Entry { kind, name, table, statement }
        })?;
        let shadows: HashSet<String> = all.iter().flat_map(shadows).collect();
        let is_shadow = |e: &&mut Entry| e.kind == EntryKind::Table && shadows.contains(&e.name.to_ascii_lowercase());
        all.iter_mut().filter(is_shadow).for_each(|e| e.kind = EntryKind::Shadow);
        Ok(all)
    }

    /// Whether the engine tells of each row that goes: not of one that is replaced by a rule of a table, or by a trigger.
    pub(crate) fn tells_of_each_row(&self) -> Result<bool, Fault> {
        let replaces = |e: &Entry| !e.name.starts_with("velvet_") && has_word(&e.statement, "replace");
        Ok(!self.entries()?.iter().any(replaces))
    }

    /// Whether the rows of a table sort by the bytes of their texts, but for so many columns that ignore case, unless a statement says
    /// otherwise.
    pub(crate) fn sorts_plainly(&self, table: &str, ignore_case: usize) -> Result<bool, Fault> {
        let is_plain = |e: &Entry| e.name == table && count_of_word(&e.statement, "collate") == ignore_case;
        let encoding = self.one("PRAGMA encoding", [], |row| row.text(0) == "UTF-8")?;
        Ok(encoding.unwrap_or_default() && self.entries()?.iter().any(is_plain))
    }

    /// How many things are in the file by name.
    pub(crate) fn entry_count(&self) -> Result<i64, Fault> {
        self.number("SELECT count(*) FROM sqlite_schema")
    }

    /// Whether the file has a table, view, index or trigger of this name.
    pub(crate) fn has(&self, name: &str) -> Result<bool, Fault> {
        Ok(self.one("SELECT 1 FROM sqlite_schema WHERE name = ?1", [name.into()], |_| ())?.is_some())
    }

    /// The columns of a table or view, in order; none where it is not there.
    pub(crate) fn columns_of(&self, table: &str) -> Result<Vec<ColumnEntry>, Fault> {
        let text = "SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?1) ORDER BY cid";
        self.asking_for_columns(table, || {
            self.list(text, [table.into()], |row| ColumnEntry {
                name: row.text(0).to_owned(),
                storage: row.text(1).to_owned(),
                required: row.integer(2) != 0,
                default: (row.value(3) != ValueRef::Missing).then(|| row.text(3).to_owned()),
                key_place: row.integer(4),
                is_stored: row.integer(5) == 0,
                is_argument: row.integer(5) == 1,
                is_in_rows: row.integer(5) != 2,
            })
        })
    }

    /// The indexes of a table.
    pub(crate) fn indexes_of(&self, table: &str) -> Result<Vec<IndexEntry>, Fault> {
        let text = "SELECT i.name, i.\"unique\", i.partial, i.origin, group_concat(coalesce(c.name, 'an expression'), ', '), count(*) - count(c.name) \
            FROM pragma_index_list(?1) i, pragma_index_xinfo(i.name) c WHERE c.\"key\" GROUP BY i.name ORDER BY i.seq";
        self.list(text, [table.into()], |row| IndexEntry {
            name: row.text(0).to_owned(),
            unique: row.integer(1) == 1,
            is_plain: row.integer(2) == 0 && row.integer(5) == 0,
            origin: row.text(3).to_owned(),
            columns: row.text(4).to_owned(),
        })
    }

    /// The columns of a table's links, those of one link together.
    pub(crate) fn links_of(&self, table: &str) -> Result<Vec<LinkEntry>, Fault> {
        let text = "SELECT id, \"table\", \"from\", \"to\" FROM pragma_foreign_key_list(?1) ORDER BY id DESC, seq";
        self.list(text, [table.into()], |row| LinkEntry {
            link: row.integer(0),
            table: row.text(1).to_owned(),
            from: row.text(2).to_owned(),
            to: Some(row.text(3)).filter(|to| !to.is_empty()).map(str::to_owned),
        })
    }

    /// How many bytes each table and index takes, by its name.
    pub(crate) fn bytes_by_name(&self) -> Result<HashMap<String, u64>, Fault> {
        let text = "SELECT name, pgsize FROM dbstat('main', 1)";
        let all = self.list(text, [], |row| (row.text(0).to_owned(), row.integer(1).unsigned_abs()))?;
        Ok(all.into_iter().collect())
    }

    /// The rows, of one table or all, that link to one that is not there; at most as many as asked for.
    pub(crate) fn broken_links(&self, table: Option<&str>, most: u64) -> Result<Vec<BrokenLink>, Fault> {
        let of = if table.is_some() { "(?2)" } else { "" };
        let text = format!("SELECT \"table\", rowid, parent FROM pragma_foreign_key_check{of} LIMIT ?1");
        let most = ValueRef::Integer(i64::try_from(most).unwrap_or(i64::MAX));
        self.list(&text, [most].into_iter().chain(table.map(ValueRef::Text)), |row| BrokenLink {
            table: row.text(0).to_owned(),
            row: row.integer(1),
            to: row.text(2).to_owned(),
        })
    }

    /// What is wrong with the pages of the file, each in the engine's words.
    pub(crate) fn broken_pages(&self) -> Result<Vec<String>, Fault> {
        let mut all = self.list("PRAGMA integrity_check(1000)", [], |row| row.text(0).to_owned())?;
        all.retain(|line| line != "ok");
        Ok(all)
    }

    /// The last row number that was given in each table that never gives one again; nothing where no table does that.
    pub(crate) fn last_row_numbers(&self) -> Result<Option<Vec<(String, Value)>>, Fault> {
        if !self.has("sqlite_sequence")? {
            return Ok(None);
        }
        self.list("SELECT name, seq FROM sqlite_sequence ORDER BY rowid", [], |row| {
            (row.text(0).to_owned(), row.value(1).to_value())
        })
        .map(Some)
    }

    /// Sees that a table never gives a row number again that another one gave.
    pub(crate) fn take_last_row_number_of(&self, table: &str, from: &str) -> Result<(), Fault> {
        self.execute("DELETE FROM sqlite_sequence WHERE name = ?1", [table.into()])?;
        let text = "INSERT INTO sqlite_sequence (name, seq) SELECT ?1, seq FROM sqlite_sequence WHERE name = ?2";
        self.execute(text, [table.into(), from.into()]).map(drop)
    }

    /// Sees that a table never gives a row number up to this one again.
    pub(crate) fn keep_last_row_number(&self, table: &str, last: i64) -> Result<(), Fault> {
        let none = "INSERT INTO sqlite_sequence (name, seq) SELECT ?1, 0 WHERE ?2 > 0 AND EXISTS (SELECT 1 FROM sqlite_schema \
                    WHERE name = ?1) AND NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = ?1)";
        let lower = "UPDATE sqlite_sequence SET seq = max(seq, ?2) WHERE name = ?1";
        [none, lower].iter().try_for_each(|text| self.execute(text, [table.into(), last.into()]).map(drop))
    }

    /// A row number that no row of a table has or gets by itself: it counts as given.
    pub(crate) fn take_row_number(&self, table: &str) -> Result<i64, Fault> {
        let first = "INSERT INTO sqlite_sequence (name, seq) SELECT ?1, 0 WHERE NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = ?1)";
        self.execute(first, [table.into()])?;
        let text = "UPDATE sqlite_sequence SET seq = seq + 1 WHERE name = ?1 RETURNING seq";
        Ok(self.one(text, [table.into()], |row| row.integer(0))?.unwrap_or(1))
    }

    /// Removes triggers.
    pub(crate) fn drop_triggers<'n>(&self, names: impl IntoIterator<Item = &'n str>) -> Result<(), Fault> {
        names.into_iter().try_for_each(|name| self.run(&format!("DROP TRIGGER {}", quoted(name))))
    }
}
