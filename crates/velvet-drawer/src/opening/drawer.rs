//! Opening, removing and restoring, as they are called on [`Drawer`].

use super::{Copies, KeptCopy, Options, bring_back, kept, remove_from_device, resolved, restore};
use crate::drawer::Drawer;
use crate::error::Error;
use crate::schema::Schema;
use crate::work::ui_thread;
use std::path::{Path, PathBuf};

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
        let _waits = ui_thread::watched();
        remove_from_device(path.as_ref(), Copies::Go)
    }

    /// As [`Drawer::remove_from_device`], but leaves the copies that are kept beside it.
    ///
    /// # Errors
    /// As [`Drawer::remove_from_device`].
    pub fn remove_but_keep_copies(path: impl AsRef<Path>) -> Result<bool, Error> {
        let _waits = ui_thread::watched();
        remove_from_device(path.as_ref(), Copies::Stay)
    }

    /// What is kept beside the drawer at `path`, the newest first: copies from before upgrades that lose something and from before
    /// the library took the file over, and files that were set aside. [`Options::copies_kept`] bounds the copies.
    ///
    /// # Errors
    /// When the folder is not there.
    #[doc(alias = "backup")]
    pub fn kept_copies(path: impl AsRef<Path>) -> Result<Vec<KeptCopy>, Error> {
        let _waits = ui_thread::watched();
        Ok(kept(&resolved(path.as_ref())?))
    }

    /// Replays a write-ahead log that was set aside over the drawer at `path`: what `Error::is_foreign_log` names, or
    /// [`Opened::log_set_aside`](crate::Opened::log_set_aside). Returns where the file without it is kept. A kill leaves the one or the other.
    ///
    /// The transactions in the log take the place of whatever was written to the same pages since then. So this is for a file to which nothing, or
    /// nothing that matters, was written since.
    ///
    /// # Errors
    /// When the drawer is open, here or elsewhere ([`Error::is_in_use`]), the log is empty or proven to belong to a different version of the file
    /// ([`Error::is_foreign_log`]), or the result would not be sound ([`Error::is_damaged`]). File and log are then as they were.
    pub fn bring_back_log(path: impl AsRef<Path>, log: impl AsRef<Path>) -> Result<Option<PathBuf>, Error> {
        let _waits = ui_thread::watched();
        bring_back(path.as_ref(), log.as_ref())
    }

    /// Puts a copy of the file at `from` in the place of the drawer at `path`, wholly or not at all, also through a kill. What stood there
    /// is set aside, and its new place returned; nothing where there was no file. The next open upgrades the copy where it is older. Encrypted files have to be
    /// unlocked (`FileKey::unlock`), both; the copy then gets the key of the file whose place it takes, also where it is plain.
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
    #[doc(alias = "backup")]
    pub fn restore(path: impl AsRef<Path>, from: impl AsRef<Path>) -> Result<Option<PathBuf>, Error> {
        let _waits = ui_thread::watched();
        restore(path.as_ref(), from.as_ref())
    }
}
