//! Opening a drawer: finding the file, telling what it is, creating it where there is none.

mod about;
mod create;
mod path;
mod recognise;
mod registry;
mod remove;

pub(crate) use about::{APPLICATION_ID, About};
pub(crate) use path::resolved;
pub(crate) use recognise::{Found, recognise};
pub(crate) use registry::is_open_here;
pub(crate) use remove::remove_from_device;

use crate::drawer::{Drawer, Inner, Place};
use crate::engine::{self, COMPANIONS, Connection, Pool, Settings};
use crate::error::Error;
use crate::schema::{Declared, Schema};
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
}

impl Default for Options {
    fn default() -> Options {
        Options { settings: Settings { wait: Duration::from_secs(5), relaxed: false }, files_root: None }
    }
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

    /// Opens the drawer at `path`; see [`Drawer::open`].
    ///
    /// # Errors
    /// As [`Drawer::open`].
    #[track_caller]
    pub fn open(self, path: impl AsRef<Path>, schema: Schema) -> Result<Drawer, Error> {
        let path = path.as_ref();
        let declared = schema.declared().map_err(|e| e.in_file(path))?;
        let path = path::prepared(path)?;
        registry::open(&path, declared, |declared| self.open_file(&path, declared)).map(Drawer::of)
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

    fn open_file(self, path: &Path, declared: Declared) -> Result<Inner, Error> {
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
        if found == Found::Fresh {
            create::create(&writer, &declared).map_err(name)?;
        }
        let files_root = self.files_root.or_else(|| path.parent().map(Path::to_owned));
        let pool = Pool::new(path, self.settings, writer);
        Ok(Inner::new(place, declared, files_root, pool))
    }

    fn open_memory(
        self,
        schema: Schema,
        fill: impl FnOnce(&mut Connection, &Settings) -> Result<(), Error>,
    ) -> Result<Arc<Inner>, Error> {
        let name = |error: Error| Place::Memory.name(error);
        let declared = schema.declared().map_err(name)?;
        let place = engine::memory_place();
        let mut writer = Connection::writer(&place, &self.settings)
            .map_err(|fault| name(Error::engine("cannot open a drawer in memory", fault)))?;
        fill(&mut writer, &self.settings).map_err(name)?;
        if recognise(&writer, &declared).map_err(name)? == Found::Fresh {
            create::create(&writer, &declared).map_err(name)?;
        }
        let pool = Pool::new(&place, self.settings, writer);
        Ok(Arc::new(Inner::new(Place::Memory, declared, self.files_root, pool)))
    }
}

/// Whether a log with something in it stands beside the file.
fn has_log(path: &Path) -> bool {
    let mut log = path.as_os_str().to_owned();
    log.push(COMPANIONS[0]);
    std::fs::metadata(log).is_ok_and(|m| m.len() > 0)
}
