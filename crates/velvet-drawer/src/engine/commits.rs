//! Telling whoever listens what a connection has committed, table by table, as the engine tells of each row.

use super::Connection;
use parking_lot::{Mutex, MutexGuard};
use rusqlite::hooks::Action;
use std::sync::Arc;

/// How many rows of one table are told one by one. Of a larger commit it is told that they may be any.
const MOST_ROWS: usize = 1_000;

/// What was written to one table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Written {
    pub(crate) table: String,
    pub(crate) inserted: u64,
    pub(crate) changed: u64,
    pub(crate) removed: u64,
    pub(crate) rows: WhichRows,
}

/// Which rows were written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum WhichRows {
    /// These, by their numbers, in order. One that was written twice is there twice.
    These(Vec<(i64, RowWrite)>),
    /// Any of the table's.
    All,
}

/// What was done to a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RowWrite {
    Inserted,
    Changed,
    Removed,
}

impl Default for WhichRows {
    fn default() -> WhichRows {
        WhichRows::These(Vec::new())
    }
}

impl WhichRows {
    fn push(&mut self, row: i64, did: RowWrite) {
        match self {
            WhichRows::These(rows) if rows.len() < MOST_ROWS => rows.push((row, did)),
            rows => *rows = WhichRows::All,
        }
    }

    fn mark(&self) -> Option<usize> {
        if let WhichRows::These(rows) = self { Some(rows.len()) } else { None }
    }

    fn back_to(&mut self, mark: Option<usize>) {
        match (self, mark) {
            (WhichRows::These(rows), Some(mark)) => rows.truncate(mark),
            (rows, Some(0)) => *rows = WhichRows::default(),
            // Which they were is not known any more.
            (rows, _) => *rows = WhichRows::All,
        }
    }
}

impl Written {
    pub(crate) fn is_nothing(&self) -> bool {
        self.inserted == 0 && self.changed == 0 && self.removed == 0
    }

    fn mark(&self) -> Mark {
        Mark { counts: [self.inserted, self.changed, self.removed], rows: self.rows.mark() }
    }

    fn back_to(&mut self, Mark { counts, rows }: Mark) {
        [self.inserted, self.changed, self.removed] = counts;
        self.rows.back_to(rows);
    }
}

/// What had been written to a table at a point of a transaction.
#[derive(Clone, Copy, Debug)]
pub(super) struct Mark {
    counts: [u64; 3],
    rows: Option<usize>,
}

/// Before anything was written.
const START: Mark = Mark { counts: [0; 3], rows: Some(0) };

/// What a connection has written in the transaction that is open.
#[derive(Default)]
struct Pending {
    tables: Vec<Written>,
    /// The marks of the tables before the statement that is running.
    before: Vec<Mark>,
}

impl Pending {
    fn of(&mut self, table: &str) -> &mut Written {
        let at = self.tables.iter().position(|w| w.table == table).unwrap_or_else(|| {
            self.tables.push(Written { table: table.to_owned(), ..Written::default() });
            self.tables.len() - 1
        });
        &mut self.tables[at]
    }

    fn back_to(tables: &mut [Written], marks: &[Mark]) {
        for (at, written) in tables.iter_mut().enumerate() {
            written.back_to(marks.get(at).copied().unwrap_or(START));
        }
    }
}

/// Hears what was committed, once it cannot be rolled back any more.
type Listener = dyn Fn(&[Written]) + Send;

/// Watches what one connection writes, and tells its listeners.
pub(super) struct Commits {
    pending: Arc<Mutex<Pending>>,
    listeners: Vec<Box<Listener>>,
}

impl Commits {
    fn pending(&self) -> MutexGuard<'_, Pending> {
        self.pending.lock()
    }

    /// A statement begins that may write.
    #[inline]
    pub(super) fn begin_statement(&self) {
        let Pending { tables, before } = &mut *self.pending();
        before.clear();
        before.extend(tables.iter().map(Written::mark));
    }

    /// The statement failed, so what it wrote is undone.
    #[cold]
    pub(super) fn undo_statement(&self) {
        let Pending { tables, before } = &mut *self.pending();
        Pending::back_to(tables, before);
    }
}

impl Connection {
    /// Tells `listener` of each commit from now on, on the thread that commits; but not of what is written to the file's own bookkeeping.
    pub(crate) fn listen(&mut self, listener: impl Fn(&[Written]) + Send + 'static) {
        if self.commits.is_none() {
            let pending = Arc::<Mutex<Pending>>::default();
            let hears = Arc::clone(&pending);
            let hook = move |action: Action, _: &str, table: &str, row: i64| {
                if table.starts_with("velvet_") {
                    return;
                }
                let written = &mut *hears.lock();
                let written = written.of(table);
                let (count, did) = match action {
                    Action::SQLITE_INSERT => (&mut written.inserted, RowWrite::Inserted),
                    Action::SQLITE_UPDATE => (&mut written.changed, RowWrite::Changed),
                    Action::SQLITE_DELETE => (&mut written.removed, RowWrite::Removed),
                    _ => return,
                };
                *count += 1;
                written.rows.push(row, did);
            };
            // Where the engine does not tell, nobody is told.
            if self.engine.update_hook(Some(hook)).is_err() {
                return;
            }
            self.commits = Some(Commits { pending, listeners: Vec::new() });
        }
        if let Some(commits) = &mut self.commits {
            commits.listeners.push(Box::new(listener));
        }
    }

    /// The engine removes all rows of a table at once without telling of each; says how many there were.
    pub(crate) fn removed_at_once(&self, table: &str, rows: u64) {
        let Some(commits) = &self.commits else { return };
        let pending = &mut *commits.pending();
        let at = pending.tables.iter().position(|w| w.table == table);
        let before = at.and_then(|at| pending.before.get(at)).map_or(0, |mark| mark.counts[2]);
        let written = pending.of(table);
        if written.removed == before {
            written.removed += rows;
            written.rows = WhichRows::All;
        }
    }

    /// The statement that was run may have removed rows in whose place others came, of which the engine does not tell.
    pub(crate) fn replaced_rows(&self) {
        let Some(commits) = &self.commits else { return };
        commits.pending().tables.iter_mut().filter(|w| !w.is_nothing()).for_each(|w| w.rows = WhichRows::All);
    }

    /// Tells of what was written, when no transaction is open any more.
    #[inline]
    pub(crate) fn tell_commit(&self) {
        let Some(commits) = self.commits.as_ref().filter(|_| self.engine.is_autocommit()) else { return };
        let Pending { tables, .. } = &mut *commits.pending();
        if tables.iter().any(|w| !w.is_nothing()) {
            commits.listeners.iter().for_each(|listener| listener(tables));
            // The names stay, so that the next transaction finds them.
            Pending::back_to(tables, &[]);
        }
    }

    /// What was written so far in the transaction that is open, to come back to when a part of it is rolled back.
    pub(super) fn mark(&self) -> Vec<Mark> {
        self.commits.as_ref().map(|c| c.pending().tables.iter().map(Written::mark).collect()).unwrap_or_default()
    }

    /// What was written after a mark was rolled back.
    pub(super) fn back_to(&self, marks: &[Mark]) {
        if let Some(commits) = &self.commits {
            Pending::back_to(&mut commits.pending().tables, marks);
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "what fails here fails a test")]
mod tests {
    use super::super::{Opener, memory_place};
    use super::*;

    #[test]
    fn listeners_hear_of_the_rows_that_were_kept_and_of_all_where_they_are_not_known() {
        let mut connection = Opener::new(&memory_place()).new_writer().unwrap();
        connection.run("CREATE TABLE pot (key INTEGER PRIMARY KEY, mark TEXT UNIQUE)").unwrap();
        let told = Arc::<Mutex<Vec<String>>>::default();
        for listener in ["a", "b"] {
            let told = Arc::clone(&told);
            connection.listen(move |commit| {
                let said = commit.iter().map(|w| match &w.rows {
                    WhichRows::These(rows) => format!("{listener}: {} {rows:?}", w.table),
                    WhichRows::All => {
                        format!("{listener}: {} all, {} {} {}", w.table, w.inserted, w.changed, w.removed)
                    }
                });
                told.lock().extend(said);
            });
        }
        let heard = |did: &str| {
            connection.tell_commit();
            let heard = std::mem::take(&mut *told.lock());
            let (one, other) = heard.split_at(heard.len() / 2);
            assert!(one.iter().zip(other).all(|(a, b)| a.replace("a:", "b:") == *b), "{did}: {heard:?}");
            one.concat().replace("a: pot ", "")
        };
        let run = |text: &str| connection.execute(text, []).map(drop);
        run("INSERT INTO pot (mark) VALUES ('K-1'), ('K-2'), ('K-3')").unwrap();
        assert_eq!(heard("inserted"), "[(1, Inserted), (2, Inserted), (3, Inserted)]");

        run("UPDATE pot SET mark = 'K-9' WHERE key = 2").unwrap();
        run("UPDATE pot SET mark = 'K-1' WHERE key > 1").unwrap_err();
        run("DELETE FROM pot WHERE key = 3").unwrap();
        assert_eq!(heard("failed"), "[(2, Changed), (3, Removed)]", "what a failed statement wrote is undone");

        let transaction = connection.transaction().unwrap();
        run("INSERT INTO pot (mark) VALUES ('K-4')").unwrap();
        let part = connection.savepoint().unwrap();
        run("INSERT INTO pot (mark) VALUES ('K-5')").unwrap();
        drop(part);
        assert_eq!(heard("open"), "", "nothing is told before it is kept");
        transaction.commit().unwrap();
        assert_eq!(heard("part"), "[(3, Inserted)]");
        drop(connection.transaction().map(|_open| run("DELETE FROM pot WHERE key = 1")));
        assert_eq!(heard("rolled back"), "");

        run("DELETE FROM pot").unwrap();
        connection.removed_at_once("pot", 3);
        assert_eq!(heard("at once"), "all, 0 0 3");
        run("INSERT OR REPLACE INTO pot (key, mark) VALUES (1, 'K-1')").unwrap();
        connection.replaced_rows();
        assert_eq!(heard("replaced"), "all, 1 0 0");
        run("INSERT INTO pot (mark) SELECT value FROM generate_series(1, 1001)").unwrap_err();
        let many: Vec<String> = (0..=MOST_ROWS).map(|n| format!("('m{n}')")).collect();
        run(&format!("INSERT INTO pot (mark) VALUES {}", many.join(", "))).unwrap();
        assert_eq!(heard("many"), "all, 1001 0 0");
    }
}
