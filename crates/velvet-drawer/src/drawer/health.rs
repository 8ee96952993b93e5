//! How a drawer fares: what an app can show, or send home.

use super::{Drawer, OpenRead};
use crate::engine::{Course, Participant};
use crate::error::Error;
use jiff::Timestamp;
use serde::{Serialize, Serializer};
use std::fmt::Display;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Duration;

/// How a drawer has fared since it was opened: counts, times and sizes. Nothing of what is stored is in it.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Health {
    /// Since when it is open.
    #[serde(serialize_with = "text")]
    pub since: Timestamp,
    /// The transactions that were committed.
    pub commits: u64,
    /// Those that failed, or were given up.
    pub failed: u64,
    /// The rows that were inserted, changed and removed, where the session is kept of that.
    pub rows: Option<[u64; 3]>,
    /// How long transactions took in all, from their begin to their commit.
    #[serde(serialize_with = "seconds")]
    pub writing: Duration,
    /// How long whoever writes waited for others in all.
    #[serde(serialize_with = "seconds")]
    pub waiting: Duration,
    /// How long somebody waited at most.
    #[serde(serialize_with = "seconds")]
    pub longest_wait: Duration,
    /// The bytes of the file, once everything is merged into it.
    pub bytes: u64,
    /// The bytes of it in which nothing is stored.
    pub unused: u64,
    /// The bytes of the write-ahead log.
    pub wal: u64,
    /// The read that is open for the longest time, if one is.
    #[serde(serialize_with = "maybe_text")]
    pub longest_read: Option<OpenRead>,
    /// How many results are followed, those that are the same counted once.
    pub followed: usize,
    /// How many works of [`Drawer::later`] wait.
    pub works_waiting: usize,
}

fn seconds<S: Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(time.as_secs_f64())
}

fn text<S: Serializer>(what: &impl Display, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(what)
}

fn maybe_text<S: Serializer>(what: &Option<impl Display>, serializer: S) -> Result<S::Ok, S::Error> {
    what.as_ref().map(ToString::to_string).serialize(serializer)
}

/// What is counted while a drawer is open.
pub(super) struct Metrics {
    since: Timestamp,
    commits: AtomicU64,
    failed: AtomicU64,
    writing: AtomicU64,
    waiting: AtomicU64,
    longest_wait: AtomicU64,
}

impl Metrics {
    pub(super) fn new() -> Metrics {
        let (commits, failed, writing, waiting, longest_wait) = Default::default();
        Metrics { since: Timestamp::now(), commits, failed, writing, waiting, longest_wait }
    }
}

impl Participant for Metrics {
    fn is_over(&self, course: &Course) {
        let waited = nanoseconds(course.waited);
        self.waiting.fetch_add(waited, Relaxed);
        self.longest_wait.fetch_max(waited, Relaxed);
        self.writing.fetch_add(nanoseconds(course.took), Relaxed);
        (if course.is_kept { &self.commits } else { &self.failed }).fetch_add(1, Relaxed);
    }
}

fn nanoseconds(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

impl Drawer {
    /// How the drawer has fared since it was opened.
    ///
    /// # Errors
    /// When the file cannot be read.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// let health = drawer.health()?;
    /// assert!(health.commits == 1 && health.failed == 0 && health.longest_read.is_none());
    /// println!("{}", serde_json::to_string(&health).expect("counts and times"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn health(&self) -> Result<Health, Error> {
        let inner = &self.inner;
        let doing = || "cannot tell how the drawer fares";
        let pages = inner.reading(|scope| scope.doing(doing, || Ok(scope.connection.pages()?)))?;
        let Metrics { since, commits, failed, writing, waiting, longest_wait } = &*inner.metrics;
        let time = |counted: &AtomicU64| Duration::from_nanos(counted.load(Relaxed));
        Ok(Health {
            since: *since,
            commits: commits.load(Relaxed),
            failed: failed.load(Relaxed),
            rows: inner.recorder().map(|recorder| recorder.rows()),
            writing: time(writing),
            waiting: time(waiting),
            longest_wait: time(longest_wait),
            bytes: pages.count * pages.size,
            unused: pages.unused * pages.size,
            wal: inner.pool().log_bytes(),
            longest_read: inner.open_reads().first().copied(),
            followed: inner.following.len(),
            works_waiting: inner.to_do.waiting(),
        })
    }
}
