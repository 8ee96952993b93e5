//! Sessions: what each start of the app did to a file, from open to close or kill.

mod recorder;
mod running;

pub(crate) use recorder::{Recorder, Start};
pub(crate) use running::began as process_began;

use crate::drawer::Drawer;
use crate::error::Error;

/// The table of sessions.
pub(crate) const SESSIONS: &str = "velvet_sessions";

/// Creates the table of sessions. What is a list is JSON.
pub(crate) const CREATE: &str = "CREATE TABLE velvet_sessions (session INTEGER PRIMARY KEY AUTOINCREMENT, \
    began_at TEXT NOT NULL, app_version TEXT, schema_version INTEGER NOT NULL, opened TEXT, process INTEGER NOT NULL, \
    process_began INTEGER, state TEXT NOT NULL, noted_at TEXT NOT NULL, found_open_by INTEGER, \
    wrote TEXT NOT NULL, background TEXT NOT NULL) STRICT";

/// How many sessions a file keeps unless said otherwise.
pub(crate) const KEPT: u32 = 200;

impl Drawer {
    /// Notes that the app went to the background, where it may be killed at any time: an app that is found to have ended there was
    /// most likely ended by the system. When this returns, what the session wrote is noted too.
    ///
    /// Told twice, or without sessions, it does nothing.
    ///
    /// # Errors
    /// When the file cannot be written.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let drawer = Drawer::open(folder.path().join("kiln.drawer"), Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.going_to_background()?;
    /// drawer.back_in_foreground()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn going_to_background(&self) -> Result<(), Error> {
        self.noted(Recorder::went_to_background)
    }

    /// Notes that the app is in the foreground again; see [`Drawer::going_to_background`].
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn back_in_foreground(&self) -> Result<(), Error> {
        self.noted(Recorder::came_back)
    }

    fn noted(&self, change: impl FnOnce(&Recorder) -> bool) -> Result<(), Error> {
        let Some(recorder) = self.inner.recorder() else { return Ok(()) };
        self.writing(|connection| {
            if !change(recorder) {
                return Ok(());
            }
            recorder.note(connection).map_err(|fault| self.inner.fault("cannot note where the app is", fault))
        })
    }
}
