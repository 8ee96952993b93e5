//! Writing down what a session does, beside the app and never in its way.
//!
//! A thread of its own notes the beginning once the drawer is open, and then, at most once a second, how much was written. It sleeps
//! while nothing is. What it cannot write is told to the write-ahead log and otherwise let go: the app's own data come first.

use crate::device::running;
use crate::engine::{Connection, Fault, Opener, Participant, SharedWriter, Written};
use crate::events;
use parking_lot::{Condvar, Mutex, MutexGuard};
use serde_json::{Map, Value as Json, json};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};
use velvet_core::ValueRef;
use velvet_core::schema::structure::ATTACHMENT_PART;
use velvet_core::statement::SESSIONS;

/// How long at least between two notes of what was written.
const BETWEEN_NOTES: Duration = Duration::from_secs(1);

/// How long between two attempts to write the beginning.
const BETWEEN_ATTEMPTS: Duration = Duration::from_millis(50);

/// How many of the last times in the background are kept.
const TIMES_KEPT: usize = 50;

/// What is known of a session when it begins.
#[derive(Clone, Debug)]
pub(crate) struct Start {
    pub(crate) opener: Opener,
    pub(crate) app_version: Option<String>,
    pub(crate) schema_version: u32,
    /// What opening came to, where it was more than opening.
    pub(crate) opened: Option<String>,
    /// How many sessions the file keeps.
    pub(crate) kept: u32,
}

/// Writes down one session.
pub(crate) struct Recorder {
    shared: Arc<Session>,
    thread: Mutex<Option<JoinHandle<()>>>,
}

struct Session {
    start: Start,
    began_at: String,
    state: Mutex<Recorded>,
    wake: Condvar,
    /// Whether the main file says that the session began.
    is_marked: AtomicBool,
    /// Held while the write-ahead log is merged to mark the main file, which only one connection does at a time.
    marking: Mutex<()>,
}

#[derive(Default)]
struct Recorded {
    /// The session's number, once the beginning is written.
    number: Option<i64>,
    /// How many rows of each table were inserted, changed and removed.
    wrote: BTreeMap<String, [u64; 3]>,
    /// Something was written since the last note.
    news: bool,
    background: Vec<(String, Option<String>)>,
    ended: bool,
    /// Whether the end is not to be noted.
    abandoned: bool,
    /// When it was noted last what was written.
    noted: Option<Instant>,
    /// When it was tried last to mark the main file.
    tried_to_mark: Option<Instant>,
}

impl Recorded {
    /// How long it is until something may be noted again.
    fn pause(&self) -> Duration {
        self.noted.map_or(Duration::ZERO, |noted| BETWEEN_NOTES.saturating_sub(noted.elapsed()))
    }
}

fn now() -> String {
    format!("{:.9}", jiff::Timestamp::now())
}

impl Recorder {
    /// Of a session that begins now. Nothing is written yet.
    pub(crate) fn new(start: Start) -> Recorder {
        let (state, wake) = (Mutex::default(), Condvar::new());
        let shared = Arc::new(Session {
            began_at: now(),
            start,
            state,
            wake,
            is_marked: AtomicBool::new(false),
            marking: Mutex::default(),
        });
        Recorder { shared, thread: Mutex::default() }
    }

    /// Begins to write it down, beside the app; and does what else the app need not wait for.
    pub(crate) fn begin(&self, writer: SharedWriter, also: impl FnOnce() + Send + 'static) {
        let works = Arc::clone(&self.shared);
        let run = move || {
            works.run(&writer, also);
        };
        match thread::Builder::new().name("velvet-session".into()).spawn(run) {
            Ok(thread) => *self.thread.lock() = Some(thread),
            Err(error) => events::not_noted(&self.shared.start.opener.path, &error.to_string()),
        }
    }

    /// What hears how many rows were written.
    pub(crate) fn hears(&self) -> impl Fn(&[Written]) + Send + Sync + 'static {
        let shared = Arc::clone(&self.shared);
        move |written| {
            let mut state = shared.state();
            // What the engine keeps for itself, and how many parts an attachment has, says nothing to anybody.
            let is_told = |w: &&Written| w.table != ATTACHMENT_PART && !w.table.starts_with("sqlite_");
            for w in written.iter().filter(is_told) {
                let counts = [w.inserted, w.changed, w.removed];
                if counts != [0; 3] {
                    let known = state.wrote.entry(w.table.clone()).or_default();
                    known.iter_mut().zip(counts).for_each(|(known, more)| *known += more);
                }
            }
            if !state.news {
                state.news = true;
                shared.wake.notify_all();
            }
        }
    }

    /// Notes the time. Says whether that is news.
    pub(crate) fn went_to_background(&self) -> bool {
        let times = &mut self.shared.state().background;
        let is_there = times.last().is_some_and(|(_, back)| back.is_none());
        if !is_there {
            times.push((now(), None));
            let too_many = times.len().saturating_sub(TIMES_KEPT);
            times.drain(..too_many);
        }
        !is_there
    }

    /// Notes the time. Says whether that is news.
    pub(crate) fn came_back(&self) -> bool {
        match self.shared.state().background.last_mut() {
            Some((_, back @ None)) => {
                *back = Some(now());
                true
            }
            _ => false,
        }
    }

    /// How many rows were inserted, changed and removed, in all tables.
    pub(crate) fn rows(&self) -> [u64; 3] {
        let state = self.shared.state();
        [0, 1, 2].map(|kind| state.wrote.values().map(|counts| counts[kind]).sum())
    }

    /// Whether something was written that was not noted yet.
    pub(crate) fn has_news(&self) -> bool {
        self.shared.state().news
    }

    /// Writes what is known of the session now, and its beginning before that. The caller has the connection that writes.
    pub(crate) fn note(&self, connection: &Connection) -> Result<(), Fault> {
        self.shared.note(connection, false)
    }

    /// Sees to it that the main file says that the session began, before the app's first write is told to be safe: so that a copy of the
    /// main file alone, without that write, says so. The caller has the connection that writes. Where another process writes just
    /// now, or reads an older state, it is tried again with a later write.
    #[inline]
    pub(crate) fn mark(&self, connection: &Connection) {
        if !self.shared.is_marked.load(Ordering::Acquire) {
            self.shared.mark(connection);
        }
    }

    /// Waits until the thread beside the app has nothing open, and lets it open nothing. The caller has the connection that writes.
    pub(crate) fn alone(&self) -> Quiet<'_> {
        let marking = self.shared.marking.lock();
        Quiet { is_marked: &self.shared.is_marked, _marking: marking }
    }

    /// The number of the session; its beginning is written where it is not yet. The caller has the connection that writes.
    pub(crate) fn number(&self, connection: &Connection) -> Result<i64, Fault> {
        self.shared.number(connection)
    }

    /// Writes nothing more, and no end: the file is not at its path any more, and what it held has been kept. The caller has the connection that writes.
    pub(crate) fn abandon(&self) {
        let mut state = self.shared.state();
        (state.ended, state.abandoned) = (true, true);
        self.shared.wake.notify_all();
    }

    /// Ends the session: writes nothing more beside the app, and that it was closed. The caller has the connection that writes, and
    /// closes it next.
    pub(crate) fn end(&self, writer: &SharedWriter) {
        self.shared.state().ended = true;
        self.shared.wake.notify_all();
        // Opening failed, in what fills a new file, before it began.
        let Some(thread) = self.thread.lock().take() else { return };
        // It panics only where the engine does; then there is nothing more to note.
        let _ = thread.join();
        if !self.shared.state().abandoned {
            self.shared.tell_of(writer.lend(|connection| self.shared.note(connection, true)));
        }
    }
}

impl Participant for Recorder {
    /// Writes what is known of the session where that is due: the transaction may last until the app is killed.
    fn prepares(&self, connection: &Connection) -> Result<(), Fault> {
        let is_due = {
            let state = self.shared.state();
            state.news && state.pause().is_zero()
        };
        if is_due {
            self.shared.tell_of(Some(self.shared.at_once(connection, || self.shared.note(connection, false))));
        }
        Ok(())
    }
}

/// As long as it is held, the thread beside the app opens nothing.
pub(crate) struct Quiet<'r> {
    is_marked: &'r AtomicBool,
    _marking: MutexGuard<'r, ()>,
}

impl Quiet<'_> {
    /// All that was noted is in the main file now.
    pub(crate) fn is_merged(&self) {
        self.is_marked.store(true, Ordering::Release);
    }
}

impl Session {
    fn state(&self) -> MutexGuard<'_, Recorded> {
        self.state.lock()
    }

    fn tell_of(&self, result: Option<Result<(), Fault>>) {
        if let Some(Err(fault)) = result {
            events::not_noted(&self.start.opener.path, &fault.message);
        }
    }

    fn run(&self, writer: &SharedWriter, also: impl FnOnce()) {
        let mut also = Some(also);
        if self.state().ended {
            return;
        }
        let mut is_merged = false;
        loop {
            let begun = writer.lend(|connection| self.at_once(connection, || self.number(connection).map(drop)));
            // The connection may be closed to rest; then what there is was noted before.
            let has_begun = matches!(begun, Some(Ok(())) | None);
            self.tell_of(begun);
            if has_begun && !is_merged {
                if !self.is_marked.load(Ordering::Acquire) {
                    self.tell_of(Some(self.merge()));
                }
                is_merged = true;
                also.take().into_iter().for_each(|also| also());
            }
            let mut state = self.state();
            if !has_begun {
                // Another process writes just now, or the device is full: the app must not wait for this.
                state.noted = (Instant::now() + BETWEEN_ATTEMPTS).checked_sub(BETWEEN_NOTES);
                state.news = true;
            }
            while !(state.ended || state.news && state.pause().is_zero()) {
                let pause = state.pause();
                if state.news {
                    self.wake.wait_for(&mut state, pause);
                } else {
                    self.wake.wait(&mut state);
                }
            }
            if state.ended {
                return;
            }
            drop(state);
            let noted = writer.lend(|connection| self.at_once(connection, || self.note(connection, false)));
            if noted.is_none() {
                // What could not be noted before it was closed is noted after the next write.
                self.state().news = false;
            }
            self.tell_of(noted);
        }
    }

    /// Runs `work` without waiting for other processes, for which the app would have to wait too. What was not noted is news still.
    fn at_once(&self, connection: &Connection, work: impl FnOnce() -> Result<(), Fault>) -> Result<(), Fault> {
        if self.state().abandoned {
            return Ok(());
        }
        let result = connection.without_lock_timeout(work);
        if result.is_err() {
            let mut state = self.state();
            (state.news, state.noted) = (true, Some(Instant::now()));
        }
        result
    }

    /// Merges the write-ahead log into the main file as far as nobody reads it, so that a copy of the main file alone can be told from a
    /// whole one: it says that a session began, and not that it ended.
    fn merge(&self) -> Result<(), Fault> {
        let _alone = self.marking.lock();
        if self.is_marked.load(Ordering::Acquire) {
            return Ok(());
        }
        let connection = self.start.opener.writer()?;
        self.is_marked.fetch_or(connection.checkpoint()?, Ordering::AcqRel);
        Ok(())
    }

    #[cold]
    fn mark(&self, connection: &Connection) {
        let due = {
            let mut state = self.state();
            let is_due = state.tried_to_mark.is_none_or(|tried| tried.elapsed() >= BETWEEN_NOTES);
            if is_due {
                state.tried_to_mark = Some(Instant::now());
            }
            is_due
        };
        let _alone = self.marking.lock();
        if due && !self.is_marked.load(Ordering::Acquire) {
            let mark = || {
                self.number(connection)?;
                self.is_marked.fetch_or(connection.checkpoint()?, Ordering::AcqRel);
                Ok(())
            };
            self.tell_of(Some(self.at_once(connection, mark)));
        }
    }

    /// The number of this session; writes its beginning where that is not written yet.
    fn number(&self, connection: &Connection) -> Result<i64, Fault> {
        let known = self.state().number;
        if let Some(number) = known {
            return Ok(number);
        }
        let number = lightly(connection, || self.write_beginning(connection))?;
        self.state().number = Some(number);
        Ok(number)
    }

    fn write_beginning(&self, connection: &Connection) -> Result<i64, Fault> {
        let Start { app_version, schema_version, opened, kept, .. } = &self.start;
        let text = format!(
            "INSERT INTO {SESSIONS} (began_at, app_version, schema_version, opened, process, process_began, state, noted_at, \
             wrote, background) VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'foreground', ?1, '{{}}', '[]')"
        );
        let values = [
            (&self.began_at).into(),
            app_version.as_ref().into(),
            (*schema_version).into(),
            opened.as_ref().into(),
            std::process::id().into(),
            running::began(i64::from(std::process::id())).into(),
        ];
        connection.execute(&text, values)?;
        let number = connection.last_row_number();
        for (session, process, process_began) in still_open(connection, number)? {
            let began = running::began(process);
            // Where the system does not tell, the session says itself that it is there, with its next note.
            if began.is_none() || (process_began.is_some() && began != process_began) {
                let text = format!("UPDATE {SESSIONS} SET found_open_by = ?2 WHERE session = ?1");
                connection.execute(&text, [session.into(), number.into()])?;
            }
        }
        let too_old = [(number - i64::from(*kept)).into()];
        connection.execute(&format!("DELETE FROM {SESSIONS} WHERE session <= ?1"), too_old)?;
        count_in_header(connection)?;
        Ok(number)
    }

    /// Writes what is known of the session now.
    fn note(&self, connection: &Connection, closed: bool) -> Result<(), Fault> {
        let number = self.number(connection)?;
        let (word, wrote, background) = {
            let mut state = self.state();
            (state.news, state.noted) = (false, Some(Instant::now()));
            let away = state.background.last().is_some_and(|(_, back)| back.is_none());
            let word = if closed {
                "closed"
            } else if away {
                "background"
            } else {
                "foreground"
            };
            let times: Vec<Vec<&String>> = state
                .background
                .iter()
                .map(|(from, to)| [Some(from), to.as_ref()].into_iter().flatten().collect())
                .collect();
            (word, told(&state.wrote), json!(times).to_string())
        };
        let text = format!(
            "UPDATE {SESSIONS} SET state = ?2, noted_at = ?3, wrote = ?4, background = ?5, found_open_by = NULL WHERE session = ?1"
        );
        lightly(connection, || {
            let at = now();
            let values = [number.into(), word.into(), (&at).into(), (&wrote).into(), (&background).into()];
            connection.execute(&text, values)?;
            count_in_header(connection)
        })
    }
}

/// Writes the header, which counts how often it was written: by that a write-ahead log can be told from one of another moment.
fn count_in_header(connection: &Connection) -> Result<(), Fault> {
    // A newer app may have upgraded the file meanwhile.
    connection.set_version(connection.version()?)
}

/// How many rows were written, by table, as JSON.
fn told(wrote: &BTreeMap<String, [u64; 3]>) -> String {
    let count = |counts: &[u64; 3]| {
        let counts = ["inserted", "changed", "removed"].into_iter().zip(*counts).filter(|(_, n)| *n > 0);
        Json::Object(counts.map(|(word, n)| (word.to_owned(), json!(n))).collect())
    };
    Json::Object(wrote.iter().map(|(table, counts)| (table.clone(), count(counts))).collect::<Map<_, _>>()).to_string()
}

/// The other sessions that were not closed nor found open before: their numbers and processes.
fn still_open(connection: &Connection, number: i64) -> Result<Vec<(i64, i64, Option<i64>)>, Fault> {
    let text = format!(
        "SELECT session, process, process_began FROM {SESSIONS} WHERE state <> 'closed' AND found_open_by IS NULL AND session <> ?1"
    );
    connection.list(&text, [number.into()], |row| {
        let began = if let ValueRef::Integer(began) = row.value(2) { Some(began) } else { None };
        (row.integer(0), row.integer(1), began)
    })
}

/// Runs `work` in a transaction that is safe from a kill, but does not wait until it is safe from a loss of power.
fn lightly<R>(connection: &Connection, work: impl FnOnce() -> Result<R, Fault>) -> Result<R, Fault> {
    connection.without_sync(|| {
        let transaction = connection.transaction()?;
        let result = work()?;
        transaction.commit().map(|()| result)
    })
}
