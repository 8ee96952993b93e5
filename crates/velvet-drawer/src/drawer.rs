//! The handle to an open drawer.

use crate::engine::{Connection, Fault, Pool};
use crate::error::{Cause, Error};
use crate::events;
use crate::opening::{self, InEffect, KeptCopy, Opened, Options};
use crate::reading::{Open, SuggestedFrom};
use crate::schema::{Declared, Schema};
use crate::sessions::Recorder;
use crate::trails::Keeping;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fmt;
use std::panic::Location;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// An open database file: a cheap handle that is cloned freely and used from any thread.
///
/// Dropping the last handle closes the file; nothing that was acknowledged is lost either way.
///
/// Inside the closures of [`Drawer::write`] and [`Drawer::read`] use what they are given; the drawer itself refuses to
/// be used there, on the same thread, because it would wait for itself or see another state ([`Error::is_nested`]).
pub struct Drawer {
    pub(crate) inner: Arc<Inner>,
    handle: u64,
}

/// What all handles to one open file share.
pub(crate) struct Inner {
    pub(crate) place: Place,
    pub(crate) declared: Declared,
    pub(crate) files_root: Option<PathBuf>,
    /// The texts that were suggested from last, for the next letter.
    pub(crate) suggested_from: Mutex<Option<SuggestedFrom>>,
    /// Whether words of any table are searched.
    pub(crate) is_searched: bool,
    opened: Opened,
    in_effect: InEffect,
    recorder: Option<Recorder>,
    trails: Option<Keeping>,
    pool: Option<Pool>,
    handles: Mutex<Handles>,
}

/// Where a drawer is.
#[derive(Clone, Debug)]
pub(crate) enum Place {
    File(PathBuf),
    Memory,
}

#[derive(Default)]
struct Handles {
    next: u64,
    open: BTreeMap<u64, &'static Location<'static>>,
}

thread_local! {
    /// The drawers that have a transaction or a view open on this thread.
    static BUSY_HERE: RefCell<Vec<*const Inner>> = const { RefCell::new(Vec::new()) };
}

/// Marks a drawer as busy on this thread until it is dropped.
struct BusyHere;

impl Drop for BusyHere {
    fn drop(&mut self) {
        BUSY_HERE.with_borrow_mut(Vec::pop);
    }
}

impl Drawer {
    /// Opens the drawer at `path`, and creates it, and the folders above it, where there is none.
    ///
    /// A file that is open in this process already is not opened again: both handles are to the same database, also
    /// when the paths differ by `..`, a symbolic link or where they start.
    ///
    /// # Errors
    /// When the schema is not sound, or the file is not one of this app's, has another structure, was written by a newer
    /// version, is damaged, locked or cannot be written. The file is then as it was.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("data/kiln.drawer");
    /// let drawer = Drawer::open(path, Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[track_caller]
    pub fn open(path: impl AsRef<Path>, schema: Schema) -> Result<Drawer, Error> {
        Options::default().open(path, schema)
    }

    /// Opens a new, empty drawer in memory, for tests. It is gone when the last handle is dropped.
    ///
    /// # Errors
    /// When the schema is not sound.
    #[track_caller]
    pub fn in_memory(schema: Schema) -> Result<Drawer, Error> {
        Options::default().in_memory(schema)
    }

    /// Opens a drawer that somebody holds as bytes, in memory. The bytes are those of a drawer's file.
    ///
    /// # Errors
    /// As [`Drawer::open`].
    #[track_caller]
    pub fn from_bytes(bytes: &[u8], schema: Schema) -> Result<Drawer, Error> {
        Options::default().from_bytes(bytes, schema)
    }

    /// How to open a drawer, where the defaults do not fit.
    pub fn options() -> Options {
        Options::default()
    }

    /// Removes a drawer from the device, with everything that belongs to it: also the copies that were kept from before upgrades, and
    /// files that were set aside ([`Drawer::kept_copies`]). Says whether there was anything.
    ///
    /// # Errors
    /// When it, or a copy, is open here or elsewhere ([`Error::is_in_use`]), or the file is no drawer; nothing is removed then.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("guest.drawer");
    /// # Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?.close()?;
    /// assert!(Drawer::remove_from_device(&path)?);
    /// assert!(!Drawer::remove_from_device(&path)?);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn remove_from_device(path: impl AsRef<Path>) -> Result<bool, Error> {
        opening::remove_from_device(path.as_ref(), opening::Copies::Go)
    }

    /// As [`Drawer::remove_from_device`], but leaves the copies that are kept beside it.
    ///
    /// # Errors
    /// As [`Drawer::remove_from_device`].
    pub fn remove_but_keep_copies(path: impl AsRef<Path>) -> Result<bool, Error> {
        opening::remove_from_device(path.as_ref(), opening::Copies::Stay)
    }

    /// What is kept beside the drawer at `path`, the newest first: copies from before upgrades that lose something and from before
    /// the library took the file over, and files that were set aside. [`Options::copies_kept`] bounds the copies.
    ///
    /// # Errors
    /// When the folder is not there.
    pub fn kept_copies(path: impl AsRef<Path>) -> Result<Vec<KeptCopy>, Error> {
        Ok(opening::kept(&opening::resolved(path.as_ref())?))
    }

    /// Puts a copy of the file at `from` in the place of the drawer at `path`, wholly or not at all, also through a kill. What stood there
    /// is set aside, and its new place returned; nothing where there was no file. The next open upgrades the copy where it is older.
    ///
    /// # Errors
    /// When either is open here or elsewhere ([`Error::is_in_use`]), or the copy is not there, damaged, or no drawer of the same app.
    /// The file is then as it was.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let (path, copy) = (folder.path().join("kiln.drawer"), folder.path().join("copy.drawer"));
    /// # let schema = || Schema::new("kilnbook").record::<Glaze>();
    /// let drawer = Drawer::open(&path, schema())?;
    /// drawer.insert(Glaze { name: "Celadon".into() })?;
    /// drawer.copy_to(&copy)?;
    /// drawer.remove_all::<Glaze>()?;
    /// drawer.close()?;
    ///
    /// let set_aside = Drawer::restore(&path, &copy)?;
    /// assert_eq!(Drawer::open(&path, schema())?.count::<Glaze>()?, 1);
    /// assert!(set_aside.unwrap().exists());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn restore(path: impl AsRef<Path>, from: impl AsRef<Path>) -> Result<Option<PathBuf>, Error> {
        opening::restore(path.as_ref(), from.as_ref())
    }

    #[track_caller]
    pub(crate) fn of(inner: Arc<Inner>) -> Drawer {
        let handle = inner.new_handle(Location::caller());
        Drawer { inner, handle }
    }

    /// The whole path of the file; nothing for a drawer in memory.
    pub fn path(&self) -> Option<&Path> {
        match &self.inner.place {
            Place::File(path) => Some(path),
            Place::Memory => None,
        }
    }

    /// What opening it came to: whether it was created, or upgraded and how. Of a file that was open already, what its
    /// first opening came to.
    pub fn opened(&self) -> &Opened {
        self.inner.opened()
    }

    /// The whole drawer as bytes, such as its file would hold once everything is merged.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn to_bytes(&self) -> Result<Vec<u8>, Error> {
        self.reading(|c| {
            crate::engine::bytes_of(c).map_err(|fault| self.inner.fault("cannot read the whole drawer", fault))
        })
    }

    /// Closes this handle, and the file when it is the last one.
    ///
    /// # Errors
    /// When other handles keep the file open, with the places that took them ([`Error::is_in_use`]). This handle is
    /// closed all the same, and the file follows when the last of the others is dropped.
    pub fn close(self) -> Result<(), Error> {
        let inner = Arc::clone(&self.inner);
        drop(self);
        let still_open = inner.open_handles();
        match Arc::try_unwrap(inner) {
            Ok(mut inner) => {
                inner.end();
                let result = inner.pool.take().map_or(Ok(()), Pool::close);
                result.map_err(|fault| inner.fault("cannot close the drawer", fault))
            }
            // Another handle was dropped this very moment, and is closing the file.
            Err(_) if still_open.is_empty() => Ok(()),
            Err(inner) => {
                let places: Vec<String> = still_open.iter().map(|at| format!("{}:{}", at.file(), at.line())).collect();
                let count =
                    if places.len() == 1 { "1 other handle".into() } else { format!("{} other handles", places.len()) };
                Err(inner.place.name(
                    Error::new(
                        Cause::InUse,
                        format!("the file stays open: {count} in use, taken at {}", places.join(", ")),
                    )
                    .untouched("This handle is closed; nothing acknowledged is lost")
                    .advise("Drop the others, or close them"),
                ))
            }
        }
    }

    /// Runs `work` with the connection that writes.
    pub(crate) fn writing<R>(&self, work: impl FnOnce(&Connection) -> Result<R, Error>) -> Result<R, Error> {
        self.inner.refuse_if_busy_here("write to")?;
        let writer = self.inner.pool().writer();
        if let Some(recorder) = self.inner.recorder() {
            recorder.mark(&writer);
        }
        let result = work(&writer);
        writer.settle_counts();
        result
    }

    /// Runs `work`, which writes records in one statement, with the connection that writes. Where trails are kept it is a
    /// transaction, in which the write gets its number; and where words are searched, in which the index is told of it.
    #[inline]
    pub(crate) fn writing_records<R>(&self, work: impl FnOnce(Open<'_>) -> Result<R, Error>) -> Result<R, Error> {
        if self.inner.trails.is_some() || self.inner.is_searched {
            return self.write(|tx| work(tx.open()));
        }
        self.writing(|connection| work(Open { connection, inner: &self.inner }))
    }

    /// Runs `work` with a connection that reads.
    #[inline]
    pub(crate) fn reading<R>(&self, work: impl FnOnce(&Connection) -> Result<R, Error>) -> Result<R, Error> {
        self.inner.refuse_if_busy_here("read")?;
        let reader =
            self.inner.pool().reader().map_err(|fault| self.inner.fault("cannot open the file for reading", fault))?;
        work(&reader)
    }

    /// Runs `work` with this drawer marked as busy on this thread.
    pub(crate) fn busy_here<R>(&self, work: impl FnOnce() -> R) -> R {
        BUSY_HERE.with_borrow_mut(|busy| busy.push(Arc::as_ptr(&self.inner)));
        let _mark = BusyHere;
        work()
    }
}

impl Inner {
    pub(crate) fn new(
        place: Place,
        declared: Declared,
        (files_root, in_effect): (Option<PathBuf>, InEffect),
        opened: Opened,
        (recorder, trails): (Option<Recorder>, Option<Keeping>),
        pool: Pool,
    ) -> Inner {
        Inner {
            place,
            is_searched: declared.structure.tables.iter().any(|t| !t.searchable.is_empty()),
            declared,
            files_root,
            suggested_from: Mutex::default(),
            opened,
            in_effect,
            recorder,
            trails,
            pool: Some(pool),
            handles: Mutex::default(),
        }
    }

    pub(crate) fn opened(&self) -> &Opened {
        &self.opened
    }

    /// The options that hold for all handles.
    pub(crate) fn in_effect(&self) -> &InEffect {
        &self.in_effect
    }

    /// What writes this session down, where that is on.
    pub(crate) fn recorder(&self) -> Option<&Recorder> {
        self.recorder.as_ref()
    }

    /// What keeps the trails, where any are on.
    pub(crate) fn trails(&self) -> Option<&Keeping> {
        self.trails.as_ref()
    }

    /// What comes before the connection that writes is closed.
    fn end(&mut self) {
        if let (Some(recorder), Some(pool)) = (self.recorder.take(), &self.pool) {
            recorder.end(&pool.shared_writer());
        }
        // The connection that watches over suggested texts must be closed first.
        self.suggested_from.get_mut().unwrap_or_else(PoisonError::into_inner).take();
    }

    pub(crate) fn pool(&self) -> &Pool {
        self.pool.as_ref().unwrap_or_else(|| unreachable!("the pool is taken out only by the last handle"))
    }

    fn new_handle(&self, at: &'static Location<'static>) -> u64 {
        let mut handles = self.handles.lock().unwrap_or_else(PoisonError::into_inner);
        handles.next += 1;
        let handle = handles.next;
        handles.open.insert(handle, at);
        handle
    }

    fn open_handles(&self) -> Vec<&'static Location<'static>> {
        self.handles.lock().unwrap_or_else(PoisonError::into_inner).open.values().copied().collect()
    }

    #[inline]
    pub(crate) fn refuse_if_busy_here(&self, what: &str) -> Result<(), Error> {
        if !BUSY_HERE.with_borrow(|busy| busy.contains(&std::ptr::from_ref(self))) {
            return Ok(());
        }
        Err(self.place.name(
            Error::new(
                Cause::Nested,
                format!("cannot {what} the drawer inside its own `write` or `read`, on the same thread"),
            )
            .untouched("Nothing was written by this call")
            .advise("Use what the closure is given: `tx` or `view`"),
        ))
    }

    /// An error of the engine, with this drawer's file.
    pub(crate) fn fault(&self, doing: &str, fault: Fault) -> Error {
        self.place.name(Error::engine(doing, fault))
    }
}

impl Drop for Inner {
    fn drop(&mut self) {
        self.end();
        drop(self.pool.take());
        if let Place::File(path) = &self.place {
            events::closed(path, self.declared.version);
        }
    }
}

impl Place {
    /// Names the file in an error.
    pub(crate) fn name(&self, error: Error) -> Error {
        match self {
            Place::File(path) => error.in_file(path),
            Place::Memory => error.in_file(Path::new("(in memory)")),
        }
    }
}

impl Clone for Drawer {
    #[track_caller]
    fn clone(&self) -> Drawer {
        Drawer::of(Arc::clone(&self.inner))
    }
}

impl Drop for Drawer {
    fn drop(&mut self) {
        self.inner.handles.lock().unwrap_or_else(PoisonError::into_inner).open.remove(&self.handle);
    }
}

impl fmt::Debug for Drawer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Drawer")
            .field("place", &self.inner.place)
            .field("app", &self.inner.declared.app)
            .field("version", &self.inner.declared.version)
            .finish_non_exhaustive()
    }
}
