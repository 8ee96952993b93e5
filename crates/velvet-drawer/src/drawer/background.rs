//! Telling a drawer where its app is: what it gives back then, and what its session says.

use super::{Drawer, Inner, OpenRead, Place};
use crate::error::Error;
use crate::work::ui_thread;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

/// How long a write that outlasted the way to the background waits for others that write, such as the note of the session, to close the file.
const OTHERS_WRITE: Duration = Duration::from_secs(1);

/// What is left while the app is in the background.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Resting {
    /// How many works of [`Drawer::later`] wait until the app is back.
    pub waiting: usize,
    /// How many of them are being done still, because they take longer than there was time.
    pub going_on: usize,
    /// The reads that the app's code holds open. They keep the file open, and the write-ahead log beside it.
    pub open_reads: Vec<OpenRead>,
    /// The bytes of the write-ahead log beside the file: 0 where everything is merged.
    pub wal: u64,
}

impl Drawer {
    /// The app goes to the background, where it may be killed at any time. Within this time, what is being done is finished, and what has not begun is
    /// parked; live results rest; everything is merged into the file, whose locks and memory are given back; and the session says where the app is: one that
    /// is found to have ended there was most likely ended by the system.
    ///
    /// Nothing that was acknowledged is lost by a kill, before or after. The drawer can be used meanwhile; what it needs for that is opened again,
    /// and given back when this is called once more. A drawer in memory keeps what it has.
    ///
    /// # Errors
    /// When another thread writes for longer than `within` ([`Error::is_locked`]), or the file cannot be written. Live results and works rest all the same, and the file is
    /// merged and closed when that thread has finished, unless the app is back by then.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # use std::time::Duration;
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let drawer = Drawer::open(folder.path().join("kiln.drawer"), Schema::new("kilnbook").record::<Glaze>())?;
    /// let resting = drawer.going_to_background(Duration::from_secs(2))?;
    /// assert!(resting.wal == 0 && resting.going_on == 0);
    /// drawer.back_in_foreground()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn going_to_background(&self, within: Duration) -> Result<Resting, Error> {
        let _waits = ui_thread::watched();
        let inner = &self.inner;
        inner.refuse_if_busy_here("rest")?;
        let now = Instant::now();
        let until = now.checked_add(within).unwrap_or(now);
        inner.following.be_quiet(true);
        let (waiting, going_on) = inner.to_do.park(until);
        inner.following.settle(until);
        inner.cached_texts.lock().take();
        inner.storing.close_reader();
        let is_news = inner.recorder().is_some_and(|recorder| recorder.went_to_background());
        let may_write = !inner.in_effect().read_only;
        if !may_write {
            inner.pool().give_back_memory();
        } else if matches!(inner.place, Place::File(_)) {
            inner.require_in_place()?;
            let rested = inner.rest(until, is_news).or_else(|| {
                // Whoever writes closes the file afterwards, unless that has just finished.
                inner.rests_later.store(true, Ordering::Release);
                inner.rest(Instant::now(), is_news).inspect(|_| inner.rests_later.store(false, Ordering::Release))
            });
            rested.ok_or_else(|| inner.still_writing(within))??;
        }
        // Others may write while nothing is open here.
        inner.forget_cached();
        let wal = if inner.path().is_some() { inner.pool().log_left() } else { 0 };
        Ok(Resting { waiting, going_on, open_reads: inner.open_reads(), wal })
    }

    /// The app is in the foreground again: works and live results go on, each result with one update, if anything changed; see
    /// [`Drawer::going_to_background`].
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn back_in_foreground(&self) -> Result<(), Error> {
        let _waits = ui_thread::watched();
        self.inner.following.be_quiet(false);
        self.inner.rests_later.store(false, Ordering::Release);
        self.inner.to_do.go_on();
        let Some(recorder) = self.inner.recorder() else { return Ok(()) };
        self.inner.with_writer(|scope| {
            let note = || if recorder.came_back() { Ok(recorder.note(scope.connection)?) } else { Ok(()) };
            scope.doing(|| "cannot note where the app is", note)
        })
    }

    /// The system is short of memory: gives back what can be had again, such as pages that were read, prepared statements and the texts of
    /// [`Records::suggest`](crate::Records::suggest). What is read next takes a little longer.
    pub fn memory_is_low(&self) {
        let _waits = ui_thread::watched();
        self.inner.cached_texts.lock().take();
        self.inner.storing.close_reader();
        self.inner.pool().give_back_memory();
        self.inner.forget_cached();
    }
}

impl Inner {
    /// Notes where the app is, and closes all connections, with the log. `None` if a thread writes until then.
    fn rest(&self, until: Instant, is_news: bool) -> Option<Result<(), Error>> {
        let note = |connection: &_| {
            let recorder = self.recorder();
            let noted = match recorder {
                Some(recorder) if is_news || recorder.has_news() => recorder.note(connection),
                _ => Ok(()),
            };
            // Until all is closed, the session's thread has nothing open.
            (noted, recorder.map(|recorder| recorder.alone()))
        };
        let noted = self.pool().rest(until, note)?.and_then(|(noted, alone)| {
            if let Some(alone) = alone.filter(|_| self.pool().log_left() == 0) {
                alone.is_merged();
            }
            noted
        });
        Some(noted.map_err(|fault| self.place.name(Error::from(fault).doing("cannot note where the app is"))))
    }

    /// Closes the file after a write, if the app has gone to the background in between and the write kept it from closing.
    #[inline]
    pub(super) fn rest_if_that_waits(&self) {
        if self.rests_later.load(Ordering::Acquire) && self.rests_later.swap(false, Ordering::AcqRel) {
            // Others may have waited to write too; then whoever writes next closes it.
            if self.rest(Instant::now() + OTHERS_WRITE, true).is_none() && self.following.is_quiet() {
                self.rests_later.store(true, Ordering::Release);
            }
            self.forget_cached();
        }
    }
}
