//! Which trails an app wants, and bringing a file in line with that.

use crate::engine::{Connection, Fault};
use crate::error::{Cause, Error};
use crate::opening::About;
use crate::schema::Declared;
use std::time::Duration;
use velvet_core::ValueRef;
use velvet_core::name::quoted;
use velvet_core::statement::{self, TRAIL, Trail};

/// How many entries a file keeps unless said otherwise.
const ENTRIES: u64 = 10_000;

/// How long a file keeps entries unless said otherwise: 90 days.
const AGE: Duration = Duration::from_secs(90 * 24 * 60 * 60);

/// Which trails an app wants.
#[derive(Clone, Debug)]
pub(crate) struct Wanted {
    /// Of all tables that are not named.
    pub(crate) all: Trail,
    /// Of single tables.
    pub(crate) of: Vec<(&'static str, Trail)>,
    /// How many entries are kept, and for how long.
    pub(crate) entries: u64,
    pub(crate) age: Duration,
}

impl Default for Wanted {
    fn default() -> Wanted {
        Wanted { all: Trail::Off, of: Vec::new(), entries: ENTRIES, age: AGE }
    }
}

impl Wanted {
    fn of(&self, table: &str) -> Trail {
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
        if words == kept {
            return Ok(());
        }
        let change = || -> Result<(), Fault> {
            let counted = connection.number("PRAGMA schema_version")?;
            let is_ours = About::fact(connection, "structure_count")?.is_some_and(|c| c == counted.to_string());
            drop_triggers(connection)?;
            if !words.is_empty() {
                for text in statement::create_trail_tables() {
                    connection.run(&text)?;
                }
            }
            for table in &declared.structure.tables {
                for text in statement::create_trail(table, self.of(&table.name)) {
                    connection.run(&text)?;
                }
            }
            About::remember(connection, KEPT, &words)?;
            // What another program changed meanwhile is still to be looked at by the next open.
            if is_ours {
                About::same_after_all(connection, connection.number("PRAGMA schema_version")?)?;
            }
            Ok(())
        };
        connection.transaction().and_then(|transaction| change().and_then(|()| transaction.commit())).map_err(|fault| {
            Error::engine("cannot open the drawer: its trails cannot be switched on or off", fault)
                .untouched("The file was left untouched")
        })
    }
}

/// The fact that says which trails a file keeps.
pub(crate) const KEPT: &str = "trail";

impl Wanted {
    /// Keeps no trail while a file is upgraded, because the triggers name columns. The open that upgrades brings it back.
    pub(crate) fn pause(connection: &Connection) -> Result<(), Fault> {
        if About::fact(connection, KEPT)?.is_none() {
            return Ok(());
        }
        drop_triggers(connection)?;
        About::remember(connection, KEPT, "")
    }

    /// A table is called otherwise from now on, in what was kept before too.
    pub(crate) fn rename(connection: &Connection, table: &str, to: &str) -> Result<(), Fault> {
        if connection.number(&format!("SELECT count(*) FROM sqlite_schema WHERE name = '{TRAIL}'"))? == 0 {
            return Ok(());
        }
        let text = format!("UPDATE {TRAIL} SET table_name = ?2 WHERE table_name = ?1");
        let mut statement = connection.prepare(&text)?;
        statement.bind(1, ValueRef::Text(table))?;
        statement.bind(2, ValueRef::Text(to))?;
        statement.execute().map(drop)
    }
}

fn drop_triggers(connection: &Connection) -> Result<(), Fault> {
    let names = {
        let text = format!(
            "SELECT name FROM sqlite_schema WHERE type = 'trigger' AND (name LIKE '{TRAIL}\\_%\\_insert' ESCAPE '\\' \
             OR name LIKE '{TRAIL}\\_%\\_update' ESCAPE '\\' OR name LIKE '{TRAIL}\\_%\\_delete' ESCAPE '\\')"
        );
        let mut statement = connection.prepare(&text)?;
        let mut rows = statement.rows();
        let mut names = Vec::new();
        while let Some(row) = rows.next()? {
            names.push(row.text(0).to_owned());
        }
        names
    };
    names.iter().try_for_each(|name| connection.run(&format!("DROP TRIGGER {}", quoted(name))))
}
