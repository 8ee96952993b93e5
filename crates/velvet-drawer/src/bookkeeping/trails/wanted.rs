//! Which trails an app wants, and bringing a file in line with that.

use super::spans;
use crate::engine::{Connection, EntryKind, Fault};
use crate::error::{Cause, Doing, Error};
use crate::schema::Declared;
use crate::schema::about::About;
use std::time::Duration;
use velvet_core::evolve::Step;
use velvet_core::evolve::attendant::{Attendant, Keeps, Trails};
use velvet_core::schema::structure::ATTACHMENT_PART;
use velvet_core::statement::{self, SPANS, TRAIL, Trail};
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// How many entries a file keeps unless said otherwise.
const ENTRIES: u64 = 10_000;

/// How long a file keeps entries unless said otherwise: 90 days.
const AGE: Duration = Duration::from_secs(90 * 24 * 60 * 60);

/// Which trails an app wants.
#[derive(Clone, Debug)]
pub(crate) struct WantedTrails {
    /// Of all tables that are not named.
    pub(crate) all: Trail,
    /// Of single tables.
    pub(crate) of: Vec<(&'static str, Trail)>,
    /// How many entries are kept, and for how long.
    pub(crate) entries: u64,
    pub(crate) age: Duration,
}

impl Default for WantedTrails {
    fn default() -> WantedTrails {
        WantedTrails { all: Trail::Off, of: Vec::new(), entries: ENTRIES, age: AGE }
    }
}

impl WantedTrails {
    fn of(&self, table: &str) -> Trail {
        // The attachment itself has one; its parts never change, and are large.
        if table == ATTACHMENT_PART {
            return Trail::Off;
        }
        self.of.iter().rev().find(|(name, _)| *name == table).map_or(self.all, |(_, trail)| *trail)
    }

    /// Whether any trail is wanted.
    pub(crate) fn any(&self, declared: &Declared) -> bool {
        declared.structure.tables.iter().any(|t| self.of(&t.name) != Trail::Off)
    }

    /// Sees that every table that is named is declared.
    pub(crate) fn fits(&self, declared: &Declared) -> Result<(), Error> {
        match self.of.iter().find(|(name, _)| declared.structure.table(name).is_none()) {
            None => Ok(()),
            Some((name, _)) => {
                Err(Error::new(Cause::Schema, format!("cannot keep the trail of `{name}`: it is not in the schema"))
                    .untouched("No file was touched")
                    .advise("Add its record to the schema with `.record::<…>()`"))
            }
        }
    }

    /// What a file that keeps these trails says of it; empty where it keeps none.
    fn in_words(&self, declared: &Declared) -> String {
        let words = declared.structure.tables.iter().map(|t| (&t.name, self.of(&t.name)));
        let words: Vec<String> =
            words.filter(|(_, t)| *t != Trail::Off).map(|(name, t)| format!("{name}={}", t.word())).collect();
        // The triggers name columns, so they are those of one structure.
        if words.is_empty() { String::new() } else { format!("{} {}", declared.fingerprint, words.join(" ")) }
    }

    /// What is wanted, in words, with its bounds; empty where nothing is.
    pub(crate) fn in_effect(&self, declared: &Declared) -> String {
        match self.in_words(declared) {
            none if none.is_empty() => none,
            words => format!("{words}, {} entries, {:?}", self.entries, self.age),
        }
    }

    /// Makes a file keep what is wanted and nothing else. `kept` is what it says that it keeps.
    pub(crate) fn bring_up(&self, connection: &Connection, declared: &Declared, kept: &str) -> Result<(), Error> {
        let words = self.in_words(declared);
        // A file of an earlier version of the library has no spans yet.
        if words == kept && (words.is_empty() || connection.has(SPANS)?) {
            return Ok(());
        }
        let change = || -> Result<(), Fault> {
            drop_triggers(connection)?;
            if !words.is_empty() {
                for text in statement::create_trail_tables() {
                    connection.run(&text)?;
                }
            }
            let wanted = |table: &str| self.of(table);
            for table in &declared.structure.tables {
                Trails(&wanted).make(&declared.structure, table).iter().try_for_each(|text| connection.run(text))?;
            }
            let tables = declared.structure.tables.iter().map(|t| (t.name.as_str(), self.of(&t.name)));
            spans::switch(connection, tables, kept)?;
            About::remember(connection, KEPT, &words)
        };
        let changed = connection.transaction().and_then(|transaction| {
            About::still_the_same(connection, change)?;
            transaction.commit()
        });
        changed
            .doing(|| "cannot open the drawer: its trails cannot be switched on or off")
            .untouched(|| "The file was left untouched")
    }
}

/// The fact that says which trails a file keeps.
pub(crate) const KEPT: &str = "trail";

impl WantedTrails {
    /// Keeps no trail while a file is upgraded, because the triggers name columns. The open that upgrades brings it back.
    pub(crate) fn pause(connection: &Connection) -> Result<(), Fault> {
        if About::fact(connection, KEPT)?.is_none() {
            return Ok(());
        }
        drop_triggers(connection)?;
        spans::end(connection)?;
        About::remember(connection, KEPT, "")
    }

    /// What was kept goes along with a step of an upgrade.
    pub(crate) fn follow(connection: &Connection, step: &Step) -> Result<(), Fault> {
        if let Step::RenameTable { table, to } = step {
            spans::rename(connection, table, to)?;
        }
        match Trails(&|_| Trail::Off).keeps(step) {
            Keeps::Renamed(_, statement) | Keeps::Nothing(statement) if connection.has(TRAIL)? => {
                connection.run(&statement)
            }
            _ => match step {
                Step::ChangeColumn { table, column, .. } if column.seal().is_some() && connection.has(TRAIL)? => {
                    hide(connection, table, &column.name, "sealed")
                }
                _ => Ok(()),
            },
        }
    }
}

/// Puts a word in the place of what a trail has of a column from before.
pub(crate) fn hide(connection: &Connection, table: &str, column: &str, word: &str) -> Result<(), Fault> {
    let text = format!(
        "UPDATE {TRAIL} SET before = json_replace(before, ?1, json('{{\"{word}\":true}}')) WHERE table_name = ?2"
    );
    connection.execute(&text, [(&place_of(column)).into(), table.into()]).map(drop)
}

/// As [`hide`], of all records that are not there any more.
pub(crate) fn hide_of_removed(connection: &Connection, table: &str, column: &str, word: &str) -> Result<(), Fault> {
    if !connection.has(TRAIL)? {
        return Ok(());
    }
    let text = format!(
        "UPDATE {TRAIL} SET before = json_replace(before, ?1, json('{{\"{word}\":true}}')) WHERE table_name = ?2 \
         AND key NOT IN (SELECT {} FROM {})",
        quoted(KEY_COLUMN),
        quoted(table)
    );
    connection.execute(&text, [(&place_of(column)).into(), table.into()]).map(drop)
}

/// Where a column is in what stood before.
fn place_of(column: &str) -> String {
    format!("$.\"{column}\"")
}

/// The triggers that keep trails.
pub(crate) fn triggers(connection: &Connection) -> Result<Vec<String>, Fault> {
    let is_one = |name: &str| {
        let ends = ["_insert", "_update", "_delete"].iter().any(|end| name.ends_with(end));
        ends && name.strip_prefix(TRAIL).is_some_and(|rest| rest.starts_with('_'))
    };
    let entries = connection.entries()?.into_iter().filter(|e| e.kind == EntryKind::Trigger && is_one(&e.name));
    Ok(entries.map(|e| e.name).collect())
}

fn drop_triggers(connection: &Connection) -> Result<(), Fault> {
    connection.drop_triggers(triggers(connection)?.iter().map(String::as_str))
}
