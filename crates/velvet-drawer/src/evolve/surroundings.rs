//! What a file that is taken over has around its tables: views, triggers and full-text tables of its own, which name what gets another name.

use crate::engine::{Connection, Entry, EntryKind, Fault, IndexEntry};
use crate::error::{Cause, Error};
use velvet_core::exchange::sql_text::{Token, has_word, table_options, tokens};
use velvet_core::schema::structure::Table;
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// What was taken away while tables are written anew, in the order in which it was made.
#[derive(Default)]
pub(super) struct Surroundings {
    /// Full-text tables of the app's that show one of the tables by its old key: their names, and the statements that make them with the new one.
    searches: Vec<(String, String)>,
    views: Vec<Entry>,
    triggers: Vec<Entry>,
    /// Views, and triggers of other tables, that could not be used before either.
    broken: Vec<Entry>,
}

/// A table that is taken over, as the file has it.
pub(super) struct Found<'t> {
    pub(super) declared: &'t Table,
    pub(super) name: String,
    statement: String,
}

impl<'t> Found<'t> {
    pub(super) fn of(connection: &Connection, declared: &'t Table) -> Result<Option<Found<'t>>, Fault> {
        let is_it = |e: &Entry| e.kind == EntryKind::Table && e.name.eq_ignore_ascii_case(&declared.name);
        let entry = connection.entries()?.into_iter().find(is_it);
        Ok(entry.map(|entry| Found { declared, name: entry.name, statement: entry.statement }))
    }

    /// The column that is the row number, where it has a name that the type does not have.
    fn old_key(&self, connection: &Connection) -> Result<Option<String>, Fault> {
        let columns = connection.columns_of(&self.name)?;
        let mut keys = columns.iter().filter(|column| column.key_place > 0);
        let (Some(key), None) = (keys.next(), keys.next()) else { return Ok(None) };
        let is_number = key.storage.eq_ignore_ascii_case("INTEGER");
        let is_declared = self.declared.columns.iter().any(|column| column.name.eq_ignore_ascii_case(&key.name));
        Ok((is_number && !is_declared).then(|| key.name.clone()))
    }

    /// Whether its rows have numbers of their own.
    pub(super) fn has_row_numbers(&self) -> bool {
        !table_options(&self.statement).without_row_numbers
    }

    /// Gives rows that have no numbers some: the whole number that is their key, or one in the order of their key.
    pub(super) fn number_rows(&mut self, connection: &Connection) -> Result<(), Fault> {
        if self.has_row_numbers() {
            return Ok(());
        }
        let (of, numbered) = (quoted(&self.name), format!("velvet_numbered {}", self.name));
        let key = self.old_key(connection)?.or_else(|| {
            let has_key = connection.columns_of(&self.name).is_ok_and(|all| all.iter().any(|c| c.name == KEY_COLUMN));
            has_key.then(|| KEY_COLUMN.to_owned())
        });
        let columns: Vec<String> = connection.columns_of(&self.name)?.iter().map(|c| quoted(&c.name)).collect();
        let (list, to) = (columns.join(", "), quoted(&numbered));
        connection.run(&format!("CREATE TABLE {to} AS SELECT {list} FROM {of} LIMIT 0"))?;
        let row = key.map_or_else(|| "NULL".to_owned(), |key| quoted(&key));
        connection.run(&format!("INSERT INTO {to} (rowid, {list}) SELECT {row}, {list} FROM {of}; DROP TABLE {of}"))?;
        self.name = numbered;
        Ok(())
    }

    /// What the file demands of the table's values that the type does not.
    pub(super) fn dropped(&self, connection: &Connection) -> Result<Vec<String>, Fault> {
        let table = &self.declared.name;
        let mut dropped = Vec::new();
        for IndexEntry { name, unique, is_plain, origin, columns } in connection.indexes_of(&self.name)? {
            let same = |index: &&velvet_core::schema::structure::Index| {
                index.columns.join(", ").eq_ignore_ascii_case(&columns)
            };
            let declared = self.declared.indexes.iter().find(same).filter(|_| is_plain);
            let what = match (&*origin, unique, declared) {
                (_, true, Some(index)) if index.unique => continue,
                (_, false, Some(_)) => continue,
                ("c", true, _) => format!("the unique index `{name}` on `{table}` ({columns})"),
                ("c", false, _) => format!("the index `{name}` on `{table}` ({columns})"),
                ("pk", ..) => format!("PRIMARY KEY of `{table}` ({columns}), which made its values unique"),
                _ => format!("UNIQUE of `{table}` ({columns})"),
            };
            dropped.push(what);
        }
        let columns = connection.columns_of(&self.name)?;
        for column in &columns {
            let declared = self.declared.column(&column.name);
            if let (Some(default), Some(declared)) = (&column.default, declared)
                && declared.default.as_ref() != Some(default)
            {
                dropped.push(format!("DEFAULT {default} of `{table}.{}`", column.name));
            }
            if !column.is_stored && declared.is_some() {
                dropped.push(format!(
                    "the expression that computes `{table}.{}`: its values stay as they are",
                    column.name
                ));
            }
        }
        let (mut depth, mut at, mut words) = (0_usize, 0, tokens(&self.statement).into_iter().peekable());
        while let Some(token) = words.next() {
            match token {
                Token::Open => depth += 1,
                Token::Close => depth = depth.saturating_sub(1),
                Token::Word(word) if depth == 1 => {
                    if columns.get(at).is_some_and(|next| next.name.eq_ignore_ascii_case(word)) {
                        at += 1;
                    }
                    let of = at.checked_sub(1).and_then(|at| columns.get(at)).map_or("", |c| &c.name);
                    let is_kept = self.declared.column(of).is_some_and(|column| column.ignore_case);
                    match words.peek() {
                        Some(Token::Word(order))
                            if token.is("collate") && !is_kept && !order.eq_ignore_ascii_case("binary") =>
                        {
                            dropped.push(format!("COLLATE {order} of `{table}.{of}`"));
                        }
                        Some(Token::Open) if token.is("check") => dropped.push(format!("a CHECK at `{table}.{of}`")),
                        _ => {}
                    }
                }
                Token::Word(_) => {}
            }
        }
        Ok(dropped)
    }
}

impl Surroundings {
    /// Gives the keys of the tables their new name, in whatever names them, and takes away what would stand in the way of writing the tables anew.
    pub(super) fn take_away(connection: &Connection, tables: &[Found<'_>]) -> Result<Surroundings, Error> {
        let mut taken = Surroundings::default();
        let drop = |entry: &Entry| connection.run(&format!("DROP {} {}", entry.word(), quoted(&entry.name)));
        for entry in connection.entries()?.into_iter().filter(is_view_or_trigger) {
            let Err(fault) = works(connection, &entry) else { continue };
            if entry.kind == EntryKind::Trigger
                && tables.iter().any(|table| table.name.eq_ignore_ascii_case(&entry.table))
            {
                let problem = format!(
                    "the trigger `{}` on `{}` cannot run, so nothing could be written: {}",
                    entry.name, entry.table, fault.message
                );
                return Err(Error::bare(Cause::OtherStructure, problem).advise("Drop it, and open the file again"));
            }
            // The engine renames nothing next to what it cannot read.
            drop(&entry)?;
            taken.broken.push(entry);
        }
        for table in tables {
            let Some(key) = table.old_key(connection)? else { continue };
            for entry in connection.entries()? {
                if let Some(statement) = searching_by(&entry, &table.name, &key) {
                    taken.searches.push((entry.name, statement));
                }
            }
            let rename =
                format!("ALTER TABLE {} RENAME COLUMN {} TO {}", quoted(&table.name), quoted(&key), quoted(KEY_COLUMN));
            connection.run(&rename).map_err(|fault| {
                let problem = format!(
                    "`{}.{key}` becomes `{KEY_COLUMN}`, and the engine cannot give it that name everywhere: {}",
                    table.name, fault.message
                );
                Error::bare(Cause::OtherStructure, problem)
                    .advise("Change or drop the view or trigger that it names, and open the file again")
            })?;
        }
        let entries = connection.entries()?;
        taken.triggers = entries.iter().filter(|e| e.kind == EntryKind::Trigger).cloned().collect();
        taken.views = entries.into_iter().filter(|e| e.kind == EntryKind::View).collect();
        // Triggers on views go first, those of full-text tables with them.
        taken.triggers.iter().chain(taken.views.iter().rev()).try_for_each(drop)?;
        taken.searches.iter().try_for_each(|(name, _)| connection.run(&format!("DROP TABLE {}", quoted(name))))?;
        Ok(taken)
    }

    /// Makes again what was taken away, and sees that all of it can be used that could be before.
    pub(super) fn put_back(&self, connection: &Connection) -> Result<(), Error> {
        for (name, statement) in &self.searches {
            connection.run(statement)?;
            connection.run(&format!("INSERT INTO {0} ({0}) VALUES ('rebuild')", quoted(name)))?;
        }
        let all = || self.views.iter().chain(&self.triggers);
        all().chain(&self.broken).try_for_each(|entry| connection.run(&entry.statement))?;
        for entry in all() {
            works(connection, entry).map_err(|fault| {
                let problem = format!(
                    "the {} `{}` could not be used any more: {}. Row numbers are called `{KEY_COLUMN}` from now on",
                    entry.word(),
                    entry.name,
                    fault.message
                );
                Error::bare(Cause::OtherStructure, problem)
                    .advise("Change or drop it with the code that made it, and open the file again")
            })?;
        }
        Ok(())
    }
}

fn is_view_or_trigger(entry: &Entry) -> bool {
    matches!(entry.kind, EntryKind::View | EntryKind::Trigger)
}

/// Sees that the engine can prepare what uses a view or trigger.
fn works(connection: &Connection, entry: &Entry) -> Result<(), Fault> {
    let of = quoted(&entry.table);
    let uses = match entry.kind {
        EntryKind::View => vec![format!("SELECT * FROM {} LIMIT 0", quoted(&entry.name))],
        _ => {
            let columns = connection.columns_of(&entry.table)?;
            let set = columns.iter().filter(|c| c.is_stored).map(|c| format!("{0} = {0}", quoted(&c.name)));
            let set = set.collect::<Vec<_>>().join(", ");
            let words = ["insert", "delete", "update"].map(|word| has_word(&entry.statement, word));
            let [insert, delete, update] = [
                format!("INSERT INTO {of} DEFAULT VALUES"),
                format!("DELETE FROM {of}"),
                format!("UPDATE {of} SET {set}"),
            ];
            [insert, delete, update]
                .into_iter()
                .zip(words)
                .filter(|(_, is_one)| *is_one)
                .map(|(use_of, _)| use_of)
                .collect()
        }
    };
    uses.iter().try_for_each(|text| connection.prepare(text).map(drop))
}

/// The statement that makes a full-text table which shows a table by its old key, with the new one.
fn searching_by(entry: &Entry, table: &str, key: &str) -> Option<String> {
    let words = tokens(&entry.statement);
    let shows = |option: &str, value: &str| {
        let at = words.iter().position(|word| word.is(option));
        // A value in single quotes is no token.
        at.is_some_and(|at| words.get(at + 1).is_some_and(|word| word.is(value)))
            || has_option(&entry.statement, option, value).is_some()
    };
    if entry.kind != EntryKind::Virtual || !shows("content", table) {
        return None;
    }
    let (begin, end) = has_option(&entry.statement, "content_rowid", key)?;
    Some(format!("{}'{KEY_COLUMN}'{}", &entry.statement[..begin], &entry.statement[end..]))
}

/// Where an option of a virtual table has this value, in quotes or without.
fn has_option(statement: &str, option: &str, value: &str) -> Option<(usize, usize)> {
    let lower = statement.to_ascii_lowercase();
    let mut from = 0;
    while let Some(at) = lower[from..].find(option).map(|at| at + from) {
        from = at + option.len();
        let rest = &statement[from..];
        let Some(rest) = rest.trim_start().strip_prefix('=') else { continue };
        let begin = statement.len() - rest.trim_start().len();
        let end = begin + statement[begin..].find([',', ')']).unwrap_or(statement.len() - begin);
        let found = statement[begin..end].trim().trim_matches(['\'', '"', '`', '[', ']']);
        if found.eq_ignore_ascii_case(value) {
            return Some((begin, end));
        }
    }
    None
}
