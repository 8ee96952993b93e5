//! Following what is stored: commits say which rows they wrote, and one thread works out what follows from that for whoever wants to know.
//!
//! Each follower has what is new for it: rows of its table, or anything. While nothing is new, the thread sleeps; it ends with the last follower.

use super::{Inner, Scope};
use crate::engine::{WhichRows, Written};
use crate::error::Error;
use crate::work::cancel::Cancel;
use parking_lot::{Condvar, Mutex, MutexGuard};
use std::any::{Any, TypeId};
use std::collections::{BTreeSet, HashMap};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Weak};
use std::thread::{self, ThreadId};
use std::time::{Duration, Instant};
use velvet_core::Value;

/// After a result was worked out, the next one waits this long: a frame of a screen. While commits go on coming, twice as long each time.
const PAUSE: Duration = Duration::from_millis(16);

/// The longest such pause.
const LONGEST_PAUSE: Duration = Duration::from_millis(100);

/// After a failure it is tried again after this time, then after twice that, and so on.
const RETRY: Duration = Duration::from_millis(100);

/// The longest such time.
const LONGEST_RETRY: Duration = Duration::from_secs(5);

/// How long it is at least until others are looked at again: looking all the time would leave none for working anything out.
const BETWEEN_LOOKS: Duration = Duration::from_millis(1);

/// While another thread writes, how long to wait until looking again whether it has ended.
const WRITER_IS_BUSY: Duration = Duration::from_millis(10);

/// Where a transaction goes on as following begins, how long its end is waited for before anything is read: it would be read twice.
const WRITER_COMES_BACK: Duration = Duration::from_millis(100);

/// How long a commit is waited for that is in the middle of being made, before all is read.
const COMMIT_TAKES: Duration = Duration::from_millis(50);

/// How many rows are remembered one by one. Of more, it is remembered that they may be any.
const MOST_ROWS: usize = 4_096;

/// Works out a result, and hands it to whoever waits for it.
pub(crate) trait Subscriber: Any + Send + Sync {
    /// Works the result out anew after `news`, in one state of the file. Returns the tables that it depends on.
    fn step(&self, scope: Scope<'_>, news: &Changes) -> Result<BTreeSet<String>, Error>;

    /// Whether the tables that it depends on may be others each time.
    fn may_read_others(&self) -> bool;

    /// The result could not be worked out. It will be tried again.
    fn failed(&self, error: Error);

    /// Nothing will follow any more: the drawer is closed.
    fn end(&self);
}

/// What is new for a follower.
#[derive(Debug)]
pub(crate) enum Changes {
    /// These rows of its only table were written, and may have been.
    Rows(BTreeSet<i64>),
    /// Anything.
    All,
}

/// What makes two followers the same: what they make of the rows of a statement with these values.
pub(crate) type Share = (TypeId, String, Vec<Value>);

/// What is followed of one drawer.
#[derive(Default)]
pub(super) struct Following(Arc<Hub>);

#[derive(Default)]
struct Hub {
    state: Mutex<HubState>,
    /// Wakes the thread, and whoever waits for it to be idle.
    wake: Condvar,
}

#[derive(Default)]
struct HubState {
    followed: Vec<Registered>,
    next_number: u64,
    /// How many followers depend on each table, and how many may depend on any.
    tables: HashMap<String, usize>,
    of_any_table: usize,
    thread: Option<ThreadId>,
    /// Whether the thread has the drawer in hand just now.
    is_working: bool,
    /// No longer, because the drawer is being closed.
    is_over: bool,
    /// Whether commits are heard of already.
    is_listening: bool,
    /// Whether commits tell of each row that goes.
    tells_of_each_row: bool,
    /// The engine's count of the commits of others, and when to look at it again.
    others: i64,
    look_at_others: Option<Instant>,
    /// Whether a transaction of this drawer holds the lock to write, with all heard that was committed before it.
    is_writing_alone: bool,
    /// How many such transactions began.
    begun_alone: u64,
    /// When to try again to listen.
    listen_again: Option<Instant>,
    /// Until then, nothing is worked out before listening began.
    listens_first_until: Option<Instant>,
    /// Whether the app is where nobody sees results.
    is_quiet: bool,
}

struct Registered {
    number: u64,
    follower: Arc<dyn Subscriber>,
    share: Option<Share>,
    /// The tables it depends on; nothing while that is not known.
    tables: Option<BTreeSet<String>>,
    news: Option<Changes>,
    watching: usize,
    paused: usize,
    cancel: Cancel,
    /// When it was worked out last, and how long the next one waits from then on.
    last: Option<Instant>,
    pause: Duration,
    /// How long it took last after news of rows, and after any other: at most half of the time is spent on it.
    took_of_rows: Duration,
    took_of_all: Duration,
    failures: u32,
    retry: Option<Instant>,
}

/// Until it is dropped, nobody commits anything.
pub(super) struct WritesAlone<'f>(&'f Hub);

impl Drop for WritesAlone<'_> {
    fn drop(&mut self) {
        self.0.state().is_writing_alone = false;
    }
}

/// One that follows, until it is dropped.
pub(crate) struct Subscription {
    shared: Arc<Hub>,
    number: u64,
    is_paused: AtomicBool,
    is_stopped: AtomicBool,
}

impl Registered {
    fn is_active(&self) -> bool {
        self.watching > self.paused
    }

    fn hear_all(&mut self) {
        self.news = Some(Changes::All);
        self.retry = None;
    }

    /// Says whether it has something new only now.
    fn hear(&mut self, written: &Written, tells_of_each_row: bool) -> bool {
        let is_news = self.news.is_none() || self.retry.is_some();
        self.retry = None;
        let is_of_rows = tells_of_each_row && self.tables.as_ref().is_some_and(|tables| tables.len() == 1);
        let known = match self.news.take() {
            Some(Changes::Rows(known)) => Some(known),
            Some(Changes::All) => None,
            None => Some(BTreeSet::new()),
        };
        self.news = Some(match (&written.rows, known) {
            (WhichRows::These(rows), Some(mut known)) if is_of_rows && known.len() + rows.len() <= MOST_ROWS => {
                known.extend(rows.iter().map(|(row, _)| row));
                Changes::Rows(known)
            }
            _ => Changes::All,
        });
        is_news && self.is_active()
    }

    /// When it is due; nothing where there is nothing new.
    fn due(&self, now: Instant) -> Option<Instant> {
        let took = match self.news.as_ref().filter(|_| self.is_active())? {
            Changes::Rows(_) => self.took_of_rows,
            Changes::All => self.took_of_all,
        };
        let rested = self.last.map_or(now, |last| last + self.pause.max(took));
        Some(self.retry.map_or(rested, |retry| retry.max(rested)))
    }
}

impl HubState {
    fn count(&mut self, tables: Option<&BTreeSet<String>>, more: bool) {
        let Some(tables) = tables else {
            self.of_any_table = if more { self.of_any_table + 1 } else { self.of_any_table - 1 };
            return;
        };
        for table in tables {
            let count = self.tables.entry(table.clone()).or_default();
            *count = if more { *count + 1 } else { *count - 1 };
            if *count == 0 {
                self.tables.remove(table);
            }
        }
    }

    fn depends_on(&mut self, number: u64, tables: Option<BTreeSet<String>>) {
        let Some(at) = self.followed.iter().position(|f| f.number == number) else { return };
        let before = self.followed[at].tables.take();
        self.count(before.as_ref(), false);
        self.count(tables.as_ref(), true);
        self.followed[at].tables = tables;
    }

    /// Hears the count of the commits of others, and says whether there are new ones. What they wrote is not known.
    fn hear_of_others(&mut self, count: i64) -> bool {
        let is_news = count != self.others;
        if is_news {
            self.others = count;
            self.followed.iter_mut().for_each(Registered::hear_all);
        }
        is_news
    }

    /// Says whether there is something to do that there was not before.
    fn hear(&mut self, written: &[Written]) -> bool {
        let mut is_news = false;
        for written in written.iter().filter(|w| !w.is_nothing()) {
            if self.of_any_table == 0 && !self.tables.contains_key(&written.table) {
                continue;
            }
            let depends = |f: &&mut Registered| f.tables.as_ref().is_none_or(|tables| tables.contains(&written.table));
            for followed in self.followed.iter_mut().filter(depends) {
                is_news |= followed.hear(written, self.tells_of_each_row);
            }
        }
        is_news
    }
}

impl Hub {
    fn state(&self) -> MutexGuard<'_, HubState> {
        self.state.lock()
    }

    fn heard(&self, written: &[Written]) {
        if self.state().hear(written) {
            self.wake.notify_all();
        }
    }
}

/// What the thread does next.
enum Job {
    Listen,
    LookAtOthers,
    Step { number: u64, follower: Arc<dyn Subscriber>, news: Changes, cancel: Cancel },
}

impl Following {
    /// Lets `inner` be followed, by the follower that is there for the same thing, or by a new one.
    pub(super) fn follow(
        &self,
        inner: &Arc<Inner>,
        share: Option<Share>,
        make: impl FnOnce() -> Arc<dyn Subscriber>,
    ) -> Result<(Arc<dyn Subscriber>, Subscription), Error> {
        let mut state = self.0.state();
        state.is_over = false;
        let (is_paused, is_stopped) = Default::default();
        let ticket = |number| Subscription { shared: Arc::clone(&self.0), number, is_paused, is_stopped };
        if let Some(same) = state.followed.iter_mut().find(|f| share.is_some() && f.share == share) {
            same.watching += 1;
            let found = (Arc::clone(&same.follower), ticket(same.number));
            self.0.wake.notify_all();
            return Ok(found);
        }
        if state.thread.is_none() {
            let (shared, inner) = (Arc::clone(&self.0), Arc::downgrade(inner));
            let thread = thread::Builder::new().name("velvet-live".into()).spawn(move || shared.run(&inner));
            let thread = thread.map_err(|e| Error::device("cannot start a thread to follow what is stored", &e))?;
            state.thread = Some(thread.thread().id());
        }
        state.next_number += 1;
        let number = state.next_number;
        let follower = make();
        state.followed.push(Registered {
            number,
            follower: Arc::clone(&follower),
            share,
            tables: None,
            news: Some(Changes::All),
            watching: 1,
            paused: 0,
            cancel: Cancel::default(),
            last: None,
            pause: PAUSE,
            took_of_rows: Duration::ZERO,
            took_of_all: Duration::ZERO,
            failures: 0,
            retry: None,
        });
        state.of_any_table += 1;
        drop(state);
        self.0.wake.notify_all();
        Ok((follower, ticket(number)))
    }

    /// Works nothing out while the app is where nobody sees it. Afterwards all is read again: what others committed while the file was closed is not counted.
    pub(super) fn be_quiet(&self, is_quiet: bool) {
        let mut state = self.0.state();
        if state.is_quiet && !is_quiet {
            state.followed.iter_mut().for_each(Registered::hear_all);
        }
        state.is_quiet = is_quiet;
        drop(state);
        self.0.wake.notify_all();
    }

    /// Whether the app is where nobody sees results.
    pub(super) fn is_quiet(&self) -> bool {
        self.0.state().is_quiet
    }

    /// A transaction holds the lock to write, and others committed this often before it. Nothing where nobody listens.
    pub(super) fn writes_alone(&self, count_of_others: impl FnOnce() -> i64) -> Option<WritesAlone<'_>> {
        let is_followed = |state: &HubState| state.is_listening && !state.followed.is_empty();
        if !is_followed(&self.0.state()) {
            return None;
        }
        let count = count_of_others();
        let mut state = self.0.state();
        if state.hear_of_others(count) {
            self.0.wake.notify_all();
        }
        state.is_writing_alone = true;
        state.begun_alone += 1;
        Some(WritesAlone(&self.0))
    }

    /// How many results are followed.
    pub(super) fn len(&self) -> usize {
        self.0.state().followed.len()
    }

    /// Waits until nothing is being worked out any more, but no longer than until then.
    pub(super) fn settle(&self, until: Instant) {
        let mut state = self.0.state();
        while state.is_working && state.thread != Some(thread::current().id()) {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            self.0.wake.wait_for(&mut state, left);
        }
    }

    /// Ends all following, unless a handle came meanwhile, and waits until the thread has let go of the drawer.
    pub(super) fn end(&self, is_in_use: impl FnOnce() -> bool) {
        let mut state = self.0.state();
        if is_in_use() {
            return;
        }
        state.is_over = true;
        state.tables.clear();
        state.of_any_table = 0;
        let ended = std::mem::take(&mut state.followed);
        ended.iter().for_each(|followed| followed.cancel.cancel());
        self.0.wake.notify_all();
        while state.is_working && state.thread != Some(thread::current().id()) {
            self.0.wake.wait(&mut state);
        }
        drop(state);
        ended.iter().for_each(|followed| followed.follower.end());
    }
}

impl Hub {
    fn run(self: Arc<Self>, drawer: &Weak<Inner>) {
        while let Some(job) = self.next() {
            if let Some(inner) = drawer.upgrade() {
                self.work(&inner, job);
            }
            // Whoever closes the drawer waits until it is let go of.
            self.state().is_working = false;
            self.wake.notify_all();
        }
    }

    /// Waits until there is something to do; nothing once nothing is followed any more.
    fn next(&self) -> Option<Job> {
        let mut state = self.state();
        loop {
            if state.is_over || state.followed.is_empty() {
                state.thread = None;
                return None;
            }
            let now = Instant::now();
            let mut earliest: Option<Instant> = None;
            let mut is_due = |at: Option<Instant>| {
                earliest = earliest.into_iter().chain(at).min();
                at.is_some_and(|at| at <= now)
            };
            let is_any_active = !state.is_quiet && state.followed.iter().any(Registered::is_active);
            let listen = (!state.is_listening && is_any_active).then(|| state.listen_again.unwrap_or(now));
            let others = state.look_at_others.filter(|_| is_any_active);
            let job = if is_due(listen) {
                Some(Job::Listen)
            } else if is_due(others) {
                Some(Job::LookAtOthers)
            } else {
                let is_quiet = state.is_quiet;
                let first = state.listens_first_until.unwrap_or(now);
                let due = state.followed.iter_mut().filter(|f| !is_quiet && is_due(f.due(now).map(|at| at.max(first))));
                due.min_by_key(|f| f.last).map(|next| {
                    let news = next.news.take().unwrap_or(Changes::All);
                    let (follower, cancel) = (Arc::clone(&next.follower), next.cancel.clone());
                    Job::Step { number: next.number, follower, news, cancel }
                })
            };
            if let Some(job) = job {
                if let Job::Step { number, follower, .. } = &job
                    && follower.may_read_others()
                {
                    // Until it is known what it reads this time, it may be anything.
                    let number = *number;
                    state.depends_on(number, None);
                }
                state.is_working = true;
                return Some(job);
            }
            match earliest {
                Some(at) => _ = self.wake.wait_for(&mut state, at - now),
                None => self.wake.wait(&mut state),
            }
        }
    }

    fn work(self: &Arc<Self>, inner: &Inner, job: Job) {
        match job {
            Job::Listen => self.listen(inner),
            Job::LookAtOthers => self.look_at_others(inner),
            Job::Step { number, follower, news, cancel } => self.step(inner, number, &*follower, news, &cancel),
        }
    }

    fn listen(self: &Arc<Self>, inner: &Inner) {
        let hears = Arc::clone(self);
        let listens = inner.pool().listen(move |written| hears.heard(written));
        let others = inner.pool().count_of_others().and_then(Result::ok);
        let tells_of_each_row = inner.reading(|scope| Ok(scope.connection.tells_of_each_row()?)).unwrap_or_default();
        let mut state = self.state();
        let again = match listens {
            Some(Ok(())) => None,
            Some(Err(_)) => Some(RETRY),
            None => Some(WRITER_IS_BUSY),
        };
        if let Some(again) = again {
            let now = Instant::now();
            state.listen_again = Some(now + again);
            state.listens_first_until.get_or_insert(now + WRITER_COMES_BACK);
            return;
        }
        state.listens_first_until = None;
        state.is_listening = true;
        state.tells_of_each_row = tells_of_each_row;
        // Where it is not known, the first look at it takes it for news.
        state.others = others.unwrap_or(i64::MIN);
        state.look_at_others = inner.in_effect().others_within.map(|_| Instant::now());
        // What was worked out before may have missed something.
        state.followed.iter_mut().filter(|f| f.last.is_some()).for_each(Registered::hear_all);
    }

    fn look_at_others(&self, inner: &Inner) {
        let within = inner.in_effect().others_within.unwrap_or(LONGEST_RETRY);
        let count = inner.pool().count_of_others();
        let mut state = self.state();
        let wait = if count.is_some() { within } else { WRITER_IS_BUSY.min(within) };
        state.look_at_others = Some(Instant::now() + wait.max(BETWEEN_LOOKS));
        // Where it cannot be told, reading says why.
        if let Some(count) = count {
            state.hear_of_others(count.unwrap_or(i64::MIN));
        }
    }

    /// What is new in the state of the file that is being read now: a commit is in the file a moment before it is heard of, and one of others until they are
    /// looked at. Where only the rows were asked for that are known, the result would be of no moment.
    fn complete(&self, inner: &Inner, number: u64, news: Changes) -> Changes {
        let Changes::Rows(mut rows) = news else { return Changes::All };
        let until = Instant::now() + COMMIT_TAKES;
        let begun_before = self.state().begun_alone;
        loop {
            // Whoever has the connection that writes has told of its commits.
            let others = inner.pool().count_of_others();
            let mut state = self.state();
            match others {
                Some(count) => _ = state.hear_of_others(count.unwrap_or(i64::MIN)),
                None if state.is_writing_alone || state.begun_alone != begun_before => (),
                None if Instant::now() >= until => return Changes::All,
                None => {
                    self.wake.wait_for(&mut state, BETWEEN_LOOKS);
                    continue;
                }
            }
            // It stays new: some of it may have come after that state.
            return match state.followed.iter().find(|f| f.number == number).and_then(|f| f.news.as_ref()) {
                Some(Changes::All) => Changes::All,
                Some(Changes::Rows(more)) => {
                    rows.extend(more);
                    Changes::Rows(rows)
                }
                None => Changes::Rows(rows),
            };
        }
    }

    fn step(&self, inner: &Inner, number: u64, follower: &dyn Subscriber, news: Changes, cancel: &Cancel) {
        let begun = Instant::now();
        let mut is_of_rows = false;
        let step = || {
            inner.viewing(|scope| {
                let news = self.complete(inner, number, news);
                is_of_rows = matches!(news, Changes::Rows(_));
                scope.connection.until_cancelled(cancel, || follower.step(scope, &news))
            })
        };
        let result = catch_unwind(AssertUnwindSafe(step)).unwrap_or_else(|panic| {
            Err(inner.place.name(Error::of_panic(&*panic).doing("cannot follow what is stored")))
        });
        let ended = Instant::now();
        let mut state = self.state();
        if let Ok(tables) = &result {
            state.depends_on(number, Some(tables.clone()));
        }
        // It may be followed no longer.
        let Some(followed) = state.followed.iter_mut().find(|f| f.number == number) else { return };
        let goes_on = followed.last.is_some_and(|last| begun - last < followed.pause * 2);
        followed.pause = if goes_on { (followed.pause * 2).min(LONGEST_PAUSE) } else { PAUSE };
        *if is_of_rows { &mut followed.took_of_rows } else { &mut followed.took_of_all } = ended - begun;
        followed.last = Some(ended);
        match result {
            Ok(_) => followed.failures = 0,
            Err(error) => {
                let wait = (RETRY * 2_u32.saturating_pow(followed.failures)).min(LONGEST_RETRY);
                followed.news = Some(Changes::All);
                // The file will not come back by itself.
                let is_lasting = error.is_displaced() || error.is_newer_version();
                followed.retry = Some(if is_lasting { ended + Duration::from_secs(86_400) } else { ended + wait });
                followed.failures = (followed.failures + 1).min(16);
                if followed.failures == 1 {
                    drop(state);
                    follower.failed(error);
                }
            }
        }
    }
}

impl Subscription {
    /// Changes what is known of the follower, unless this one has stopped following it; with `stops`, it has from now on. Threads that have clones of one switch may do this at once.
    fn change(&self, stops: bool, change: impl FnOnce(&mut Registered)) {
        let mut state = self.shared.state();
        let was_stopped = if stops { self.is_stopped.swap(true, Ordering::AcqRel) } else { self.is_stopped() };
        let at = state.followed.iter().position(|f| f.number == self.number);
        let Some(at) = at.filter(|_| !was_stopped) else { return };
        change(&mut state.followed[at]);
        if state.followed[at].watching == 0 {
            let followed = state.followed.swap_remove(at);
            state.count(followed.tables.as_ref(), false);
            followed.cancel.cancel();
        }
        drop(state);
        self.shared.wake.notify_all();
    }

    /// Follows no longer; what is being worked out for it alone ends at once.
    pub(crate) fn stop(&self) {
        self.change(true, |followed| {
            followed.watching -= 1;
            followed.paused -= usize::from(self.is_paused());
        });
    }

    /// Whether to work nothing out for it just now.
    pub(crate) fn pause(&self, is_paused: bool) {
        self.change(false, |followed| {
            if self.is_paused.swap(is_paused, Ordering::AcqRel) != is_paused {
                followed.paused = if is_paused { followed.paused + 1 } else { followed.paused - 1 };
            }
        });
    }

    pub(crate) fn is_paused(&self) -> bool {
        self.is_paused.load(Ordering::Acquire)
    }

    pub(crate) fn is_stopped(&self) -> bool {
        self.is_stopped.load(Ordering::Acquire)
    }
}

impl Drop for Subscription {
    fn drop(&mut self) {
        self.stop();
    }
}

impl Inner {
    /// Lets this drawer be followed; see [`Following::follow`].
    pub(crate) fn follow(
        self: &Arc<Self>,
        share: Option<Share>,
        make: impl FnOnce() -> Arc<dyn Subscriber>,
    ) -> Result<(Arc<dyn Subscriber>, Subscription), Error> {
        if self.home.is_forked() {
            return Err(self.forked());
        }
        self.following.follow(self, share, make)
    }

    pub(super) fn end_following(&self) {
        if !self.home.is_forked() {
            self.following.end(|| !self.open_handles().is_empty());
        }
    }
}
