//! The connections of one drawer: one that writes, and as many as needed that read beside it.

use super::open_here::{OpenHere, close_looks};
use super::{Connection, Displaced, Fault, FaultKind, InPlace, Opener, Written};
use crate::device::companions::with_companions;
use crate::work::cancel::in_turns;
use parking_lot::Mutex;
use std::ops::Deref;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

/// How many idle readers are kept open.
const IDLE_READERS: usize = 4;

/// Two connections that are closed at the same moment each take the other for a reader, and neither merges the write-ahead log.
static CLOSING: Mutex<()> = Mutex::new(());

/// The connections of one drawer.
pub(crate) struct Pool {
    opener: Opener,
    #[expect(clippy::vec_box, reason = "lending one moves no more than a pointer")]
    readers: Mutex<Vec<Box<Connection>>>,
    writer: SharedWriter,
    /// Who hears of commits, also once the connection that writes was opened again.
    listeners: Mutex<Vec<Arc<Listener>>>,
    /// Of a pool that only reads, the connection that tells of the commits of others.
    counting: Option<Mutex<Connection>>,
    /// Whether the connection that writes was closed to give back what it holds.
    is_resting: AtomicBool,
    /// How often the connection that writes was opened again.
    reopened: AtomicI64,
    /// Also while all connections are closed: any of them may be opened again at any moment.
    _open_here: Option<OpenHere>,
}

type Listener = dyn Fn(&[Written]) + Send + Sync;

/// The connection that writes, as long as the pool is open.
#[derive(Clone)]
pub(crate) struct SharedWriter(Arc<parking_lot::Mutex<Option<Connection>>>);

/// A reader on loan.
pub(crate) struct Reader<'p> {
    pool: &'p Pool,
    connection: Option<Box<Connection>>,
}

/// The writer on loan.
pub(crate) struct Writer<'p>(Lent<'p>);

type Lent<'p> = parking_lot::MutexGuard<'p, Option<Connection>>;

impl Pool {
    pub(crate) fn new(opener: Opener, writer: Connection) -> Pool {
        Pool {
            _open_here: opener.in_place.is_some().then(|| OpenHere::again(&opener.path, &opener.settings.cipher)),
            listeners: Mutex::default(),
            counting: None,
            is_resting: AtomicBool::new(false),
            reopened: AtomicI64::default(),
            opener,
            readers: Mutex::default(),
            writer: SharedWriter(Arc::new(parking_lot::Mutex::new(Some(writer)))),
        }
    }

    /// Without a connection that writes.
    pub(crate) fn to_read(opener: Opener, reader: Connection) -> Pool {
        Pool {
            _open_here: Some(OpenHere::again(&opener.path, &opener.settings.cipher)),
            listeners: Mutex::default(),
            counting: Some(Mutex::new(reader)),
            is_resting: AtomicBool::new(false),
            reopened: AtomicI64::default(),
            opener,
            readers: Mutex::default(),
            writer: SharedWriter(Arc::default()),
        }
    }

    /// A number that is another one once others have committed something; nothing while a thread has the connection that tells.
    pub(crate) fn count_of_others(&self) -> Option<Result<i64, Fault>> {
        match &self.counting {
            Some(counting) => Some(counting.lock().count_of_others()),
            None => Some(self.count_of_others_by(&*self.idle_writer()?)),
        }
    }

    /// The same, by the connection that writes.
    pub(crate) fn count_of_others_by(&self, writer: &Connection) -> Result<i64, Fault> {
        // A connection that is opened again counts from the beginning, and what was committed in between is not counted.
        let reopened = self.reopened.load(Ordering::Acquire) << 32;
        writer.count_of_others().map(|count| reopened.wrapping_add(count))
    }

    /// The one connection that writes; waits until other threads have given it back. Nothing where they do not.
    #[inline]
    pub(crate) fn writer(&self) -> Result<Option<Writer<'_>>, Fault> {
        let lent = match self.writer.0.try_lock() {
            None => in_turns(self.wait(), |turn| self.writer.0.try_lock_for(turn))?,
            lent => lent,
        };
        lent.map(|writer| self.opened(writer)).transpose()
    }

    /// The one connection that writes, unless a thread has it just now, or it cannot be opened.
    pub(crate) fn idle_writer(&self) -> Option<Writer<'_>> {
        self.opened(self.writer.0.try_lock()?).ok()
    }

    #[inline]
    fn opened<'p>(&self, mut writer: Lent<'p>) -> Result<Writer<'p>, Fault> {
        if writer.is_none() {
            *writer = Some(self.opened_again()?);
        }
        Ok(Writer(writer))
    }

    /// After it was closed to give back what it holds.
    #[cold]
    fn opened_again(&self) -> Result<Connection, Fault> {
        if self.counting.is_some() {
            let message = "it was opened only to be read".to_owned();
            return Err(Fault { kind: FaultKind::ReadOnly, message });
        }
        self.opener.in_place.iter().for_each(InPlace::hold);
        let mut writer = self.opener.writer()?;
        writer.use_wal()?;
        self.opener.in_place.iter().for_each(InPlace::note_log);
        self.is_resting.store(false, Ordering::Release);
        self.reopened.fetch_add(1, Ordering::AcqRel);
        for listener in self.listeners.lock().iter() {
            let listener = Arc::clone(listener);
            writer.listen(move |written| listener(written));
        }
        Ok(writer)
    }

    /// Closes all connections that nobody uses just now, and with the last one the log; they are opened again when they are needed. The connection
    /// that writes is waited for until `until`, and `last` is what is done with it before. Nothing where it does not come.
    pub(crate) fn rest<R>(&self, until: Instant, last: impl FnOnce(&Connection) -> R) -> Option<Result<R, Fault>> {
        let mut writer = match self.opened(self.writer.0.try_lock_until(until)?) {
            Ok(writer) => writer,
            Err(fault) => return Some(Err(fault)),
        };
        let result = last(&writer);
        writer.without_lock_timeout(|| writer.truncate_wal());
        let _alone = CLOSING.lock();
        self.is_resting.store(true, Ordering::Release);
        self.opener.in_place.iter().for_each(InPlace::forget_log);
        self.readers.lock().clear();
        let closed = writer.0.take().map_or(Ok(()), Connection::close);
        self.opener.in_place.iter().for_each(InPlace::let_go);
        Some(closed.map(|()| result))
    }

    /// Gives back what can be had again: connections that nobody uses just now, pages that are held, prepared statements.
    pub(crate) fn give_back_memory(&self) {
        self.readers.lock().clear();
        if let Some(writer) = self.writer.0.try_lock()
            && let Some(writer) = &*writer
        {
            writer.give_back_memory();
        }
    }

    /// Tells `listener` of each commit from now on. Nothing where a thread has the connection that writes just now.
    pub(crate) fn listen(&self, listener: impl Fn(&[Written]) + Send + Sync + 'static) -> Option<Result<(), Fault>> {
        if self.counting.is_some() {
            return Some(Ok(()));
        }
        let mut writer = match self.opened(self.writer.0.try_lock()?) {
            Ok(writer) => writer,
            Err(fault) => return Some(Err(fault)),
        };
        let listener: Arc<Listener> = Arc::new(listener);
        self.listeners.lock().push(Arc::clone(&listener));
        writer.0.as_mut()?.listen(move |written| listener(written));
        Some(Ok(()))
    }

    /// How large the write-ahead log is; or what became of the file, where it is not in its place any more.
    #[inline]
    pub(crate) fn looked_at(&self) -> Result<u64, Displaced> {
        self.opener.in_place.as_ref().map_or(Ok(0), InPlace::log_bytes)
    }

    /// How large the write-ahead log is.
    pub(crate) fn log_bytes(&self) -> u64 {
        self.looked_at().unwrap_or_default()
    }

    /// How large the log is that was left when all was closed that could be.
    pub(crate) fn log_left(&self) -> u64 {
        let log = with_companions(&self.opener.path).nth(1);
        log.and_then(|log| log.metadata().ok()).map_or(0, |log| log.len())
    }

    /// The file that it has open, and its log; nothing for one in memory.
    pub(crate) fn in_place(&self) -> Option<InPlace> {
        self.opener.in_place.clone()
    }

    /// How long connections wait for other processes.
    pub(crate) fn wait(&self) -> Duration {
        self.opener.settings.wait
    }

    /// The connection that writes, for whoever writes beside the app; it is given up before the pool is closed.
    pub(crate) fn shared_writer(&self) -> SharedWriter {
        self.writer.clone()
    }

    /// A connection that reads.
    #[inline]
    pub(crate) fn reader(&self) -> Result<Reader<'_>, Fault> {
        let idle = self.readers.lock().pop();
        let connection = match idle {
            Some(connection) => connection,
            None => Box::new(self.own_reader()?),
        };
        Ok(Reader { pool: self, connection: Some(connection) })
    }

    /// A further connection that reads, which whoever asked for it closes before the pool.
    pub(crate) fn own_reader(&self) -> Result<Connection, Fault> {
        if self.is_resting.load(Ordering::Acquire) {
            // A reader cannot be the first to open a file.
            drop(self.writer()?);
        }
        self.opener.reader()
    }

    /// Closes every connection that is not on loan, the writer last.
    pub(crate) fn close(mut self) -> Result<(), Fault> {
        self.close_all()
    }

    fn close_all(&mut self) -> Result<(), Fault> {
        let _alone = CLOSING.lock();
        self.readers.get_mut().clear();
        // One that reads just now keeps the log from being merged, which does no harm.
        close_looks(&self.opener.path, Duration::ZERO);
        let writer = self.writer.0.lock().take();
        writer.map_or(Ok(()), Connection::close)
    }
}

impl SharedWriter {
    /// Runs `work` with the connection, unless it is closed.
    pub(crate) fn lend<R>(&self, work: impl FnOnce(&Connection) -> Result<R, Fault>) -> Option<Result<R, Fault>> {
        self.0.lock().as_ref().map(work)
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        // What a commit acknowledged is safe already; whoever wants to know how closing went calls `close`.
        let _ = self.close_all();
    }
}

impl Deref for Reader<'_> {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        self.connection.as_ref().unwrap_or_else(|| unreachable!("a reader has its connection until it is dropped"))
    }
}

impl Drop for Reader<'_> {
    fn drop(&mut self) {
        let connection = self.connection.take().filter(|connection| !connection.is_spent());
        let mut idle = self.pool.readers.lock();
        if self.pool.is_resting.load(Ordering::Acquire) {
            drop(connection);
            self.pool.opener.in_place.iter().for_each(InPlace::let_go);
        } else if idle.len() < IDLE_READERS {
            idle.extend(connection);
        }
    }
}

impl Drop for Writer<'_> {
    fn drop(&mut self) {
        if self.0.as_ref().is_some_and(Connection::is_spent) {
            // What is written next opens another one. The last connection merges the log as it closes.
            self.0.take();
        }
    }
}

impl Deref for Writer<'_> {
    type Target = Connection;

    fn deref(&self) -> &Connection {
        self.0.as_ref().unwrap_or_else(|| unreachable!("a writer on loan is open"))
    }
}
