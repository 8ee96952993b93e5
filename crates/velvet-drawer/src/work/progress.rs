//! How far long work has come.

use super::{of_job, with_job};
use std::time::{Duration, Instant};

/// How far long work has come.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Progress {
    /// What is being done, in words; empty before it has begun.
    pub doing: String,
    /// How much of that is done: rows, or pages of a file.
    pub done: u64,
    /// Of how much; nothing where that is not known.
    pub of: Option<u64>,
    /// How many parts are done, where there are several, such as the versions of an upgrade.
    pub parts_done: usize,
    /// How many parts there are in all.
    pub parts: usize,
}

type Tell = Box<dyn FnMut(&Progress)>;

/// Who is told of the work of a thread.
pub(super) struct Teller {
    tell: Tell,
    told: Option<(Instant, String, usize)>,
}

/// How often it is told of one thing.
const BETWEEN: Duration = Duration::from_millis(50);

/// After how many rows to look whether it is time to tell.
const ROWS: u64 = 512;

impl Progress {
    /// Runs `work` on this thread, and hands how far what it does with drawers has come to `tell`: upgrading, reading and inserting many, refreshing, applying
    /// changes, copying, compacting, importing, exporting, checking, comparing, searching, salvaging. For work on other threads there is
    /// [`Later::progress`](crate::Later::progress).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Progress, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let pieces = (0..2_000).map(|n| Piece { mark: format!("K-{n}") });
    /// Progress::told(|at| println!("{}: {} of {:?}", at.doing, at.done, at.of), || drawer.insert_all(pieces))?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn told<R>(tell: impl FnMut(&Progress) + 'static, work: impl FnOnce() -> R) -> R {
        with_job(|job| &mut job.teller, Teller { tell: Box::new(tell), told: None }, work)
    }
}

/// This much is done of something.
pub(crate) fn tell(doing: impl FnOnce() -> String, done: u64, of: Option<u64>) {
    if of_job(|job| &mut job.teller, |teller| teller.is_some()) {
        tell_all(&Progress { doing: doing(), done, of, ..Progress::default() });
    }
}

/// This many rows are done of something, of which it is told now and then.
#[inline]
pub(crate) fn tell_rows(doing: impl FnOnce() -> String, done: u64, of: Option<u64>) {
    if done.is_multiple_of(ROWS) {
        tell(doing, done, of);
    }
}

/// As [`tell`], where there are parts.
pub(crate) fn tell_all(progress: &Progress) {
    // What is told may itself use a drawer.
    let Some(mut teller) = of_job(|job| &mut job.teller, Option::take) else { return };
    let is_soon = |(at, doing, parts_done): &(Instant, String, usize)| {
        at.elapsed() < BETWEEN && *doing == progress.doing && *parts_done == progress.parts_done
    };
    if !teller.told.as_ref().is_some_and(is_soon) || progress.of == Some(progress.done) {
        (teller.tell)(progress);
        teller.told = Some((Instant::now(), progress.doing.clone(), progress.parts_done));
    }
    of_job(|job| &mut job.teller, |place| *place = Some(teller));
}
