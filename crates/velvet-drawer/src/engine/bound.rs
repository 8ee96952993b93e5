//! How much a connection may do: until it is asked to stop, and as long and as large as what the file itself defines may be.
//!
//! A view may never end, or grow from a few lines to years of work, and a computed column may make gigabytes of a byte. So
//! what such things take is counted, over all statements of a connection, and ends when it is used up. Rows that are stored have their end.

use super::{Connection, Fault, FaultKind};
use crate::work::cancel::Cancel;
use parking_lot::{Mutex, MutexGuard};
use rusqlite::limits::Limit;
use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;
use velvet_core::exchange::expansion::Views;
use velvet_core::value::name::quoted;

/// How many of the engine's steps to let pass between two looks at the clock.
const STEPS: i32 = 100;

/// What is left for each statement, when all is used up: enough for what does no harm.
const LEAST: Duration = Duration::from_millis(10);

/// To how many parts a statement may grow when views are replaced by what they stand for: more than anybody writes.
const PARTS: u64 = 1_024;

/// The largest value that a computation may make in a small file.
const LARGE: u64 = 16 << 20;

/// The bounds of one connection.
pub(super) struct Bounds {
    cancel: Cancel,
    within: Duration,
    clock: Arc<Mutex<Clock>>,
    /// The statements that run what the file defines.
    computed: Mutex<HashSet<String>>,
    /// The views of the file, as they were at a count of changes of structure.
    views: Mutex<Option<(i64, Views)>>,
}

#[derive(Default)]
struct Clock {
    left: Duration,
    /// How long the thread had worked when what the file defines began to run.
    running: Option<Duration>,
}

/// For how long this thread has been given a processor: on a busy machine, nothing takes longer by that.
#[cfg(any(target_os = "linux", target_os = "android"))]
fn worked() -> Duration {
    use rustix::time::{ClockId, clock_gettime};
    let now = clock_gettime(ClockId::ThreadCPUTime);
    Duration::new(now.tv_sec.unsigned_abs(), u32::try_from(now.tv_nsec).unwrap_or_default())
}

/// Elsewhere, for how long the process has run since this was first asked.
#[cfg(not(any(target_os = "linux", target_os = "android")))]
fn worked() -> Duration {
    use std::sync::LazyLock;
    use std::time::Instant;
    static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);
    BEGUN.elapsed()
}

impl Clock {
    fn is_used_up(&self) -> bool {
        self.running.is_some_and(|since| worked().saturating_sub(since) > self.left.max(LEAST))
    }
}

impl Bounds {
    fn clock(&self) -> MutexGuard<'_, Clock> {
        self.clock.lock()
    }

    /// Runs `work` while the clock runs.
    fn counted<R>(&self, work: impl FnOnce() -> R) -> R {
        // Within work that is counted already, the clock goes on.
        if self.clock().running.is_some() {
            return work();
        }
        self.clock().running = Some(worked());
        let result = work();
        let mut clock = self.clock();
        if let Some(since) = clock.running.take() {
            clock.left = clock.left.saturating_sub(worked().saturating_sub(since));
        }
        result
    }

    fn used_up(&self) -> Fault {
        Fault { kind: FaultKind::Interrupted(Some(self.within)), message: "interrupted".into() }
    }

    /// What the engine's refusal means here.
    pub(super) fn told(&self, kind: FaultKind) -> FaultKind {
        match kind {
            FaultKind::Interrupted(_) if !self.cancel.is_cancelled() => FaultKind::Interrupted(Some(self.within)),
            FaultKind::TooBig => FaultKind::OutOfProportion,
            kind => kind,
        }
    }
}

impl Connection {
    /// Bounds what this connection may do: until `cancel` asks it to stop; for as long as `within` what the file defines; and no value above the
    /// `bytes` that the file has, or a few megabytes.
    pub(crate) fn bound(&mut self, cancel: &Cancel, within: Duration, bytes: u64) -> Result<(), Fault> {
        let clock = Arc::new(Mutex::new(Clock { left: within, running: None }));
        let (asked, watched) = (cancel.clone(), Arc::clone(&clock));
        let ends = move || asked.is_cancelled() || watched.lock().is_used_up();
        self.engine.progress_handler(STEPS, Some(ends))?;
        self.ends_with(cancel);
        self.values_up_to(bytes / 2)?;
        self.bounds =
            Some(Bounds { cancel: cancel.clone(), within, clock, computed: Mutex::default(), views: Mutex::default() });
        Ok(())
    }

    /// Takes the next row of a statement that computes what the file defines.
    pub(super) fn row_within<R>(
        &self,
        next: impl FnOnce() -> rusqlite::Result<Option<R>>,
    ) -> Result<rusqlite::Result<Option<R>>, Fault> {
        let Some(bounds) = &self.bounds else { return Ok(next()) };
        if bounds.clock().left.is_zero() {
            return Err(bounds.used_up());
        }
        Ok(bounds.counted(next))
    }

    /// Counts anew what it takes.
    pub(crate) fn count_anew(&self) {
        if let Some(bounds) = &self.bounds {
            bounds.clock().left = bounds.within;
        }
    }

    /// Lets no value be larger than twice these bytes, or a few megabytes.
    pub(crate) fn values_up_to(&self, bytes: u64) -> Result<(), Fault> {
        let largest = i32::try_from(bytes.saturating_mul(2).max(LARGE)).unwrap_or(i32::MAX);
        Ok(self.engine.set_limit(Limit::SQLITE_LIMIT_LENGTH, largest).map(drop)?)
    }

    /// Bounds the size of the file in bytes.
    pub(crate) fn grow_at_most(&self, bytes: u64) -> Result<(), Fault> {
        let size = self.pages()?.size.max(1);
        self.run(&format!("PRAGMA max_page_count = {}", bytes / size))
    }

    /// Prepares a statement, which may take what the file defines. Says whether it runs that.
    pub(super) fn prepared_within<R>(&self, text: &str, prepare: impl FnOnce() -> R) -> Result<(R, bool), Fault> {
        let Some(bounds) = &self.bounds else { return Ok((prepare(), false)) };
        // What names no view is prepared in the time that the stored tables take.
        let has_views = self.refuse_if_endless(bounds, text)? > 1;
        let (prepared, computes) = self.guard.computes(|| if has_views { bounds.counted(prepare) } else { prepare() });
        let mut computed = bounds.computed.lock();
        if computes {
            computed.insert(text.to_owned());
        }
        Ok((prepared, computes || computed.contains(text)))
    }

    /// Refuses a statement that the engine would prepare for ever, which it cannot be kept from afterwards. Says to how many parts it grows.
    fn refuse_if_endless(&self, bounds: &Bounds, text: &str) -> Result<u64, Fault> {
        let mut views = bounds.views.lock();
        let count = self.engine.query_row("PRAGMA schema_version", [], |row| row.get::<_, i64>(0)).unwrap_or_default();
        if views.as_ref().is_none_or(|(at, _)| *at != count) {
            let mut all = Vec::new();
            // What cannot be read is said by the statement itself.
            if let Ok(mut found) = self.engine.prepare("SELECT name, sql FROM sqlite_schema WHERE type = 'view'")
                && let Ok(mut rows) = found.query([])
            {
                while let Ok(Some(row)) = rows.next() {
                    all.extend(row.get(0).and_then(|name| Ok((name, row.get(1)?))).ok());
                }
            }
            *views = Some((count, Views::new(all)));
        }
        let grown = views.as_mut().map_or(1, |(_, views)| views.grown(text));
        // Thousands of views would each take what is left for a statement.
        if grown > 1 && bounds.clock().left.is_zero() {
            return Err(bounds.used_up());
        }
        if grown <= PARTS {
            return Ok(grown);
        }
        Err(Fault { kind: FaultKind::Endless(grown), message: format!("it grows to {grown} parts") })
    }

    /// Asks for the columns of a table or view. Those of a view are worked out.
    pub(super) fn asking_for_columns<R>(&self, name: &str, ask: impl FnOnce() -> Result<R, Fault>) -> Result<R, Fault> {
        match &self.bounds {
            Some(bounds) if self.refuse_if_endless(bounds, &quoted(name))? > 1 => bounds.counted(ask),
            _ => ask(),
        }
    }

    /// Runs `work`, which takes what the file defines.
    #[inline]
    pub(crate) fn within_bounds<R>(&self, work: impl FnOnce() -> R) -> R {
        match &self.bounds {
            Some(bounds) => bounds.counted(work),
            None => work(),
        }
    }
}
