//! What all handles to one open file share, and how work gets a connection to it.

use super::cache::Cache;
use super::following::Following;
use super::health::Metrics;
use super::in_place::Home;
use super::later::ToDo;
use super::readings::Readings;
use super::storing::Storing;
use super::{InEffect, Opened, Reads, Scope, Writes};
use crate::bookkeeping::sessions::Recorder;
use crate::bookkeeping::trails::Keeping;
use crate::engine::{Connection, Course, Fault, FaultKind, Moment, Participant, Pool, Transaction, Writer};
use crate::error::{Cause, Doing, Error};
use crate::events;
use crate::schema::Declared;
use crate::search::{self, CachedTexts, Indexes};
use crate::work::ui_thread;
use crate::work::under_way::Activity;
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::panic::Location;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

/// What all handles to one open file share.
pub struct Inner {
    pub(crate) place: Place,
    pub(crate) declared: Declared,
    pub(crate) files_root: Option<PathBuf>,
    /// The texts that were suggested from last, for the next letter.
    pub(crate) cached_texts: Mutex<Option<CachedTexts>>,
    /// Whether the file is closed after the write that goes on, because the app is in the background.
    pub(super) rests_later: AtomicBool,
    is_searched: bool,
    opened: Opened,
    pub(super) in_effect: InEffect,
    recorder: Option<Arc<Recorder>>,
    /// Who takes part in each transaction.
    participants: Vec<Arc<dyn Participant>>,
    pool: Option<Pool>,
    handles: Mutex<Handles>,
    /// Where in the app's code the transaction was begun that is being written.
    writing_at: Mutex<Option<&'static Location<'static>>>,
    pub(super) home: Home,
    pub(super) readings: Readings,
    pub(super) cache: Cache,
    pub(super) following: Following,
    pub(super) to_do: ToDo,
    pub(crate) storing: Storing,
    pub(super) metrics: Arc<Metrics>,
}

/// Where a drawer is.
#[derive(Clone, Debug)]
pub(crate) enum Place {
    File(PathBuf),
    Memory,
}

#[derive(Default)]
struct Handles {
    next: u64,
    open: BTreeMap<u64, &'static Location<'static>>,
}

/// Tells those who take part how a transaction went, also when it panics.
struct UnderWay<'i> {
    inner: &'i Inner,
    course: Course,
    begun: Instant,
}

impl Drop for UnderWay<'_> {
    fn drop(&mut self) {
        self.course.took = self.begun.elapsed();
        self.inner.participants.iter().for_each(|who| who.is_over(&self.course));
    }
}

/// Forgets where a transaction was begun, also when it panics.
struct WritingAt<'i>(&'i Inner);

impl Drop for WritingAt<'_> {
    fn drop(&mut self) {
        self.0.writing_at.lock().take();
    }
}

/// How often the search index is told of what other programs wrote, when they write all the time.
const ATTEMPTS: usize = 3;

pub(crate) const UNTOUCHED: &str = "Nothing was written";

impl Inner {
    pub(crate) fn new(
        place: Place,
        declared: Declared,
        (files_root, in_effect): (Option<PathBuf>, InEffect),
        opened: Opened,
        (recorder, trails): (Option<Arc<Recorder>>, Option<Keeping>),
        pool: Pool,
    ) -> Inner {
        let indexes = Indexes::of(&declared.structure);
        let is_searched = indexes.is_some();
        let metrics = Arc::new(Metrics::new());
        let mut participants: Vec<Arc<dyn Participant>> = vec![Arc::<Metrics>::clone(&metrics)];
        participants.extend(recorder.clone().map(|recorder| recorder as Arc<dyn Participant>));
        participants.push(Arc::new(declared.sealing.clone()));
        participants.extend(trails.map(|trails| Arc::new(trails) as Arc<dyn Participant>));
        participants.extend(indexes.map(|indexes| Arc::new(indexes) as Arc<dyn Participant>));
        Inner {
            place,
            is_searched,
            declared,
            files_root,
            cached_texts: Mutex::default(),
            rests_later: AtomicBool::new(false),
            opened,
            in_effect,
            recorder,
            participants,
            pool: Some(pool),
            handles: Mutex::default(),
            writing_at: Mutex::default(),
            home: Home::new(),
            readings: Readings::default(),
            cache: Cache::default(),
            following: Following::default(),
            to_do: ToDo::default(),
            storing: Storing::default(),
            metrics,
        }
    }

    pub(crate) fn opened(&self) -> &Opened {
        &self.opened
    }

    /// The options that hold for all handles.
    pub(crate) fn in_effect(&self) -> &InEffect {
        &self.in_effect
    }

    /// What writes this session down, where that is on.
    pub(crate) fn recorder(&self) -> Option<&Recorder> {
        self.recorder.as_deref()
    }

    pub(crate) fn pool(&self) -> &Pool {
        self.pool.as_ref().unwrap_or_else(|| unreachable!("the pool is taken out only when the file is closed"))
    }

    pub(super) fn new_handle(&self, at: &'static Location<'static>) -> u64 {
        let mut handles = self.handles.lock();
        handles.next += 1;
        let handle = handles.next;
        handles.open.insert(handle, at);
        handle
    }

    pub(super) fn forget_handle(&self, handle: u64) {
        self.handles.lock().open.remove(&handle);
    }

    pub(super) fn open_handles(&self) -> Vec<&'static Location<'static>> {
        self.handles.lock().open.values().copied().collect()
    }

    /// Closes the file.
    pub(super) fn close(&mut self) -> Result<(), Error> {
        let Some(pool) = self.pool.take() else { return Ok(()) };
        if self.home.is_forked() {
            // They are the other process's, and so are the threads that would have to end.
            let texts = self.cached_texts.get_mut().take();
            std::mem::forget((pool, self.recorder.take(), texts, self.storing.close_reader()));
            return Ok(());
        }
        let displaced =
            pool.looked_at().err().and_then(|how| Some(self.displaced(how, pool.in_place(), &*pool.writer().ok()??)));
        if self.recorder.is_some() && displaced.is_none() {
            // It may be closed to rest, and is needed to note the end.
            drop(pool.writer());
        }
        if let Some(recorder) = self.recorder.take() {
            recorder.end(&pool.shared_writer());
        }
        // The connections beside the pool must be closed first.
        self.storing.close_reader();
        self.cached_texts.get_mut().take();
        let in_place = pool.in_place();
        let closed = pool.close().doing(|| "cannot close the drawer").map_err(|error| self.place.name(error));
        match displaced {
            Some(displaced) => {
                self.take_log_away(in_place);
                Err(displaced)
            }
            None => closed,
        }
    }

    /// Runs `work` with a connection that reads.
    #[inline]
    pub(crate) fn reading<R>(&self, work: impl FnOnce(Scope<'_, Reads>) -> Result<R, Error>) -> Result<R, Error> {
        self.refuse_if_busy_here("read")?;
        let _waits = ui_thread::watched();
        match self.pool().reader() {
            Ok(reader) => {
                let work = || work(Scope::new(&reader, self));
                reader.until_cancelled_here(work).map_err(|error| self.told_from_newer(&reader, error))
            }
            // What it held can still be read, and copied, with the connection that has it.
            Err(Fault { kind: FaultKind::Displaced(_), .. }) => work(Scope::new(&*self.writer()?, self)),
            Err(fault) => Err(self.place.name(Error::from(fault).doing("cannot open the file for reading"))),
        }
    }

    /// A connection that reads, for whoever closes it before the file is closed.
    pub(crate) fn own_reader(&self) -> Result<Connection, Error> {
        let reader = self.pool().own_reader().doing(|| "cannot open the file for reading");
        reader.map_err(|error| self.place.name(error))
    }

    /// Runs `work` with such a connection.
    pub(crate) fn with_reader<'c, R>(
        &'c self,
        connection: &'c Connection,
        work: impl FnOnce(Scope<'c, Reads>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        work(Scope::new(connection, self))
    }

    /// Runs `work` in one consistent state of the file, of which the search index was told what other programs wrote.
    pub(crate) fn viewing<R>(&self, work: impl FnOnce(Scope<'_, Reads>) -> Result<R, Error>) -> Result<R, Error> {
        self.reading(|scope| {
            self.require_in_place()?;
            let _state = scope.doing(|| "cannot begin to read", || self.state(scope.connection))?;
            self.require_version(scope.connection, "read from")?;
            self.busy_here(|| work(scope))
        })
    }

    fn state<'c>(&self, connection: &'c Connection) -> Result<Transaction<'c>, Error> {
        for _ in 0..ATTEMPTS {
            let state = connection.snapshot()?;
            if !self.is_searched || !search::is_behind(connection)? {
                return Ok(state);
            }
            drop(state);
            self.tell_the_search_index()?;
        }
        Ok(connection.snapshot()?)
    }

    /// Tells the search index of what other programs wrote. Reading does not wait for writing: where somebody writes just now, what
    /// the index was not told of is not found yet.
    pub(crate) fn tell_the_search_index(&self) -> Result<(), Error> {
        let Some(writer) = self.pool().idle_writer() else { return Ok(()) };
        search::catch_up_at_once(&writer, &self.declared.structure)
            .doing(|| "cannot tell the search index of what was written")
            .map_err(|error| self.place.name(error))
    }

    #[cold]
    fn opened_to_read(&self) -> Error {
        let error = Error::new(Cause::ReadOnly, "cannot write to the drawer: it was opened only to be read");
        self.place.name(error.untouched(UNTOUCHED).advise("Let the app write, or open it without Options::read_only"))
    }

    /// The connection that writes.
    #[inline]
    pub(super) fn writer(&self) -> Result<Writer<'_>, Error> {
        match self.pool().writer() {
            Ok(Some(writer)) => Ok(writer),
            Ok(None) => Err(self.held_by_another_thread()),
            Err(fault) => Err(self.place.name(Error::from(fault).doing("cannot open the file again"))),
        }
    }

    /// Runs `work` with the connection that writes.
    pub(crate) fn with_writer<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        self.refuse_if_busy_here("write to")?;
        let _waits = ui_thread::watched();
        if self.in_effect.read_only {
            return Err(self.opened_to_read());
        }
        let writer = self.writer()?;
        self.require_in_place_to_write(&writer)?;
        if let Some(recorder) = self.recorder() {
            recorder.mark(&writer);
        }
        let result = writer.until_cancelled_here(|| work(Scope::new(&writer, self)));
        writer.tell_commit();
        drop(writer);
        self.rest_if_that_waits();
        result
    }

    /// Runs `work` as one transaction: everything that it writes is kept together, or not at all.
    pub(crate) fn transaction<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        let asked = Instant::now();
        self.with_writer(|scope| {
            let connection = scope.connection;
            let ask = |who: &dyn Participant, at: Moment| {
                let asked = || match at {
                    Moment::Prepares => who.prepares(connection),
                    Moment::Begins => who.begins(connection),
                    Moment::Ends => who.ends(connection),
                };
                scope.doing(|| who.doing(at), || Ok(asked()?))
            };
            self.participants.iter().try_for_each(|who| ask(&**who, Moment::Prepares))?;
            let transaction = scope.doing(|| "cannot begin to write", || Ok(connection.transaction()?))?;
            let alone = self.following.writes_alone(|| self.pool().count_of_others_by(connection).unwrap_or(i64::MIN));
            let begun = Instant::now();
            let course = Course { waited: begun - asked, took: Duration::ZERO, is_kept: false };
            let mut under_way = UnderWay { inner: self, course, begun };
            self.require_version(connection, "write to")?;
            self.participants.iter().try_for_each(|who| ask(&**who, Moment::Begins))?;
            let result = self.busy_here(|| work(scope))?;
            self.participants.iter().rev().try_for_each(|who| ask(&**who, Moment::Ends))?;
            drop(alone);
            scope.doing(|| "cannot keep what was written", || Ok(transaction.commit()?))?;
            under_way.course.is_kept = true;
            Ok(result)
        })
    }

    /// Runs `work`, and lets those who wait for it know where it was begun.
    pub(crate) fn writing_at<R>(&self, at: &'static Location<'static>, work: impl FnOnce() -> R) -> R {
        *self.writing_at.lock() = Some(at);
        let _until_it_ends = WritingAt(self);
        work()
    }

    #[cold]
    /// Where the thread that writes just now began to.
    fn at_which_write(&self) -> String {
        let at = *self.writing_at.lock();
        at.map(|at| format!(", in the `write` at {at}")).unwrap_or_default()
    }

    /// An error of going to the background while another thread writes for longer than this.
    pub(super) fn still_writing(&self, within: Duration) -> Error {
        let at = self.at_which_write();
        let problem = format!("cannot close the file within {within:?}: another thread is still writing to it{at}");
        let error = Error::new(Cause::Locked, problem)
            .untouched("Nothing is lost; the file is closed when that thread has finished");
        self.place.name(
            error.advise("Ask the system for more time, and call going_to_background again to learn when it is closed"),
        )
    }

    pub(super) fn held_by_another_thread(&self) -> Error {
        let (wait, at) = (self.pool().wait(), self.at_which_write());
        let problem = format!("cannot write to the drawer: another thread has been writing to it for {wait:?}{at}");
        let advice =
            "Never wait for another thread inside `write`; or wait longer with Drawer::options().lock_timeout(…)";
        self.place.name(Error::new(Cause::Locked, problem).untouched("Nothing was written by this call").advise(advice))
    }

    /// A transaction or a view of this drawer.
    #[inline]
    fn use_here(&self) -> Activity {
        Activity::Using(std::ptr::from_ref(self).addr())
    }

    /// Runs `work` with this drawer marked as busy on this thread.
    fn busy_here<R>(&self, work: impl FnOnce() -> R) -> R {
        let _busy = self.use_here().begin();
        work()
    }

    #[inline]
    pub(crate) fn refuse_if_busy_here(&self, what: &str) -> Result<(), Error> {
        if !self.use_here().is_under_way() {
            return Ok(());
        }
        Err(self.place.name(
            Error::new(
                Cause::Nested,
                format!("cannot {what} the drawer inside its own `write` or `read`, on the same thread"),
            )
            .untouched("Nothing was written by this call")
            .advise("Use what the closure is given: `tx` or `view`"),
        ))
    }
}

impl Inner {
    /// The file's path; nothing for a drawer in memory.
    pub(crate) fn path(&self) -> Option<&Path> {
        match &self.place {
            Place::File(path) => Some(path),
            Place::Memory => None,
        }
    }
}

impl Drop for Inner {
    fn drop(&mut self) {
        let _waits = ui_thread::watched();
        // What a commit acknowledged is safe already; whoever wants to know how closing went calls `Drawer::close`.
        let _ = self.close();
        if let Some(path) = self.path().filter(|_| !self.home.is_forked()) {
            events::closed(path, self.declared.version);
        }
    }
}

impl Place {
    /// Names the file in an error.
    pub(crate) fn name(&self, error: Error) -> Error {
        match self {
            Place::File(path) => error.in_file(path),
            Place::Memory => error.in_file(Path::new("(in memory)")),
        }
    }
}
