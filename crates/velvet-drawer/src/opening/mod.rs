//! Opening a drawer: finding the file, telling what it is, creating it where there is none.

mod about;
mod aside;
mod background;
mod create;
mod kept;
mod path;
mod recognise;
mod registry;
mod remove;
mod restore;
mod shipped;

pub use background::Opening;
pub use kept::{KeptCopy, KeptFor};

pub(crate) use about::{APPLICATION_ID, About};
pub(crate) use kept::{Bounds, keep_within, kept};
pub(crate) use path::resolved;
pub(crate) use recognise::{Found, recognise};
pub(crate) use registry::is_open_here;
pub(crate) use remove::{Copies, remove_from_device};
pub(crate) use restore::restore;

use crate::drawer::{Drawer, Inner, Place};
use crate::engine::{self, Connection, Fault, FaultKind, Pool, Settings};
use crate::error::Error;
use crate::events;
use crate::schema::{Declared, Schema};
use crate::searching;
use crate::sessions::{self, Recorder, Start};
use crate::trails::{Keeping, Wanted};
use crate::upgrading::{self, Adopted, Conversions, Upgraded, Watch};
use crate::writing::Tx;
use aside::SetAside;
use shipped::Shipped;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use velvet_core::Record;
use velvet_core::statement::Trail;
use velvet_core::structure::Structure;

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
    set_aside: SetAside,
    shipped: Option<Shipped>,
    adopt: Option<Conversions>,
    fill_new: Option<FillNew>,
    sessions_kept: Option<u32>,
    trails: Wanted,
    copies: Bounds,
}

/// The options that hold for the whole time that a file is open, for all handles to it.
#[derive(Clone, Debug, Default)]
pub(crate) struct InEffect {
    /// Which trails are kept, in words; empty where none are.
    trails: String,
    relaxed: bool,
    files_root: Option<PathBuf>,
    without_sessions: bool,
}

impl InEffect {
    /// The options that were asked for, and that are not in effect for a file that is open already.
    fn lacks(&self, asked: &InEffect) -> Vec<&'static str> {
        let root = asked.files_root.is_some() && asked.files_root != self.files_root;
        [
            (!asked.trails.is_empty() && asked.trails != self.trails, "trail"),
            (asked.relaxed && !self.relaxed, "relaxed"),
            (root, "files_root"),
            (asked.without_sessions && !self.without_sessions, "without_sessions"),
        ]
        .into_iter()
        .filter_map(|(lacks, name)| lacks.then_some(name))
        .collect()
    }
}

/// Brings data into a new file.
#[derive(Clone)]
struct FillNew(Arc<FillFn>);

type FillFn = dyn Fn(&Tx<'_>) -> Result<(), Error> + Send + Sync;

impl fmt::Debug for FillNew {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FillNew")
    }
}

impl Default for Options {
    fn default() -> Options {
        Options {
            settings: Settings::of_ours(Duration::from_secs(5), false),
            files_root: None,
            app_version: None,
            slow_upgrade: None,
            fail_upgrade: None,
            set_aside: SetAside::default(),
            shipped: None,
            adopt: None,
            fill_new: None,
            sessions_kept: Some(sessions::KEPT),
            trails: Wanted::default(),
            copies: Bounds::default(),
        }
    }
}

/// What opening a drawer came to.
#[derive(Clone, Debug, Default)]
pub struct Opened {
    /// Whether the file was created.
    pub created: bool,
    /// Whether the file that ships with the app was copied to its place.
    pub shipped: bool,
    /// What was taken over, when the app kept the file before it used this library.
    pub adopted: Option<Adopted>,
    /// What was upgraded, when the file had an older version.
    pub upgraded: Option<Upgraded>,
    /// Where the file that was there was set aside, before a new one was created.
    pub set_aside: Option<PathBuf>,
}

impl Opened {
    /// What it came to, in words; nothing where the file was only opened.
    fn in_words(&self) -> Option<String> {
        let mut words = Vec::new();
        words.extend(self.set_aside.is_some().then(|| "the file before was set aside".to_owned()));
        words.extend(self.shipped.then(|| "copied from the app's own file".to_owned()));
        words.extend(self.adopted.as_ref().map(|a| format!("taken over at version {}", a.version)));
        words.extend(self.created.then(|| "created".to_owned()));
        words.extend(self.upgraded.as_ref().map(|u| format!("upgraded from version {}", u.from)));
        if words.is_empty() { None } else { Some(words.join(", ")) }
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

    /// Tells the app's log of every statement that takes this long or longer, from its start until the last row was taken;
    /// a quarter of a second unless said otherwise. Values are not told.
    #[cfg(feature = "tracing")]
    #[must_use]
    pub fn report_slow(mut self, least: std::time::Duration) -> Options {
        self.settings.reporting.slow = Some(least);
        self
    }

    /// Tells the app's log of every statement that reads or writes records.
    #[cfg(feature = "tracing")]
    #[must_use]
    pub fn report_statements(mut self) -> Options {
        self.settings.reporting.all = true;
        self
    }

    /// Tells the values that are bound in a reported statement too. Nobody who must not see them may see the log then.
    #[cfg(feature = "tracing")]
    #[must_use]
    pub fn report_values(mut self) -> Options {
        self.settings.reporting.values = true;
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

    /// Makes an upgrade fail after this many steps, or after its last where it has fewer, for a developer who wants to see what the app
    /// does then.
    #[must_use]
    pub fn fail_upgrade(mut self, after_steps: usize) -> Options {
        self.fail_upgrade = Some(after_steps);
        self
    }

    /// Sets a file aside whose structure is not the declared one, at the same version, and starts afresh: for the time of
    /// development. It is moved, with all that belongs to it, and never deleted; [`Opened::set_aside`] says where.
    #[must_use]
    pub fn set_aside_other_structure(mut self) -> Options {
        self.set_aside.other_structure = true;
        self
    }

    /// Sets a file aside that a newer version of the app wrote, and starts afresh. The user then sees nothing of what the
    /// newer app stored, until it is installed again and opens the file that was set aside.
    #[must_use]
    pub fn set_aside_newer_version(mut self) -> Options {
        self.set_aside.newer_version = true;
        self
    }

    /// Sets a file aside that is damaged or no database, and starts afresh.
    #[must_use]
    pub fn set_aside_unreadable(mut self) -> Options {
        self.set_aside.unreadable = true;
        self
    }

    /// The filled file that ships with the app. Where the drawer's own file is not there yet, this one is copied to its
    /// place, wholly or not at all, and then upgraded like any other.
    #[must_use]
    pub fn shipped_file(mut self, path: impl Into<PathBuf>) -> Options {
        self.shipped = Some(Shipped::File(path.into()));
        self
    }

    /// As [`Options::shipped_file`], from bytes, such as `include_bytes!` gives.
    #[must_use]
    pub fn shipped_bytes(mut self, bytes: &'static [u8]) -> Options {
        self.shipped = Some(Shipped::Bytes(bytes));
        self
    }

    /// Takes over a plain database file that the app kept before it used this library: as the newest version whose tables
    /// and columns it has. Its rows keep their row numbers as keys; a copy from before is kept.
    ///
    /// Every value is looked at: where some are none of their column's type, opening fails with how many, and examples; see
    /// [`Options::adopt_converting`].
    #[must_use]
    pub fn adopt(mut self) -> Options {
        self.adopt.get_or_insert_default();
        self
    }

    /// As [`Options::adopt`], where the values of a column have another form than that of its type: they become what an SQL expression
    /// over the row gives.
    ///
    /// ```no_run
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { thrown_at: jiff::Timestamp }
    /// let drawer = Drawer::options()
    ///     .adopt_converting("piece", "thrown_at", "strftime('%Y-%m-%dT%H:%M:%S', thrown_at) || '.000000000Z'")
    ///     .open("app.db", Schema::new("kilnbook").record::<Piece>())?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[must_use]
    pub fn adopt_converting(
        mut self,
        table: impl Into<String>,
        column: impl Into<String>,
        expression: impl Into<String>,
    ) -> Options {
        self.adopt.get_or_insert_default().push((table.into(), column.into(), expression.into()));
        self
    }

    /// Brings data into a new file, from anywhere: runs once, in one transaction, before the first open returns. Where it
    /// fails, so does opening, and the next one runs it again.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let drawer = Drawer::options()
    ///     .fill_new(|tx| tx.insert(Glaze { name: "Celadon".into() }).map(drop))
    ///     .open(path, Schema::new("kilnbook").record::<Glaze>())?;
    /// assert_eq!(drawer.count::<Glaze>()?, 1);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[must_use]
    pub fn fill_new(mut self, fill: impl Fn(&Tx<'_>) -> Result<(), Error> + Send + Sync + 'static) -> Options {
        self.fill_new = Some(FillNew(Arc::new(fill)));
        self
    }

    /// Writes down nothing of what each start of the app did. Unless this is said, the file keeps when each began, at which version,
    /// how much it wrote and how it ended, for whoever asks why the data are not as expected.
    #[must_use]
    pub fn without_sessions(mut self) -> Options {
        self.sessions_kept = None;
        self
    }

    /// Keeps a trail of what is written to records: which was written, when, by which session and in which transaction, also by
    /// other programs, and what stood there before where [`Trail::Before`] is wanted. Off unless said otherwise.
    ///
    /// Each record that is written costs an entry in the file, which keeps the last 10,000, for 90 days ([`Options::trail_kept`]).
    /// Where the next open says nothing of trails, nothing more is kept; the entries there are stay, until
    /// [`Drawer::forget_trail`]. `velvet trail` and [`crate::inspect::File::trail`] show them.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// use velvet_drawer::{Trail, inspect};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let drawer = Drawer::options().trail(Trail::Before).open(&path, Schema::new("kilnbook").record::<Piece>())?;
    /// let bowl = drawer.insert(Piece { mark: "K-1".into(), grams: 640 })?;
    /// drawer.change(bowl.key(), |p| p.grams = 590)?;
    ///
    /// let file = inspect::File::open(&path)?;
    /// let newest = &file.trail(&inspect::TrailOf::default())?[0];
    /// assert_eq!(newest.columns[0].before, inspect::Told::Value(640.into()));
    /// assert_eq!(newest.columns[0].after, inspect::Told::Value(590.into()));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[must_use]
    pub fn trail(mut self, trail: Trail) -> Options {
        self.trails.all = trail;
        self
    }

    /// Keeps a trail of one type of record, whatever is kept of the others; see [`Options::trail`].
    #[must_use]
    pub fn trail_of<T: Record>(mut self, trail: Trail) -> Options {
        self.trails.of.push((T::TABLE, trail));
        self
    }

    /// How many entries of the trail the file keeps, up to an eighth more, and for how long about.
    #[must_use]
    pub fn trail_kept(mut self, entries: u64, age: Duration) -> Options {
        (self.trails.entries, self.trails.age) = (entries.max(1), age);
        self
    }

    /// How many copies from before upgrades that lose something, and from before the library took the file over, stay beside the
    /// file, and for how long about: the newest 3, for 180 days, unless said otherwise. Files that were set aside stay until
    /// [`Drawer::remove_from_device`].
    #[must_use]
    pub fn copies_kept(mut self, copies: usize, age: Duration) -> Options {
        self.copies = Bounds { copies, age };
        self
    }

    /// How many of the last sessions the file keeps; 200 unless said otherwise.
    #[must_use]
    pub fn sessions_kept(mut self, sessions: u32) -> Options {
        self.sessions_kept = Some(sessions.max(1));
        self
    }

    /// Opens the drawer at `path`; see [`Drawer::open`].
    ///
    /// # Errors
    /// As [`Drawer::open`].
    #[track_caller]
    pub fn open(self, path: impl AsRef<Path>, schema: Schema) -> Result<Drawer, Error> {
        let watch = self.watch();
        // Not by `map`: each handle knows the line of the app that took it.
        Ok(Drawer::of(self.open_watched(path.as_ref(), schema, &watch)?))
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

    /// What holds for the whole time that the file is open.
    fn in_effect(&self, declared: &Declared) -> InEffect {
        InEffect {
            trails: self.trails.in_effect(declared),
            relaxed: self.settings.relaxed,
            files_root: self.files_root.clone(),
            without_sessions: self.sessions_kept.is_none(),
        }
    }

    fn watch(&self) -> Watch {
        Watch::new(self.slow_upgrade, self.fail_upgrade)
    }

    fn open_watched(self, path: &Path, schema: Schema, watch: &Watch) -> Result<Arc<Inner>, Error> {
        let begun = Instant::now();
        let result = schema.declared().map_err(|e| e.in_file(path)).and_then(|mut declared| {
            declared.app_version.clone_from(&self.app_version);
            self.trails.fits(&declared).map_err(|e| e.in_file(path))?;
            let path = path::prepared(path)?;
            events::configured(&path, &declared);
            let asked = self.in_effect(&declared);
            registry::open(&path, declared, &asked, |declared| {
                let inner = self.open_file(&path, declared, watch)?;
                events::opened(&path, &inner.declared, inner.opened(), begun.elapsed());
                Ok(inner)
            })
        });
        result.inspect_err(|error| events::failed(path, error))
    }

    /// Opens a new, empty drawer in memory; see [`Drawer::in_memory`].
    ///
    /// # Errors
    /// As [`Drawer::in_memory`].
    #[track_caller]
    pub fn in_memory(self, schema: Schema) -> Result<Drawer, Error> {
        Ok(Drawer::of(self.open_memory(schema, |_, _| Ok(()))?))
    }

    /// Opens a drawer that somebody holds as bytes; see [`Drawer::from_bytes`].
    ///
    /// # Errors
    /// As [`Drawer::from_bytes`].
    #[track_caller]
    pub fn from_bytes(self, bytes: &[u8], schema: Schema) -> Result<Drawer, Error> {
        Ok(Drawer::of(self.open_memory(schema, |connection, settings| {
            engine::pour_bytes(bytes, connection, settings)
                .map_err(|fault| Error::engine("cannot read the bytes", fault))
        })?))
    }

    fn open_file(self, path: &Path, declared: Declared, watch: &Watch) -> Result<Arc<Inner>, Error> {
        let place = Place::File(path.to_owned());
        let shipped = match &self.shipped {
            Some(shipped) if !path.exists() => shipped.copy_to(path)?,
            _ => false,
        };
        let in_effect = self.in_effect(&declared);
        let mut set_aside = None;
        let opened = self.writer(path, &declared, watch).or_else(|error| {
            let error = place.name(error);
            if !self.set_aside.covers(&error) {
                return Err(error);
            }
            set_aside = Some(aside::set_aside(path)?);
            self.writer(path, &declared, watch).map_err(|e| place.name(e))
        });
        let (mut writer, opened) = opened?;
        let opened = Opened { shipped, set_aside, ..opened };
        let files_root = self.files_root.or_else(|| path.parent().map(Path::to_owned));
        let start = self.sessions_kept.map(|kept| Start {
            path: path.to_owned(),
            settings: self.settings.clone(),
            app_version: declared.app_version.clone(),
            schema_version: declared.version,
            opened: opened.in_words(),
            kept,
        });
        let recorder = start.map(Recorder::new);
        if let Some(recorder) = &recorder {
            writer.count_writes(recorder.hears());
        }
        let trails = self.trails.any(&declared).then(|| Keeping::new(self.trails.entries, self.trails.age));
        if opened.upgraded.is_some() || opened.adopted.is_some() {
            keep_within(path, self.copies);
        }
        let copies = self.copies;
        let pool = Pool::new(path, self.settings, writer);
        let inner = Arc::new(Inner::new(place, declared, (files_root, in_effect), opened, (recorder, trails), pool));
        filled(&inner, self.fill_new)?;
        if let Some(recorder) = inner.recorder() {
            let path = path.to_owned();
            recorder.begin(inner.pool().shared_writer(), move || keep_within(&path, copies));
        }
        Ok(inner)
    }

    /// The connection that writes to the file at `path`, once that has the declared structure.
    fn writer(&self, path: &Path, declared: &Declared, watch: &Watch) -> Result<(Connection, Opened), Error> {
        let engine = |fault| {
            let fault = told_from_read_only(fault, path);
            Error::engine("cannot open the drawer", fault).untouched(recognise::UNTOUCHED)
        };
        let writer = Connection::writer(path, &self.settings).map_err(engine)?;
        let adopts =
            |error: &Error| self.adopt.as_ref().filter(|_| error.is_other_app() && recognise::is_plain(&writer));
        match recognise(&writer, declared) {
            Ok(found) => {
                writer.keep_log(&self.settings).map_err(engine)?;
                let opened = self.bring_up(&writer, found, declared, Some(path), watch)?;
                Ok((writer, opened))
            }
            Err(error) => {
                let Some(conversions) = adopts(&error) else { return Err(error) };
                let adopted = upgrading::adopt(&writer, declared, Some(path), watch, conversions)?;
                writer.keep_log(&self.settings).map_err(engine)?;
                let found = recognise(&writer, declared)?;
                let opened = self.bring_up(&writer, found, declared, Some(path), watch)?;
                Ok((writer, Opened { adopted: Some(adopted), ..opened }))
            }
        }
    }

    /// Makes the declared structure of what was found.
    fn bring_up(
        &self,
        connection: &Connection,
        found: Found,
        declared: &Declared,
        path: Option<&Path>,
        watch: &Watch,
    ) -> Result<Opened, Error> {
        match found {
            Found::Current { trail } => {
                self.trails.bring_up(connection, declared, &trail)?;
                self.index_what_others_wrote(connection, &declared.structure);
                Ok(Opened::default())
            }
            Found::Older(from) => {
                let upgraded = upgrading::upgrade(connection, declared, from, path, watch)?;
                self.trails.bring_up(connection, declared, "")?;
                Ok(Opened { upgraded, ..Opened::default() })
            }
            Found::Fresh if create::create(connection, declared, self.fill_new.is_some())? => {
                self.trails.bring_up(connection, declared, "")?;
                Ok(Opened { created: true, ..Opened::default() })
            }
            // Another process was faster, perhaps with an older version of the app.
            Found::Fresh => self.bring_up(connection, recognise(connection, declared)?, declared, path, watch),
        }
    }

    /// So that the first search finds what other programs wrote while the file was closed. Where that cannot be, the search says so.
    fn index_what_others_wrote(&self, connection: &Connection, structure: &Structure) {
        let is_searched = searching::searched(structure).next().is_some();
        if is_searched && searching::is_behind(connection).unwrap_or_default() {
            let _ = searching::catch_up_at_once(connection, structure, self.settings.wait);
        }
    }

    fn open_memory(
        self,
        schema: Schema,
        fill: impl FnOnce(&mut Connection, &Settings) -> Result<(), Error>,
    ) -> Result<Arc<Inner>, Error> {
        let name = |error: Error| Place::Memory.name(error);
        let watch = self.watch();
        let mut declared = schema.declared().map_err(name)?;
        self.trails.fits(&declared).map_err(name)?;
        declared.app_version.clone_from(&self.app_version);
        let place = engine::memory_place();
        let mut writer = Connection::writer(&place, &self.settings)
            .map_err(|fault| name(Error::engine("cannot open a drawer in memory", fault)))?;
        fill(&mut writer, &self.settings).map_err(name)?;
        let found = recognise(&writer, &declared).map_err(name)?;
        let opened = self.bring_up(&writer, found, &declared, None, &watch).map_err(name)?;
        let trails = self.trails.any(&declared).then(|| Keeping::new(self.trails.entries, self.trails.age));
        let pool = Pool::new(&place, self.settings, writer);
        let in_effect = InEffect::default();
        let inner =
            Arc::new(Inner::new(Place::Memory, declared, (self.files_root, in_effect), opened, (None, trails), pool));
        filled(&inner, self.fill_new)?;
        Ok(inner)
    }
}

/// The engine says of a file in a folder that cannot be written only that it cannot be opened, because it wants to put its
/// log there.
fn told_from_read_only(fault: Fault, path: &Path) -> Fault {
    let folder = path.parent().filter(|_| fault.kind == FaultKind::CannotOpen);
    let Some(Err(error)) = folder.map(tempfile::tempfile_in) else { return fault };
    match error.kind() {
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => {
            Fault { kind: FaultKind::ReadOnly, message: error.to_string() }
        }
        _ => fault,
    }
}

/// Brings data into a file that waits for it.
fn filled(inner: &Arc<Inner>, fill: Option<FillNew>) -> Result<(), Error> {
    let Some(FillNew(fill)) = fill else { return Ok(()) };
    Drawer::of(Arc::clone(inner)).write(|tx| {
        let waits = About::waits_to_be_filled(tx.connection())
            .map_err(|fault| inner.fault("cannot bring data into the new file", fault))?;
        if !waits {
            return Ok(());
        }
        fill(tx)?;
        About::is_filled(tx.connection()).map_err(|fault| inner.fault("cannot bring data into the new file", fault))
    })
}
