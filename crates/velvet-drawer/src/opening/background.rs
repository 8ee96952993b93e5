//! Opening on a thread of its own.

use super::Options;
use crate::drawer::Drawer;
use crate::error::{Cause, Error};
use crate::outcome::Outcome;
use crate::progress::Progress;
use crate::schema::Schema;
use crate::ui_thread;
use crate::upgrading::Watch;
use std::fmt;
use std::future::Future;
use std::panic::{AssertUnwindSafe, Location, catch_unwind};
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::thread;

/// A drawer that is being opened on a thread of its own. Wait for it, or await it in any async runtime.
pub struct Opening {
    shared: Arc<Shared>,
}

struct Shared {
    watch: Watch,
    outcome: Outcome<Result<Drawer, Error>>,
}

impl Opening {
    pub(super) fn start(options: Options, path: PathBuf, schema: Schema, at: &'static Location<'static>) -> Opening {
        let shared = Arc::new(Shared { watch: options.watch(), outcome: Outcome::default() });
        let opening = Opening { shared: Arc::clone(&shared) };
        let work = move || {
            let open = || options.open_watched(&path, schema, &shared.watch).map(|inner| Drawer::taken_at(inner, at));
            let result = catch_unwind(AssertUnwindSafe(open));
            shared.outcome.finish(result.unwrap_or_else(|panic| {
                let error = Error::of_panic(&*panic).doing("cannot open the drawer");
                Err(error.untouched("The file is as it was").in_file(&path))
            }));
        };
        if let Err(error) = thread::Builder::new().name("velvet-open".into()).spawn(work) {
            opening.shared.outcome.finish(Err(Error::device("cannot start a thread to open the drawer", &error)));
        }
        opening
    }

    /// How far it has come.
    pub fn progress(&self) -> Progress {
        self.shared.watch.progress()
    }

    /// Whether it is done, well or not.
    pub fn is_finished(&self) -> bool {
        self.shared.outcome.is_finished()
    }

    /// Asks it to end. An upgrade that is under way is rolled back, and the result is an error ([`Error::is_cancelled`]);
    /// one that is done already stays done.
    pub fn cancel(&self) {
        self.shared.watch.cancel();
    }

    /// Waits until it is done.
    ///
    /// # Errors
    /// As [`Drawer::open`], and when it was cancelled.
    pub fn wait(self) -> Result<Drawer, Error> {
        let _waits = ui_thread::watched();
        self.shared.outcome.wait().unwrap_or_else(|| Err(taken_before()))
    }
}

fn taken_before() -> Error {
    Error::new(Cause::InUse, "the opened drawer was handed out already").advise("Await an Opening once")
}

impl Future for Opening {
    type Output = Result<Drawer, Error>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        self.shared.outcome.poll(context).map(|result| result.unwrap_or_else(|| Err(taken_before())))
    }
}

impl fmt::Debug for Opening {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Opening").field("progress", &self.progress()).finish_non_exhaustive()
    }
}
