//! Telling the search indexes which words stand in the rows that were written, and seeing that they are right.

mod texts;

pub(crate) use texts::CachedTexts;

use crate::engine::{Connection, Fault, FaultKind, Moment, Participant};
use crate::work::progress;
use velvet_core::schema::structure::{Structure, Table};
use velvet_core::search::indexed;
use velvet_core::statement::{self, UNINDEXED};
use velvet_core::{Value, ValueRef};

/// The indexes of a structure in which words of any table are searched.
pub(crate) struct Indexes(Structure);

impl Indexes {
    pub(crate) fn of(structure: &Structure) -> Option<Indexes> {
        searched(structure).next().is_some().then(|| Indexes(structure.clone()))
    }
}

impl Participant for Indexes {
    fn doing(&self, at: Moment) -> &'static str {
        if at == Moment::Ends {
            "cannot tell the search index of what was written"
        } else {
            "cannot bring the search index up to date"
        }
    }

    fn begins(&self, connection: &Connection) -> Result<(), Fault> {
        catch_up_with_others(connection, &self.0)
    }

    fn ends(&self, connection: &Connection) -> Result<(), Fault> {
        catch_up(connection, &self.0)
    }
}

/// The tables with words that are searched.
pub(crate) fn searched(structure: &Structure) -> impl Iterator<Item = &Table> {
    structure.tables.iter().filter(|t| !t.searchable.is_empty())
}

/// Whether rows were written of whose words the indexes were not told yet.
pub(crate) fn is_behind(connection: &Connection) -> Result<bool, Fault> {
    Ok(connection.one(&format!("SELECT 1 FROM {UNINDEXED} LIMIT 1"), [], |_| ())?.is_some())
}

/// As [`catch_up`], in a transaction of its own, without waiting for others who write: where somebody does, what was noted stays so.
pub(crate) fn catch_up_at_once(writer: &Connection, structure: &Structure) -> Result<(), Fault> {
    let told = writer.without_lock_timeout(|| {
        let transaction = writer.transaction()?;
        catch_up_with_others(writer, structure)?;
        transaction.commit()
    });
    match told {
        Err(fault) if matches!(fault.kind, FaultKind::Locked | FaultKind::ReadOnly) => Ok(()),
        told => told,
    }
}

/// As [`catch_up`], where the file may have no index at all.
pub(crate) fn bring_up(connection: &Connection, structure: &Structure) -> Result<(), Fault> {
    if searched(structure).next().is_some() { catch_up(connection, structure) } else { Ok(()) }
}

/// Tells the indexes of all rows that were noted, in the transaction that is open.
pub(crate) fn catch_up(connection: &Connection, structure: &Structure) -> Result<(), Fault> {
    if !is_behind(connection)? {
        return Ok(());
    }
    for Table { name, searchable, .. } in searched(structure) {
        let (read, write) = (statement::noted_rows(name, searchable), statement::index_row(name, searchable));
        let mut index = connection.prepare(&write)?;
        let mut done = 0;
        connection.rows(&read, [], |row| {
            done += 1;
            progress::tell_rows(|| format!("indexing the words of {name}"), done, None);
            index.bind(1, row.value(0))?;
            for at in 1..=searchable.len() {
                index.bind(at + 1, words_of(row.value(at)).as_deref().into())?;
            }
            index.execute().map(drop)
        })?;
        connection.execute(&statement::forget_notes(name), [])?;
    }
    Ok(())
}

/// As [`catch_up`], where other programs have written: what they replaced without telling a trigger is still in the indexes, and goes.
fn catch_up_with_others(connection: &Connection, structure: &Structure) -> Result<(), Fault> {
    if !is_behind(connection)? {
        return Ok(());
    }
    for table in searched(structure) {
        connection.execute(&statement::forget_missing(&table.name), [])?;
    }
    catch_up(connection, structure)
}

/// Makes the index of a table anew, in the transaction that is open.
pub(crate) fn remake(connection: &Connection, structure: &Structure, table: &str) -> Result<(), Fault> {
    statement::remake_search(table).iter().try_for_each(|text| connection.run(text))?;
    catch_up(connection, structure)
}

/// Whether the index of a table has the words of all its rows, but those it is still to be told of.
pub(crate) fn is_sound(connection: &Connection, table: &Table) -> Result<bool, Fault> {
    let (columns, text) = (table.searchable.len(), statement::indexed_rows(&table.name, &table.searchable));
    let mut statement = connection.prepare(&text)?;
    let mut rows = statement.rows();
    loop {
        let row = match rows.next() {
            Ok(Some(row)) => row,
            Ok(None) => return Ok(true),
            // What the index keeps is torn.
            Err(Fault { kind: FaultKind::Damaged, .. }) => return Ok(false),
            Err(fault) => return Err(fault),
        };
        let is_indexed = row.value(1) != ValueRef::Missing;
        let has_words = |at: usize| {
            let (words, there) = (words_of(row.value(2 + at)), row.value(2 + columns + at).to_value());
            there == words.map_or(Value::Missing, Value::Text)
        };
        if !is_indexed || !(0..columns).all(has_words) {
            return Ok(false);
        }
    }
}

fn words_of(value: ValueRef<'_>) -> Option<String> {
    if let ValueRef::Text(text) = value { Some(indexed(text)) } else { None }
}
