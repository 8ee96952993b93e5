//! One connection to a database file.

use super::bound::Bounds;
use super::commits::Commits;
use super::guard::{Guard, Prepared, Preparing};
use super::in_place::{Identity, identity};
use super::interrupted::Asking;
use super::log_beside::{fitting_wal, found_wal};
use super::noticed::Noticed;
use super::open_here::OpenHere;
use super::report::Reporter;
use super::statement::TellingOfReplaced;
use super::transaction::Open;
use super::{Fault, FaultKind, FileCipher, Row, Settings, Statement, address, ciphers};
use crate::device::temporary;
use rusqlite::config::DbConfig;
use rusqlite::functions::FunctionFlags;
use rusqlite::hooks::AuthContext;
use rusqlite::{OpenFlags, params};
use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Once};
use std::time::{Duration, Instant};
use velvet_core::Collation;
use velvet_core::ValueRef;
use velvet_core::exchange::sql_text::has_word;
use velvet_core::query::column::{FOLD, fold};

/// How many KB of changed pages a transaction holds in memory before some go to the log. A page that went there and is changed once more makes the engine
/// read the log again, and prove it anew, when it commits.
const CHANGES_HELD: u32 = 8_192;

/// How many prepared statements a connection keeps.
const STATEMENTS_KEPT: usize = 128;

/// How much of an encrypted file to keep decrypted in memory, in KiB: to read a page again costs as much as a short query.
const DECRYPTED_KEPT: u32 = 20_000;

/// How long to sleep between attempts where the engine does not wait by itself.
pub(super) const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(4);

/// How long at least to wait until this process has ended a look into the file.
const FOR_LOOKS: Duration = Duration::from_secs(1);

/// A connection to one file.
pub(crate) struct Connection {
    pub(super) engine: rusqlite::Connection,
    /// The names of the app's own collations that it has been told of.
    collations: RefCell<Vec<String>>,
    pub(super) guard: Guard,
    pub(super) report: Reporter,
    pub(super) commits: Option<Commits>,
    pub(super) open: Open,
    pub(super) noticed: Noticed,
    pub(super) asking: Asking,
    /// How long it waits for other processes.
    pub(super) wait: Cell<Duration>,
    pub(super) bounds: Option<Bounds>,
    /// The key of the file, where it is encrypted.
    pub(super) cipher: Option<Arc<FileCipher>>,
    /// Whether a page failed its proof: the engine reads nothing more through this connection.
    is_spent: Cell<bool>,
    /// Which file was at its path before it was opened.
    pub(super) opened: Option<Identity>,
    _open_here: Option<OpenHere>,
}

impl Connection {
    /// How many bytes a write-ahead log may have that nobody needs. Above that it is cut.
    pub(crate) const LARGE_LOG: u64 = 16 << 20;

    /// A connection that reads and writes, and creates the file where there is none and `may_create`.
    ///
    /// A write-ahead log that stands beside the file is left alone when this is closed, until [`Connection::use_wal`]: the file may
    /// turn out to be none of ours, or damaged, and the write-ahead log the only part of it that can be read.
    pub(super) fn writer(path: &Path, settings: &Settings, may_create: bool) -> Result<Connection, Fault> {
        let wal = fitting_wal(path)?;
        let create = if may_create { OpenFlags::SQLITE_OPEN_CREATE } else { OpenFlags::empty() };
        let connection = Connection::open(path, OpenFlags::SQLITE_OPEN_READ_WRITE | create, settings)?;
        if wal.is_some() {
            connection.keep_wal_on_close(true);
        }
        connection.keep_decrypted();
        connection.run(if settings.relaxed { "PRAGMA synchronous = NORMAL" } else { "PRAGMA synchronous = FULL" })?;
        if cfg!(target_vendor = "apple") && !settings.relaxed {
            connection.run("PRAGMA fullfsync = ON; PRAGMA checkpoint_fullfsync = ON")?;
        }
        connection.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_FKEY, true)?;
        Ok(connection)
    }

    /// A connection that only reads, of a file that may be open nowhere else.
    pub(super) fn first_reader(path: &Path, settings: &Settings) -> Result<Connection, Fault> {
        fitting_wal(path)?;
        Connection::reader(path, settings)
    }

    /// A connection that only reads.
    pub(super) fn reader(path: &Path, settings: &Settings) -> Result<Connection, Fault> {
        let connection = Connection::open(path, OpenFlags::SQLITE_OPEN_READ_ONLY, settings)?;
        connection.keep_decrypted();
        Ok(connection)
    }

    /// Keeps more of an encrypted file in memory than of a plain one.
    pub(super) fn keep_decrypted(&self) {
        if self.cipher.is_some() {
            // The engine reads the file for this. What is wrong with it is told when it is read again.
            let _ = self.run(&format!("PRAGMA cache_size = -{DECRYPTED_KEPT}"));
        }
    }

    /// Of the engine's, to which nothing else was said yet: the key comes first.
    pub(super) fn with_key(engine: rusqlite::Connection, cipher: Option<Arc<FileCipher>>) -> Result<Connection, Fault> {
        cipher.iter().try_for_each(|cipher| ciphers::give_key(&engine, cipher))?;
        Ok(Connection { cipher, ..Connection::of(engine)? })
    }

    fn of(mut engine: rusqlite::Connection) -> Result<Connection, Fault> {
        let guard = Guard::default();
        let decides = guard.clone();
        engine.authorizer(Some(move |context: AuthContext<'_>| decides.decide(&context)))?;
        Ok(Connection {
            engine,
            collations: RefCell::default(),
            guard,
            report: Reporter::none(),
            commits: None,
            open: Open::default(),
            noticed: Noticed::default(),
            asking: Asking::default(),
            wait: Cell::default(),
            bounds: None,
            cipher: None,
            is_spent: Cell::default(),
            opened: None,
            _open_here: None,
        })
    }

    fn open(path: &Path, flags: OpenFlags, settings: &Settings) -> Result<Connection, Fault> {
        let flags = flags | OpenFlags::SQLITE_OPEN_NO_MUTEX | address::flags(path);
        let cipher = settings.cipher.clone().or_else(|| ciphers::known(path));
        let open_here = OpenHere::new(path, &cipher, settings.wait.max(FOR_LOOKS))?;
        let opened = identity(path).ok();
        let mut connection = Connection::with_key(rusqlite::Connection::open_with_flags(path, flags)?, cipher)?;
        (connection._open_here, connection.opened) = (Some(open_here), opened);
        connection.report = Reporter::new(&settings.reporting, path);
        connection.wait_for_others(settings.wait)?;
        connection.look_whether_to_end()?;
        connection.use_temporary_folder();
        connection.prepare_for_us()?;
        settings.seals.iter().try_for_each(|seals| connection.seal_with(seals))?;
        Ok(connection)
    }

    /// Waits this long for other processes.
    pub(super) fn wait_for_others(&self, wait: Duration) -> Result<(), Fault> {
        self.wait.set(wait);
        Ok(self.engine.busy_timeout(wait)?)
    }

    /// Tells the engine, once for the whole process, where the app wants temporary files: those of large sorts, and of compacting.
    pub(super) fn use_temporary_folder(&self) {
        static TOLD: Once = Once::new();
        if let Some(folder) = temporary::handed_in().and_then(|folder| folder.to_str()) {
            // Where it cannot be told, the engine looks for a place itself.
            TOLD.call_once(|| {
                drop(self.run(&format!("PRAGMA temp_store_directory = '{}'", folder.replace('\'', "''"))))
            });
        }
    }

    /// What every connection of ours has: no trust in what the file says to execute, and our own functions.
    pub(super) fn prepare_for_us(&self) -> Result<(), Fault> {
        self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)?;
        // A mistyped column in double quotes is an error, not a text that nothing equals.
        self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
        self.engine.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
        let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_DIRECTONLY;
        self.engine.create_scalar_function(FOLD, 1, flags, |context| {
            Ok(context.get_raw(0).as_str_or_null().ok().flatten().map(fold))
        })?;
        Ok(())
    }

    /// Tells the engine of collations of the app's own, each once.
    #[inline]
    pub(crate) fn add_collations<'o>(&self, collations: impl Iterator<Item = &'o Collation>) -> Result<(), Fault> {
        for collation in collations {
            if !self.collations.borrow().contains(&collation.name) {
                self.engine.create_collation(collation.name.as_str(), collation.compare)?;
                self.collations.borrow_mut().push(collation.name.clone());
            }
        }
        Ok(())
    }

    /// Switches the file to a write-ahead log of changes beside it, so that reads run side by side with one writer. The engine does
    /// not wait by itself when several processes do this at once.
    pub(crate) fn use_wal(&self) -> Result<(), Fault> {
        self.keep_wal_on_close(false);
        self.run(&format!("PRAGMA journal_size_limit = {}", Connection::LARGE_LOG))?;
        self.run(&format!("PRAGMA cache_spill = -{CHANGES_HELD}"))?;
        let deadline = Instant::now() + self.wait.get();
        loop {
            match self.run("PRAGMA journal_mode = WAL") {
                Err(fault) if fault.kind == FaultKind::Locked && Instant::now() < deadline => {
                    self.refuse_if_cancelled()?;
                    std::thread::sleep(BETWEEN_ATTEMPTS);
                }
                Err(fault) => return Err(fault),
                // The first read opens the write-ahead log. Left to a reader, that would be the one to close it, and cannot merge it.
                Ok(()) => return self.version().map(drop),
            }
        }
    }

    /// Merges the write-ahead log into the main file and removes it, which only succeeds where nobody else has the file open.
    pub(crate) fn leave_wal(&self) -> Result<(), Fault> {
        self.run("PRAGMA journal_mode = DELETE")
    }

    /// Merges the write-ahead log and removes it, and keeps everybody from the file until the connection is dropped.
    ///
    /// # Errors
    /// When somebody else has the file open, or begins to use it ([`FaultKind::Locked`]).
    pub(crate) fn alone(self) -> Result<Connection, Fault> {
        self.leave_wal()?;
        // The lock stays from the first statement that takes it.
        self.run("PRAGMA locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE; COMMIT")?;
        let log = self.engine.path().and_then(|path| found_wal(Path::new(path)));
        if log.is_some() || self.one("PRAGMA journal_mode", [], |row| row.text(0) == "wal")?.unwrap_or_default() {
            let message = "another process began to use it".into();
            return Err(Fault { kind: FaultKind::Locked, message });
        }
        Ok(self)
    }

    /// Merges the write-ahead log into the main file as far as nobody reads an older state. Says whether that was all of it.
    pub(crate) fn checkpoint(&self) -> Result<bool, Fault> {
        let is_all = |row: Row<'_, '_>| row.integer(0) == 0 && row.integer(1) == row.integer(2);
        Ok(self.one("PRAGMA wal_checkpoint(PASSIVE)", [], is_all)?.unwrap_or_default())
    }

    /// Merges the write-ahead log into the main file and cuts it, where nobody reads an older state: it may have grown to the size of the file. Says whether it is
    /// cut.
    pub(crate) fn truncate_wal(&self) -> bool {
        let is_cut = |row: Row<'_, '_>| row.integer(0) == 0 && row.integer(1) <= 0;
        self.one("PRAGMA wal_checkpoint(TRUNCATE)", [], is_cut).ok().flatten().unwrap_or_default()
    }

    /// Gives back the memory of what can be read and prepared again.
    pub(super) fn give_back_memory(&self) {
        self.engine.flush_prepared_statement_cache();
        // Where the engine cannot, it has nothing to give.
        let _ = self.run("PRAGMA shrink_memory");
    }

    /// For reading a write-ahead log past which there is no shared memory: nobody else is let in.
    pub(super) fn keep_others_out(&self) -> Result<(), Fault> {
        self.run("PRAGMA locking_mode = EXCLUSIVE")
    }

    /// Switches the enforcement of links on or off; only outside of a transaction.
    pub(crate) fn enforce_foreign_keys(&self, on: bool) -> Result<(), Fault> {
        Ok(self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_FKEY, on).map(drop)?)
    }

    /// Checks links only when the transaction that is open is committed, or with each statement again. Until they are checked again, every
    /// link must lead somewhere.
    pub(crate) fn defer_foreign_keys(&self, later: bool) -> Result<(), Fault> {
        self.run(if later { "PRAGMA defer_foreign_keys = ON" } else { "PRAGMA defer_foreign_keys = OFF" })
    }

    /// Runs `work` without waiting for other processes, and waits for them as long as before afterwards.
    pub(crate) fn without_lock_timeout<R>(&self, work: impl FnOnce() -> R) -> R {
        let wait = self.wait.get();
        // Where the waiting time cannot be changed, `work` waits.
        let _ = self.wait_for_others(Duration::ZERO);
        let result = work();
        let _ = self.wait_for_others(wait);
        result
    }

    /// Runs `work` while no trigger of the file's runs.
    pub(crate) fn without_triggers<R>(&self, work: impl FnOnce() -> Result<R, Fault>) -> Result<R, Fault> {
        self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false)?;
        let result = work();
        self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, true)?;
        result
    }

    /// Leaves the write-ahead log as it is when this connection is closed.
    pub(crate) fn leave_log_alone(&self) {
        self.keep_wal_on_close(true);
    }

    /// Leaves the write-ahead log as it is when this connection is closed, or merges it then.
    pub(super) fn keep_wal_on_close(&self, alone: bool) {
        // Where the engine does not know this, it has no log to leave alone.
        let _ = self.engine.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, alone);
    }

    /// Runs `work` without waiting in its commits until they are safe from a loss of power. They are as safe from a kill as any.
    pub(crate) fn without_sync<R>(&self, work: impl FnOnce() -> R) -> R {
        // Where the setting cannot be changed, the commits wait.
        let waits = self.number("PRAGMA synchronous").is_ok_and(|kind| kind > 1)
            && self.run("PRAGMA synchronous = NORMAL").is_ok();
        let result = work();
        if waits {
            let _ = self.run("PRAGMA synchronous = FULL");
        }
        result
    }

    /// Runs statements that need no arguments; rows they return are dropped.
    pub(crate) fn run(&self, text: &str) -> Result<(), Fault> {
        self.refuse_if_rolled_back()?;
        self.engine.execute_batch(text).map_err(|error| self.failed(error))?;
        self.refuse_unproven()
    }

    /// Refuses everything that was read since a page of an encrypted file failed its proof. The engine notes the failure, returns zeros for the page, and only
    /// notices where the page should have had a form: not in the middle of a long value.
    #[inline]
    pub(super) fn refuse_unproven(&self) -> Result<(), Fault> {
        if self.cipher.is_none() { Ok(()) } else { self.refuse_unproven_pages() }
    }

    #[cold]
    fn refuse_unproven_pages(&self) -> Result<(), Fault> {
        // Answered while it is prepared, so it is never kept prepared.
        let status =
            self.engine.query_row("PRAGMA cipher_status", [], |row| Ok(row.get_ref(0)?.as_bytes() == Ok(b"1")));
        if status.is_ok_and(|is_proven| is_proven) {
            return Ok(());
        }
        self.is_spent.set(true);
        let message = "a page of the encrypted file failed its proof: it was changed or damaged".into();
        Err(Fault { kind: FaultKind::Damaged, message })
    }

    /// Where its file is; `None` in memory.
    pub(crate) fn place(&self) -> Option<PathBuf> {
        self.engine.path().filter(|path| !path.is_empty()).map(PathBuf::from)
    }

    /// Whether it has to be closed, and another one opened for whatever is read next.
    pub(super) fn is_spent(&self) -> bool {
        self.is_spent.get()
    }

    /// Runs one statement with bound values, and says how many rows it changed. It is kept prepared.
    #[inline]
    pub(crate) fn execute<'v>(&self, text: &str, values: impl IntoIterator<Item = ValueRef<'v>>) -> Result<u64, Fault> {
        let mut statement = self.prepare(text)?;
        statement.bind_all(values)?;
        statement.execute()
    }

    /// Calls `each` with every row that a statement returns.
    pub(crate) fn rows<'v, E: From<Fault>>(
        &self,
        text: &str,
        values: impl IntoIterator<Item = ValueRef<'v>>,
        each: impl FnMut(Row<'_, '_>) -> Result<(), E>,
    ) -> Result<(), E> {
        let mut statement = self.prepare(text)?;
        statement.bind_all(values)?;
        statement.rows().each(each)
    }

    /// What `read` makes of each row that a statement returns.
    pub(crate) fn list<'v, R>(
        &self,
        text: &str,
        values: impl IntoIterator<Item = ValueRef<'v>>,
        mut read: impl FnMut(Row<'_, '_>) -> R,
    ) -> Result<Vec<R>, Fault> {
        let mut all = Vec::new();
        self.rows(text, values, |row| {
            all.push(read(row));
            Ok::<_, Fault>(())
        })?;
        Ok(all)
    }

    /// What `read` makes of the first row that a statement returns; nothing where it returns none.
    #[inline]
    pub(crate) fn one<'v, R>(
        &self,
        text: &str,
        values: impl IntoIterator<Item = ValueRef<'v>>,
        read: impl FnOnce(Row<'_, '_>) -> R,
    ) -> Result<Option<R>, Fault> {
        let mut statement = self.prepare(text)?;
        statement.bind_all(values)?;
        let mut rows = statement.rows();
        Ok(rows.next()?.map(read))
    }

    /// A prepared statement.
    #[inline]
    pub(crate) fn prepare<'c>(&'c self, text: &'c str) -> Result<Statement<'c>, Fault> {
        self.refuse_if_rolled_back()?;
        self.refuse_if_cancelled()?;
        self.notice(text)?;
        let (prepared, computes) = self.prepared_within(text, || self.engine.prepare_cached(text))?;
        Ok(Statement {
            engine: prepared.map_err(|error| self.failed(error))?,
            text,
            connection: self,
            computes,
            _telling: None,
        })
    }

    /// A prepared statement that the app wrote itself: it may read and write records, and nothing else.
    pub(crate) fn prepare_foreign<'c>(&'c self, text: &'c str) -> Result<Statement<'c>, Fault> {
        self.refuse_if_rolled_back()?;
        self.notice(text)?;
        // Marked, so that it is never taken for one of ours, which may do more.
        let marked = format!("/* own */ {text}");
        let telling = has_word(text, "replace").then(|| TellingOfReplaced::begin(&self.engine));
        match self.guard.watching(|| self.engine.prepare_cached(&marked)) {
            (Ok(engine), None) => Ok(Statement { engine, text, connection: self, computes: false, _telling: telling }),
            (_, Some(why)) => Err(Fault { kind: FaultKind::Forbidden, message: why }),
            (Err(error), None) => Err(error.into()),
        }
    }

    /// The tables that a statement reads, also by triggers, cascades and views.
    pub(crate) fn tables_read(&self, text: &str) -> Result<BTreeSet<String>, Fault> {
        let (prepared, reads) = self.guard.reads(|| self.engine.prepare(text).map(drop));
        prepared?;
        Ok(reads)
    }

    /// Runs one statement that makes part of a file: it creates something or inserts rows. Beginning, ending and settings are passed over.
    pub(crate) fn run_making(&self, text: &str) -> Result<(), Fault> {
        let words: Vec<String> = text.split_whitespace().map(str::to_ascii_lowercase).collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        match words[..] {
            ["begin" | "commit" | "end"] | ["begin" | "commit" | "end", "transaction"] => Ok(()),
            ["begin", "immediate" | "deferred" | "exclusive"] => Ok(()),
            ["pragma", "foreign_keys", "=", "off"] | ["pragma", "foreign_keys=off"] => Ok(()),
            ["delete", "from", "sqlite_sequence"] => self.run(text),
            ["select" | "values" | "explain", ..] => {
                Err(Fault { kind: FaultKind::Forbidden, message: "it only reads".into() })
            }
            _ => self.within_bounds(|| self.run_looked_at(text, Guard::making)),
        }
    }

    /// Runs one statement that creates a table or index of its own, and computes nothing that it puts there.
    pub(crate) fn run_creating(&self, text: &str) -> Result<(), Fault> {
        self.run_looked_at(text, Guard::creating)
    }

    /// Runs one statement that is looked at while it is prepared. What it runs itself, such as a virtual table that makes its own
    /// tables, is the engine's doing.
    fn run_looked_at<'c>(
        &'c self,
        text: &str,
        look: fn(&Guard, Preparing<'_, 'c>) -> Prepared<'c>,
    ) -> Result<(), Fault> {
        match look(&self.guard, &mut || self.engine.prepare(text)) {
            (Ok(mut statement), None) => statement.raw_execute().map(drop).map_err(|error| self.failed(error)),
            (_, Some(why)) => Err(Fault { kind: FaultKind::Forbidden, message: why }),
            (Err(error), None) => Err(self.failed(error)),
        }
    }

    /// Whether every page and row can be read, and no index is torn off its table.
    pub(crate) fn is_sound(&self) -> Result<bool, Fault> {
        match self.one("PRAGMA quick_check(1)", [], |row| row.text(0) == "ok") {
            Ok(sound) => Ok(sound.unwrap_or_default()),
            Err(Fault { kind: FaultKind::Damaged, .. }) => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    /// The whole number that a statement without arguments returns first.
    pub(crate) fn number(&self, text: &str) -> Result<i64, Fault> {
        self.refuse_if_rolled_back()?;
        let number = self.engine.query_row(text, params![], |row| row.get(0)).map_err(|error| self.failed(error))?;
        self.refuse_unproven()?;
        Ok(number)
    }

    /// The row number that the last insert gave.
    #[inline]
    pub(crate) fn last_row_number(&self) -> i64 {
        self.engine.last_insert_rowid()
    }

    /// Closes it, and says where that fails.
    pub(crate) fn close(self) -> Result<(), Fault> {
        self.engine.close().map_err(|(_, error)| error.into())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "what fails here fails a test")]
mod tests {
    use super::super::{Opener, memory_place};
    use super::*;

    #[test]
    fn commits_wait_until_they_are_safe_unless_told_otherwise_and_the_file_is_not_trusted() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        let opener = Opener::new(&path);
        let synchronous = |connection: &Connection| connection.number("PRAGMA synchronous").unwrap();
        let is_trusted = |c: &Connection| c.engine.db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA).unwrap();
        let safe = opener.new_writer().unwrap();
        safe.use_wal().unwrap();
        assert_eq!(synchronous(&safe), 2);
        assert_eq!(safe.without_sync(|| synchronous(&safe)), 1);
        assert_eq!(synchronous(&safe), 2, "as it was");
        let relaxed = opener.clone().relaxed().new_writer().unwrap();
        assert_eq!(synchronous(&relaxed), 1);
        assert_eq!(relaxed.without_sync(|| synchronous(&relaxed)), 1);
        assert_eq!(synchronous(&relaxed), 1, "as it was");
        let reader = opener.reader().unwrap();
        let memory = Opener::new(&memory_place()).new_writer().unwrap();
        assert!([&safe, &relaxed, &reader, &memory].iter().all(|c| !is_trusted(c)));
        let look = opener.traceless(&crate::work::cancel::Cancel::default(), Duration::MAX).unwrap();
        assert!(!look.read(|connection| Ok::<_, Fault>(is_trusted(connection))).unwrap());
    }
}
