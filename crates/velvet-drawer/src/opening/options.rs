//! How to open a drawer.

use super::aside::SetAside;
use super::kept::Bounds;
use super::shipped::Shipped;
use crate::bookkeeping::sessions;
use crate::bookkeeping::trails::WantedTrails;
use crate::device::clock::Clock;
use crate::drawer::{Drawer, Later};
use crate::engine::{self, Settings};
use crate::error::{Doing, Error};
use crate::events;
use crate::evolve::Conversions;
use crate::records::Tx;
use crate::schema::Schema;
use crate::sealing::Sealing;
use crate::sealing::encryption::{self, FileKey};
use crate::work::ui_thread;
use jiff::Timestamp;
use std::fmt;
use std::panic::Location;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use velvet_core::Record;
use velvet_core::sealing::keys::KeyKeeper;
use velvet_core::statement::Trail;

/// How to open a drawer, where the defaults do not fit.
///
/// ```
/// # use velvet_drawer::{Drawer, Record, Schema};
/// # use std::time::Duration;
/// # #[derive(Record)] struct Glaze { name: String }
/// # let folder = tempfile::tempdir().unwrap();
/// # let path = folder.path().join("kiln.drawer");
/// let drawer = Drawer::options()
///     .lock_timeout(Duration::from_secs(20))
///     .open(path, Schema::new("kilnbook").record::<Glaze>())?;
/// # Ok::<(), velvet_drawer::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct Options {
    pub(super) settings: Settings,
    pub(super) files_root: Option<PathBuf>,
    pub(super) app_version: Option<String>,
    pub(super) slow_upgrade: Option<Duration>,
    pub(super) fail_upgrade: Option<usize>,
    pub(super) set_aside: SetAside,
    pub(super) shipped: Option<Shipped>,
    pub(super) adopt: Option<Conversions>,
    pub(super) fill_new: Option<FillNew>,
    pub(super) sessions_kept: Option<u32>,
    pub(super) trails: WantedTrails,
    pub(super) copies: Bounds,
    pub(super) wal_at_most: Option<u64>,
    pub(super) read_only: bool,
    pub(super) others_within: Option<Duration>,
    pub(super) clock: Clock,
    pub(super) sealing: Sealing,
    pub(super) file_key: Option<FileKey>,
}

/// Brings data into a new file.
#[derive(Clone)]
pub(super) struct FillNew(pub(super) Arc<FillFn>);

pub(super) type FillFn = dyn Fn(&Tx<'_>) -> Result<(), Error> + Send + Sync;

impl fmt::Debug for FillNew {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FillNew")
    }
}

/// How long to wait for other processes unless said otherwise.
const WAIT: Duration = Duration::from_secs(5);

impl Default for Options {
    fn default() -> Options {
        Options {
            settings: Settings {
                wait: WAIT,
                relaxed: false,
                reporting: events::reporting(),
                seals: None,
                cipher: None,
            },
            files_root: None,
            app_version: None,
            slow_upgrade: None,
            fail_upgrade: None,
            set_aside: SetAside::default(),
            shipped: None,
            adopt: None,
            fill_new: None,
            sessions_kept: Some(sessions::KEPT),
            trails: WantedTrails::default(),
            copies: Bounds::default(),
            wal_at_most: None,
            read_only: false,
            others_within: None,
            clock: Clock::default(),
            sealing: Sealing::default(),
            file_key: encryption::of_all(),
        }
    }
}

impl Options {
    /// Sets the clock for columns with `#[record(created)]` and `#[record(changed)]`, for trails and for the age of kept copies; the system's clock by default. For tests. The first
    /// open of a file sets it for all handles.
    ///
    /// ```
    /// use velvet_drawer::{Drawer, Record, Schema};
    /// use jiff::Timestamp;
    ///
    /// #[derive(Record)]
    /// struct Note {
    ///     text: String,
    ///     #[record(created)]
    ///     written: Timestamp,
    /// }
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let noon: Timestamp = "2025-03-08T12:00:00Z".parse()?;
    /// let drawer = Drawer::options().clock(move || noon).in_memory(Schema::new("kilnbook").record::<Note>())?;
    /// let note = drawer.insert(Note { text: "lit".into(), written: Timestamp::default() })?;
    /// assert_eq!(note.written, noon);
    /// # Ok(()) }
    /// ```
    #[must_use]
    pub fn clock(mut self, now: impl Fn() -> Timestamp + Send + Sync + 'static) -> Options {
        self.clock = Clock(Some(Arc::new(now)));
        self
    }

    /// Where the keys of what is sealed (`#[record(sealed)]`) are kept: the device's secure store, behind a [`KeyKeeper`]. The first start makes a key; from
    /// then on it is asked for whenever the drawer is opened.
    ///
    /// ```
    /// use velvet_drawer::{Drawer, KeyKeeper, KeyRefusal, Record, Schema, SecretKey};
    /// # use std::{collections::HashMap, sync::Mutex};
    ///
    /// /// What stands here in place of the device's own store.
    /// #[derive(Default)]
    /// struct KeyChain(Mutex<HashMap<String, [u8; 32]>>);
    ///
    /// impl KeyKeeper for KeyChain {
    ///     fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
    ///         Ok(self.0.lock().unwrap().get(name).copied().map(SecretKey::from_bytes))
    ///     }
    ///     fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
    ///         self.0.lock().unwrap().insert(name.to_owned(), *key.expose());
    ///         Ok(())
    ///     }
    ///     fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
    ///         self.0.lock().unwrap().remove(name);
    ///         Ok(())
    ///     }
    /// }
    ///
    /// #[derive(Record)]
    /// struct Client { name: String, #[record(sealed)] phone: Option<String> }
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let drawer = Drawer::options()
    ///     .keys(KeyChain::default())
    ///     .open(path, Schema::new("kilnbook").record::<Client>())?;
    /// drawer.insert(Client { name: "Ann".into(), phone: Some("555 0100".into()) })?;
    /// let phones = drawer.records::<Client>().filter(|c| c.phone.is_some()).only(|c| c.phone).collect()?;
    /// assert_eq!(phones, [Some("555 0100".to_owned())]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[must_use]
    pub fn keys(mut self, keeper: impl KeyKeeper) -> Options {
        self.sealing.by(keeper);
        self
    }

    /// The whole file is encrypted, with this key: what is in it, its write-ahead log, and the copies that are kept beside it. A new file is made so; a plain one
    /// that is there is refused ([`Error::is_not_encrypted`](crate::Error::is_not_encrypted)), and encrypted by [`Drawer::change_file_key`]. A drawer in memory is
    /// not encrypted; the bytes that it is made of may be.
    ///
    /// What this protects, and what not, is told in `docs/secrecy.md`.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, FileKey, KeysInMemory, Record, Schema};
    /// # #[derive(Record)] struct Client { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # let the_device = KeysInMemory::default();
    /// let drawer = Drawer::options()
    ///     .encrypted(FileKey::kept_by(the_device))
    ///     .open(&path, Schema::new("kilnbook").record::<Client>())?;
    /// drawer.insert(Client { name: "Ann".into() })?;
    /// # drawer.close()?;
    /// assert!(!std::fs::read(path).unwrap().windows(3).any(|bytes| bytes == b"Ann"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[cfg(feature = "encryption")]
    #[must_use]
    pub fn encrypted(mut self, key: FileKey) -> Options {
        self.file_key = Some(key);
        self
    }

    /// Sets an encrypted file aside whose key is not there, or another one, and starts afresh with a new key. The file is moved and never deleted: with its
    /// key, it can be read again.
    #[cfg(feature = "encryption")]
    #[must_use]
    pub fn set_aside_without_key(mut self) -> Options {
        self.set_aside.without_key = true;
        self
    }

    /// For the tests of an app: what is sealed has a key that everybody knows.
    #[cfg(feature = "inspect")]
    pub(crate) fn with_fixed_key(mut self) -> Options {
        self.sealing.fix();
        self
    }

    /// Opens also without the key, such as after a move to another device: what is sealed stays shut, and reading or writing it is an error of its own
    /// ([`Error::is_unreadable`], [`Error::is_key_missing`]); of settings it is as by default, and told. Everything else is as usual.
    #[must_use]
    pub fn leave_sealed(mut self) -> Options {
        self.sealing.leave();
        self
    }

    /// How long to wait while another process holds the file, or another thread of this one is writing; 5 seconds unless said otherwise.
    #[must_use]
    #[doc(alias = "busy timeout")]
    pub fn lock_timeout(mut self, wait: Duration) -> Options {
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

    /// Refuses to write while the write-ahead log has more bytes than this ([`Error::is_in_use`](crate::Error::is_in_use)); the message says which
    /// read keeps it from being merged into the file. Without a bound, it grows for as long as a read is open.
    ///
    /// The log may exceed it by what one transaction writes. It should not be below 8 MB: what is merged stays that large, to be written over.
    #[must_use]
    pub fn wal_at_most(mut self, bytes: u64) -> Options {
        self.wal_at_most = Some(bytes);
        self
    }

    /// Only reads: for a widget or an extension beside the app, with the same schema. It sees what the app commits, never keeps it waiting, and never
    /// creates, upgrades or repairs anything: where the app has not brought the file to this version yet, opening fails
    /// ([`Error::is_other_structure`](crate::Error::is_other_structure)). Whatever would write fails ([`Error::is_read_only`](crate::Error::is_read_only)).
    ///
    /// No session is kept of it. With [`Options::others_noticed_within`], live results follow what the app writes. While it is open, the engine keeps
    /// its log and its shared memory beside the file, so the folder must be one that this process may write; they stay there, empty, where no app that
    /// writes has the file open, and the next one that closes it removes them. [`inspect::File`](crate::inspect::File) reads without leaving anything.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Debug)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// # let schema = || Schema::new("kilnbook").record::<Glaze>();
    /// # Drawer::open(&path, schema())?.close()?;
    /// // In the widget's process:
    /// let drawer = Drawer::options().read_only().open(&path, schema())?;
    /// assert_eq!(drawer.count::<Glaze>()?, 0);
    /// assert!(drawer.insert(Glaze { name: "Shino".into() }).unwrap_err().is_read_only());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[must_use]
    pub fn read_only(mut self) -> Options {
        self.read_only = true;
        self
    }

    /// Lets live results ([`Live`](crate::Live)) follow what other processes and programs commit too, within this time; without it, they follow
    /// what this process writes through the drawer.
    ///
    /// The file is not read for that: the engine counts the commits of others, which is looked at once in this time (1 µs) while something is
    /// followed that is not paused. 250 ms are a good choice for a screen.
    #[must_use]
    pub fn others_noticed_within(mut self, time: Duration) -> Options {
        self.others_within = Some(time);
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

    /// Tells the values that are bound in a reported statement too, but not of one that seals any. Nobody who must not see them may see the log then.
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

    /// Makes every version of an upgrade take this much longer, for a developer who wants to see the app meanwhile.
    #[must_use]
    pub fn slow_upgrade(mut self, each_version: Duration) -> Options {
        self.slow_upgrade = Some(each_version);
        self
    }

    /// Makes an upgrade fail after this many versions, or after its last where it goes through fewer, for a developer who wants to see what the app
    /// does then.
    #[must_use]
    pub fn fail_upgrade(mut self, after_versions: usize) -> Options {
        self.fail_upgrade = Some(after_versions);
        self
    }

    /// Sets a file aside whose structure is not the declared one, at the same version, and starts afresh: for the time of
    /// development. It is moved, with all that belongs to it, and never deleted; [`Opened::set_aside`](crate::Opened::set_aside) says where.
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

    /// Answers [`Error::is_foreign_log`](crate::Error::is_foreign_log): goes on with the file as it is, without the write-ahead log that is not part of it. The log
    /// is moved, and a complete copy of the file is kept next to it; both are listed by [`Drawer::kept_copies`], and [`Drawer::bring_back_log`] puts the log
    /// back. [`Opened::log_set_aside`](crate::Opened::log_set_aside) is its new path.
    ///
    /// For a log whose file was replaced on purpose, for example from a backup.
    #[must_use]
    pub fn set_aside_foreign_log(mut self) -> Options {
        self.set_aside.foreign_log = true;
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
    /// Every value is checked: if some are not of their column's type, opening fails with how many, examples, and an expression that was tried on all of them; see
    /// [`Options::adopt_converting`]. A key that has another name is called `key` afterwards, also in the file's own triggers, views and full-text tables; what cannot follow
    /// refuses the file. [`Adopted::dropped`](crate::Adopted::dropped) lists what the types do not declare.
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
    #[doc(alias = "audit log")]
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

    /// How many entries of the trail the file keeps, up to an eighth more, and for how long about. Age counts from entry to entry, at most seven days each, so that a clock
    /// which is wrong for once deletes nothing.
    #[must_use]
    pub fn trail_kept(mut self, entries: u64, age: Duration) -> Options {
        (self.trails.entries, self.trails.age) = (entries.max(1), age);
        self
    }

    /// How many copies from before upgrades that lose something, and from before the library took the file over, stay beside the
    /// file, and for how long about: the newest 3, for 180 days, by default. The newest one of each version stays whatever its age. Age counts from start to start, at most seven
    /// days each, so that a clock which is wrong for once deletes nothing. Files that were set aside stay until [`Drawer::remove_from_device`].
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
        let _waits = ui_thread::watched();
        // Not by `map`: each handle knows the line of the app that took it.
        Ok(Drawer::of(self.open_inner(path.as_ref(), schema)?))
    }

    /// Opens the drawer at `path` on a thread of its own, so that a long upgrade never holds up the app's first screen.
    ///
    /// Dropping what is returned lets it go on; another open of the same file joins it. An upgrade that is cancelled is rolled back.
    ///
    /// # Errors
    /// None at once. When it is awaited: as [`Drawer::open`], and when it was cancelled ([`Error::is_cancelled`]).
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { name: String }
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = folder.path().join("kiln.drawer");
    /// let opening = Drawer::options().open_in_background(path, Schema::new("kilnbook").record::<Glaze>());
    /// while !opening.is_finished() {
    ///     let progress = opening.progress();
    ///     println!("{} of {}", progress.parts_done, progress.parts);
    /// }
    /// let drawer = opening.wait()?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[track_caller]
    pub fn open_in_background(self, path: impl Into<PathBuf>, schema: Schema) -> Later<Drawer> {
        let (path, at) = (path.into(), Location::caller());
        let open = move |path: &Path| Ok(Drawer::taken_at(self.open_inner(path, schema)?, at));
        Later::begin_at(path, "cannot open the drawer", open)
    }

    /// Opens a new, empty drawer in memory; see [`Drawer::in_memory`].
    ///
    /// # Errors
    /// As [`Drawer::in_memory`].
    #[track_caller]
    pub fn in_memory(self, schema: Schema) -> Result<Drawer, Error> {
        let _waits = ui_thread::watched();
        Ok(Drawer::of(self.open_memory(schema, |_, _| Ok(()))?))
    }

    /// Opens a drawer that somebody holds as bytes; see [`Drawer::from_bytes`].
    ///
    /// # Errors
    /// As [`Drawer::from_bytes`].
    #[track_caller]
    pub fn from_bytes(self, bytes: &[u8], schema: Schema) -> Result<Drawer, Error> {
        let _waits = ui_thread::watched();
        let doing = || "cannot read the bytes";
        let cipher = self.file_key.as_ref().map(|key| key.of_file_in(bytes)).transpose().doing(doing)?.flatten();
        Ok(Drawer::of(self.open_memory(schema, |connection, wait| {
            let poured = match cipher {
                Some(cipher) => engine::pour_encrypted(bytes, cipher, connection),
                None => engine::pour_bytes(bytes, connection, wait),
            };
            poured.doing(doing)
        })?))
    }
}
