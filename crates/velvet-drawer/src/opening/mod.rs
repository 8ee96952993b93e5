//! Opening a drawer: finding the file, telling what it is, creating it where there is none.

mod about;
mod background;
mod create;
mod path;
mod recognise;
mod registry;
mod remove;

pub use background::Opening;

pub(crate) use about::{APPLICATION_ID, About};
pub(crate) use path::resolved;
pub(crate) use recognise::{Found, recognise};
pub(crate) use registry::is_open_here;
pub(crate) use remove::remove_from_device;

use crate::drawer::{Drawer, Inner, Place};
use crate::engine::{self, COMPANIONS, Connection, Pool, Settings};
use crate::error::Error;
use crate::schema::{Declared, Schema};
use crate::upgrading::{self, Upgraded, Watch};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// How to open a drawer, where the defaults do not fit.
///
/// ```
/// # use velvet_drawer::{Drawer, Record, Schema};
/// # use std::time::Duration;
/// # #[derive(Record)] struct Glaze { name: String }
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("kiln.drawer");
/// let drawer = Drawer::options()
///     .wait(Duration::from_secs(20))
///     .open(path, Schema::new("kilnbook").record::<Glaze>())?;
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct Options {
    settings: Settings,
    files_root: Option<PathBuf>,
    app_version: Option<String>,
    slow_upgrade: Option<Duration>,
    fail_upgrade: Option<usize>,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            settings: Settings { wait: Duration::from_secs(5), relaxed: false },
            files_root: None,
            app_version: None,
            slow_upgrade: None,
            fail_upgrade: None,
        }
    }
}

/// What opening a drawer came to.
#[derive(Clone, Debug, Default)]
pub struct Opened {
    /// Whether the file was created.
    pub created: bool,
    /// What was upgraded, when the file had an older version.
    pub upgraded: Option<Upgraded>,
}

impl Options {
    /// How long to wait while another process holds the file; 5 seconds unless said otherwise.
    #[must_use]
    pub fn wait(mut self, wait: Duration) -> Options {
        self.settings.wait = wait;
        self
    }

    /// Lets a write return before it is safe from a loss of power.
    ///
    /// Writes are several times faster. A crash or kill of the app still loses nothing; when the device loses power, the
    /// last writes that were acknowledged may be missing, though never half there.
    #[must_use]
    pub fn relaxed(mut self) -> Options {
        self.settings.relaxed = true;
        self
    }

    /// The folder below which [`crate::OutsideFile`]s are; that of the drawer's file unless said otherwise.
    #[must_use]
    pub fn files_root(mut self, folder: impl Into<PathBuf>) -> Options {
        self.files_root = Some(folder.into());
        self
    }

    /// The version of the app, to be kept in the file with each version of the schema that it goes through.
    #[must_use]
    pub fn app_version(mut self, version: impl Into<String>) -> Options {
        self.app_version = Some(version.into());
        self
    }

    /// Makes every step of an upgrade take this much longer, for a developer who wants to see the app meanwhile.
    #[must_use]
    pub fn slow_upgrade(mut self, each_step: Duration) -> Options {
        self.slow_upgrade = Some(each_step);
        self
    }

    /// Makes an upgrade fail after this many steps, for a developer who wants to see what the app does then.
    #[must_use]
    pub fn fail_upgrade(mut self, after_steps: usize) -> Options {
        self.fail_upgrade = Some(after_steps);
        self
    }

    /// Opens the drawer at `path`; see [`Drawer::open`].
    ///
    /// # Errors
    /// As [`Drawer::open`].
    #[track_caller]
    pub fn open(self, path: impl AsRef<Path>, schema: Schema) -> Result<Drawer, Error> {
        let watch = self.watch();
        self.open_watched(path.as_ref(), &schema, &watch).map(Drawer::of)
    }

    /// Opens the drawer at `path` on a thread of its own, so that a long upgrade never holds up the app's first screen.
    ///
    /// Dropping the [`Opening`] lets it go on; another open of the same file joins it.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let opening = Drawer::options().open_in_background(path, Schema::new("kilnbook").record::<Glaze>());
    /// while !opening.is_finished() {
    ///     let progress = opening.progress();
    ///     println!("{} of {}", progress.steps_done, progress.steps);
    /// }
    /// let drawer = opening.wait()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn open_in_background(self, path: impl Into<PathBuf>, schema: Schema) -> Opening {
        Opening::start(self, path.into(), schema)
    }

    fn watch(&self) -> Watch {
        Watch::new(self.slow_upgrade, self.fail_upgrade)
    }

    fn open_watched(self, path: &Path, schema: &Schema, watch: &Watch) -> Result<Arc<Inner>, Error> {
        let mut declared = schema.declared().map_err(|e| e.in_file(path))?;
        declared.app_version.clone_from(&self.app_version);
        let path = path::prepared(path)?;
        registry::open(&path, declared, |declared| self.open_file(&path, declared, watch))
    }

    /// Opens a new, empty drawer in memory; see [`Drawer::in_memory`].
    ///
    /// # Errors
    /// As [`Drawer::in_memory`].
    #[track_caller]
    pub fn in_memory(self, schema: Schema) -> Result<Drawer, Error> {
        self.open_memory(schema, |_, _| Ok(())).map(Drawer::of)
    }

    /// Opens a drawer that somebody holds as bytes; see [`Drawer::from_bytes`].
    ///
    /// # Errors
    /// As [`Drawer::from_bytes`].
    #[track_caller]
    pub fn from_bytes(self, bytes: &[u8], schema: Schema) -> Result<Drawer, Error> {
        self.open_memory(schema, |connection, settings| {
            engine::pour_bytes(bytes, connection, settings)
                .map_err(|fault| Error::engine("cannot read the bytes", fault))
        })
        .map(Drawer::of)
    }

    fn open_file(self, path: &Path, declared: Declared, watch: &Watch) -> Result<Inner, Error> {
        let place = Place::File(path.to_owned());
        let name = |error: Error| place.name(error);
        let engine = |fault| name(Error::engine("cannot open the drawer", fault).untouched(recognise::UNTOUCHED));
        let log_before = has_log(path);
        let writer = Connection::writer(path, &self.settings).map_err(engine)?;
        let found = match recognise(&writer, &declared) {
            Ok(found) => found,
            Err(error) => {
                if log_before {
                    writer.leave_log_alone();
                }
                return Err(name(error));
            }
        };
        writer.keep_log(&self.settings).map_err(engine)?;
        let opened = bring_up(&writer, found, &declared, Some(path), watch).map_err(name)?;
        let files_root = self.files_root.or_else(|| path.parent().map(Path::to_owned));
        let pool = Pool::new(path, self.settings, writer);
        Ok(Inner::new(place, declared, files_root, opened, pool))
    }

    fn open_memory(
        self,
        schema: Schema,
        fill: impl FnOnce(&mut Connection, &Settings) -> Result<(), Error>,
    ) -> Result<Arc<Inner>, Error> {
        let name = |error: Error| Place::Memory.name(error);
        let watch = self.watch();
        let mut declared = schema.declared().map_err(name)?;
        declared.app_version = self.app_version;
        let place = engine::memory_place();
        let mut writer = Connection::writer(&place, &self.settings)
            .map_err(|fault| name(Error::engine("cannot open a drawer in memory", fault)))?;
        fill(&mut writer, &self.settings).map_err(name)?;
        let found = recognise(&writer, &declared).map_err(name)?;
        let opened = bring_up(&writer, found, &declared, None, &watch).map_err(name)?;
        let pool = Pool::new(&place, self.settings, writer);
        Ok(Arc::new(Inner::new(Place::Memory, declared, self.files_root, opened, pool)))
    }
}

/// Makes the declared structure of what was found.
fn bring_up(
    connection: &Connection,
    found: Found,
    declared: &Declared,
    path: Option<&Path>,
    watch: &Watch,
) -> Result<Opened, Error> {
    match found {
        Found::Current => Ok(Opened::default()),
        Found::Older(from) => {
            let upgraded = upgrading::upgrade(connection, declared, from, path, watch)?;
            Ok(Opened { upgraded: Some(upgraded), ..Opened::default() })
        }
        Found::Fresh if create::create(connection, declared)? => Ok(Opened { created: true, ..Opened::default() }),
        // Another process was faster, perhaps with an older version of the app.
        Found::Fresh => bring_up(connection, recognise(connection, declared)?, declared, path, watch),
    }
}

/// Whether a log with something in it stands beside the file.
fn has_log(path: &Path) -> bool {
    let mut log = path.as_os_str().to_owned();
    log.push(COMPANIONS[0]);
    std::fs::metadata(log).is_ok_and(|m| m.len() > 0)
}
