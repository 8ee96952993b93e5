//! Telling a drawer where its app is, so that its session says so.

use super::Drawer;
use crate::error::Error;
use crate::sessions::Recorder;

impl Drawer {
    /// Notes that the app went to the background, where it may be killed at any time: an app that is found to have ended there was
    /// most likely ended by the system. When this returns, what the session wrote is noted too.
    ///
    /// Live results rest until [`Drawer::back_in_foreground`]: nothing is worked out for them, and each is given one update then, if anything changed.
    ///
    /// Told twice, it does nothing.
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
        self.inner.following.be_quiet(true);
        self.noted(Recorder::went_to_background)
    }

    /// Notes that the app is in the foreground again; see [`Drawer::going_to_background`].
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn back_in_foreground(&self) -> Result<(), Error> {
        self.inner.following.be_quiet(false);
        self.noted(Recorder::came_back)
    }

    fn noted(&self, change: impl FnOnce(&Recorder) -> bool) -> Result<(), Error> {
        let Some(recorder) = self.inner.recorder() else { return Ok(()) };
        self.inner.with_writer(|scope| {
            scope.doing(
                || "cannot note where the app is",
                || if change(recorder) { Ok(recorder.note(scope.connection)?) } else { Ok(()) },
            )
        })
    }
}
