//! Work that is done on threads of the drawer's.
//!
//! Each handle has a lane, in which one work is done after the other. Threads are started as lanes have work, and end when there was none for a while.

use super::Drawer;
use crate::error::{Cause, Error};
use crate::work::cancel::Cancel;
use crate::work::outcome::Outcome;
use crate::work::progress::Progress;
use crate::work::ui_thread;
use parking_lot::{Condvar, Mutex, MutexGuard};
use std::cell::Cell;
use std::collections::{BTreeMap, VecDeque};
use std::fmt;
use std::io;
use std::panic::{AssertUnwindSafe, Location, catch_unwind};
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::thread;
use std::time::{Duration, Instant};

/// How many threads there are at most.
const THREADS: usize = 4;

/// How many works may wait.
const WAITING: usize = 1_024;

/// How long a thread waits for further work before it ends.
const IDLE: Duration = Duration::from_secs(10);

/// What a drawer is to do later.
#[derive(Default)]
pub(super) struct ToDo(Arc<Queue>);

#[derive(Default)]
struct Queue {
    lanes: Mutex<Lanes>,
    wake: Condvar,
}

#[derive(Default)]
struct Lanes {
    lanes: BTreeMap<u64, Lane>,
    /// The lanes that have work, and of which none is being done.
    ready: VecDeque<u64>,
    waiting: usize,
    threads: usize,
    idle: usize,
    /// How many works are being done.
    working: usize,
    /// How many of them wait for others. Each has another thread started in its place, so that what they wait for is done.
    blocked: usize,
    /// Whether none is begun just now.
    is_parked: bool,
}

#[derive(Default)]
struct Lane {
    works: VecDeque<(u64, Box<dyn FnOnce() + Send>)>,
    is_working: bool,
}

thread_local! {
    /// What this thread does of what was to be done later.
    static HERE: Cell<Option<Working>> = const { Cell::new(None) };
}

/// The work that a thread does.
#[derive(Clone, Copy)]
struct Working {
    /// Of which drawer, by its address.
    shared: *const Queue,
    lane: u64,
    /// Whether it waits for another.
    is_blocked: bool,
}

/// Work that is done on another thread: wait for it, or await it in any async runtime. Dropped before it has begun, it is not done at all;
/// afterwards it goes to its end.
#[must_use = "what is dropped before it has begun is not done"]
pub struct Later<R> {
    outcome: Arc<Outcome<Result<R, Error>>>,
    cancel: Cancel,
    progress: Arc<Mutex<Progress>>,
    place: Option<(Arc<Queue>, u64, u64)>,
}

impl Queue {
    fn start(self: &Arc<Self>) -> io::Result<()> {
        let shared = Arc::clone(self);
        thread::Builder::new().name("velvet-later".into()).spawn(move || shared.run()).map(drop)
    }

    fn lanes(&self) -> MutexGuard<'_, Lanes> {
        self.lanes.lock()
    }

    /// Starts threads for the lanes that have work, as far as there may be more.
    fn start_what_is_wanted(self: &Arc<Self>, lanes: &mut Lanes) {
        let wanted = (lanes.threads - lanes.idle + lanes.ready.len()).min(THREADS + lanes.blocked);
        while lanes.threads < wanted && self.start().is_ok() {
            lanes.threads += 1;
        }
    }

    /// Notes that the work of this thread waits for another one of the same drawer, or no longer. Says whether that can ever be done: what waits in the same lane
    /// waits for the work that waits for it.
    fn waits(self: &Arc<Self>, is_blocked: bool, (lane, number): (u64, u64)) -> bool {
        let Some(here) = HERE.get().filter(|here| std::ptr::eq(here.shared, &**self)) else { return true };
        let mut lanes = self.lanes();
        let is_behind = |lane: &Lane| lane.works.iter().any(|(of, _)| *of == number);
        if is_blocked && here.lane == lane && lanes.lanes.get(&lane).is_some_and(is_behind) {
            return false;
        }
        if here.is_blocked != is_blocked {
            HERE.set(Some(Working { is_blocked, ..here }));
            lanes.blocked = if is_blocked { lanes.blocked + 1 } else { lanes.blocked - 1 };
            self.start_what_is_wanted(&mut lanes);
        }
        true
    }

    /// Does what is there to be done, until there was nothing for a while.
    fn run(&self) {
        let mut lanes = self.lanes();
        loop {
            let next = if lanes.is_parked { None } else { lanes.ready.pop_front() };
            let Some(number) = next else {
                lanes.idle += 1;
                let timeout = self.wake.wait_for(&mut lanes, IDLE);
                lanes.idle -= 1;
                if timeout.timed_out() && (lanes.ready.is_empty() || lanes.is_parked) {
                    lanes.threads -= 1;
                    return;
                }
                continue;
            };
            let Some(lane) = lanes.lanes.get_mut(&number) else { continue };
            let Some((_, work)) = lane.works.pop_front() else {
                lanes.lanes.remove(&number);
                continue;
            };
            lane.is_working = true;
            lanes.waiting -= 1;
            lanes.working += 1;
            drop(lanes);
            HERE.set(Some(Working { shared: self, lane: number, is_blocked: false }));
            work();
            let here = HERE.take();
            lanes = self.lanes();
            lanes.working -= 1;
            lanes.blocked -= usize::from(here.is_some_and(|here| here.is_blocked));
            if lanes.is_parked {
                self.wake.notify_all();
            }
            let Some(lane) = lanes.lanes.get_mut(&number) else { continue };
            lane.is_working = false;
            if lane.works.is_empty() {
                lanes.lanes.remove(&number);
            } else {
                lanes.ready.push_back(number);
            }
        }
    }
}

impl ToDo {
    /// Begins no work any more, and waits for what is being done, but no longer than until then. Says how many works wait, and how many go on.
    pub(super) fn park(&self, until: Instant) -> (usize, usize) {
        let mut lanes = self.0.lanes();
        lanes.is_parked = true;
        // A work that does this itself goes on.
        let own = usize::from(HERE.get().is_some_and(|here| std::ptr::eq(here.shared, &*self.0)));
        while lanes.working > own {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            self.0.wake.wait_for(&mut lanes, left);
        }
        (lanes.waiting, lanes.working)
    }

    /// How many works wait.
    pub(super) fn waiting(&self) -> usize {
        self.0.lanes().waiting
    }

    /// Begins work again.
    pub(super) fn go_on(&self) {
        let mut lanes = self.0.lanes();
        lanes.is_parked = false;
        // Threads that had nothing to do may have ended meanwhile.
        self.0.start_what_is_wanted(&mut lanes);
        drop(lanes);
        self.0.wake.notify_all();
    }

    /// Puts work into a lane. Says its number there.
    fn put(&self, lane: u64, number: u64, work: Box<dyn FnOnce() + Send>) -> Result<(), Error> {
        let mut lanes = self.0.lanes();
        if lanes.waiting >= WAITING {
            let problem = format!("cannot do this later: {WAITING} works wait already");
            let error = Error::new(Cause::InUse, problem).untouched("It is not done at all");
            return Err(error.advise("Await some of what was asked for before asking for more"));
        }
        if lanes.idle <= lanes.ready.len() && lanes.threads < THREADS + lanes.blocked {
            match self.0.start() {
                Ok(()) => lanes.threads += 1,
                Err(error) if lanes.threads == 0 => {
                    return Err(Error::device("cannot start a thread to do this later", &error));
                }
                // Those that there are do it.
                Err(_) => {}
            }
        }
        lanes.waiting += 1;
        let of_handle = lanes.lanes.entry(lane).or_default();
        of_handle.works.push_back((number, work));
        if of_handle.works.len() == 1 && !of_handle.is_working {
            lanes.ready.push_back(lane);
        }
        drop(lanes);
        self.0.wake.notify_one();
        Ok(())
    }
}

impl Drawer {
    /// Does `work` on a thread of the drawer's, and returns at once: for whoever must not be kept waiting.
    ///
    /// What is asked for through one handle is done in that order, one after the other; what shall not wait for that is asked for through a clone of the
    /// handle. Up to 4 works are done at a time, not counting those that wait for others of the same drawer, and 1,024 may wait. The drawer stays open until they are done.
    ///
    /// # Errors
    /// None at once. When it is awaited: what `work` returns; that it panicked ([`Error::is_own`]); that too much waits already
    /// ([`Error::is_in_use`]); that it was cancelled ([`Error::is_cancelled`]).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>()).unwrap();
    /// # let done: Result<(), velvet_drawer::Error> = pollster::block_on(async {
    /// let piece = Piece { mark: "K-1".into() };
    /// let bowl = drawer.later(move |d| d.insert(piece)).await?;
    /// let count = drawer.later(|d| d.count::<Piece>()).wait()?;
    /// # assert!(count == 1 && bowl.mark == "K-1");
    /// # Ok(()) });
    /// # done.unwrap();
    /// ```
    #[doc(alias = "async")]
    #[track_caller]
    pub fn later<R: Send + 'static>(
        &self,
        work: impl FnOnce(&Drawer) -> Result<R, Error> + Send + 'static,
    ) -> Later<R> {
        let drawer = Drawer::taken_at(Arc::clone(&self.inner), Location::caller());
        let (lane, number) = (self.handle, drawer.handle);
        let place = drawer.inner.place.clone();
        let named = move |error: Error| place.name(error);
        let (mut later, done) = Later::of("cannot do what was to be done later", named, move || work(&drawer));
        let to_do = &self.inner.to_do;
        if self.inner.home.is_forked() {
            later.outcome.finish(Err(self.inner.forked()));
            return later;
        }
        match to_do.put(lane, number, Box::new(done)) {
            Ok(()) => later.place = Some((Arc::clone(&to_do.0), lane, number)),
            Err(error) => later.outcome.finish(Err(self.inner.place.name(error))),
        }
        later
    }
}

impl<R: Send + 'static> Later<R> {
    /// Does `work` on a thread of its own, which begins at once: for what needs no open drawer, such as restoring or removing one. Dropping what is
    /// returned lets it go on.
    ///
    /// # Errors
    /// None at once. When it is awaited: what `work` returns; that it panicked ([`Error::is_own`]); that it was cancelled ([`Error::is_cancelled`]).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Later, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let (path, copy) = (folder.path().join("kiln.drawer"), folder.path().join("copy.drawer"));
    /// # let schema = || Schema::new("kilnbook").record::<Glaze>();
    /// # pollster::block_on(async {
    /// # Drawer::open(&path, schema())?.copy_to(&copy)?;
    /// let set_aside = Later::begin(move || Drawer::restore(path, copy)).await?;
    /// # assert!(set_aside.is_some());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// # }).unwrap();
    /// ```
    pub fn begin(work: impl FnOnce() -> Result<R, Error> + Send + 'static) -> Later<R> {
        Later::begin_named("cannot do this on a thread of its own", |error| error, work)
    }

    /// As [`Later::begin`], for what is done with the file at `path`.
    pub(crate) fn begin_at(
        path: PathBuf,
        doing: &'static str,
        work: impl FnOnce(&Path) -> Result<R, Error> + Send + 'static,
    ) -> Later<R> {
        let file = path.clone();
        let named = move |error: Error| error.untouched("The file is as it was").in_file(&file);
        Later::begin_named(doing, named, move || work(&path))
    }

    fn begin_named(
        doing: &'static str,
        named: impl FnOnce(Error) -> Error + Send + 'static,
        work: impl FnOnce() -> Result<R, Error> + Send + 'static,
    ) -> Later<R> {
        let (later, done) = Later::of(doing, named, work);
        if let Err(error) = thread::Builder::new().name("velvet-later".into()).spawn(done) {
            later.outcome.finish(Err(Error::device("cannot start a thread to do this", &error)));
        }
        later
    }

    /// What stands for `work`, and what does it. `named` names the file in an error that is not that of `work` itself.
    fn of(
        doing: &'static str,
        named: impl FnOnce(Error) -> Error + Send + 'static,
        work: impl FnOnce() -> Result<R, Error> + Send + 'static,
    ) -> (Later<R>, impl FnOnce() + Send + 'static) {
        let (outcome, cancel) = (Arc::<Outcome<Result<R, Error>>>::default(), Cancel::default());
        let progress = Arc::<Mutex<Progress>>::default();
        let later = Later {
            outcome: Arc::clone(&outcome),
            cancel: cancel.clone(),
            progress: Arc::clone(&progress),
            place: None,
        };
        let done = move || {
            let told = move |now: &Progress| progress.lock().clone_from(now);
            let result = if cancel.is_cancelled() {
                // What it holds may be the last handle of a drawer, which whoever awaits it may close then.
                drop(work);
                let error = Error::new(Cause::Cancelled, "it was cancelled before it began");
                Err(named(error.untouched("It was not done at all")))
            } else {
                let work = AssertUnwindSafe(|| cancel.during(|| Progress::told(told, work)));
                catch_unwind(work).unwrap_or_else(|panic| Err(named(Error::of_panic(&*panic).doing(doing))))
            };
            outcome.finish(result);
        };
        (later, done)
    }
}

impl<R> Later<R> {
    /// Waits until it is done.
    ///
    /// # Errors
    /// As [`Drawer::later`]; and within work that was asked for through the same handle before ([`Error::is_nested`]), which this would come after.
    pub fn wait(self) -> Result<R, Error> {
        if !self.is_waited_for(true) {
            return Err(behind_itself());
        }
        let _waits = (!self.is_finished()).then(ui_thread::watched);
        let result = self.outcome.wait();
        self.is_waited_for(false);
        result.unwrap_or_else(|| Err(taken_before()))
    }

    /// Lets the drawer know that the work of this thread waits for this one, or no longer. Says whether it can.
    fn is_waited_for(&self, is_blocked: bool) -> bool {
        self.place.as_ref().is_none_or(|(shared, lane, number)| shared.waits(is_blocked, (*lane, *number)))
    }

    /// Whether it is done, well or not.
    pub fn is_finished(&self) -> bool {
        self.outcome.is_finished()
    }

    /// How far it has come, where what it does tells; see [`Progress`].
    pub fn progress(&self) -> Progress {
        self.progress.lock().clone()
    }

    /// Asks it to end, also in the middle of a long statement. What it has not committed is rolled back, and it fails with
    /// [`Error::is_cancelled`]; what is done already stays done.
    pub fn cancel(&self) {
        self.cancel.cancel();
    }
}

fn behind_itself() -> Error {
    let problem =
        "cannot wait for work that comes after the work that waits for it: both were asked for through one handle";
    Error::new(Cause::Nested, problem).advise("Ask for it with the drawer that the closure is given, or do it directly")
}

fn taken_before() -> Error {
    Error::new(Cause::InUse, "the result was handed out already").advise("Await it once")
}

impl<R> Future for Later<R> {
    type Output = Result<R, Error>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        let polled = self.outcome.poll(context);
        if !self.is_waited_for(polled.is_pending()) {
            return Poll::Ready(Err(behind_itself()));
        }
        polled.map(|result| result.unwrap_or_else(|| Err(taken_before())))
    }
}

impl<R> Drop for Later<R> {
    /// Takes it out of its lane, where it has not begun.
    fn drop(&mut self) {
        let Some((shared, lane, number)) = self.place.take() else { return };
        let mut lanes = shared.lanes();
        let works = lanes.lanes.get_mut(&lane).map(|lane| &mut lane.works);
        let Some(works) = works else { return };
        let Some(at) = works.iter().position(|(of, _)| *of == number) else { return };
        let work = works.remove(at);
        lanes.waiting -= 1;
        // What it holds may be the last handle of the drawer.
        drop(lanes);
        drop(work);
    }
}

impl<R> fmt::Debug for Later<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Later").field("is_finished", &self.is_finished()).finish_non_exhaustive()
    }
}
