//! Giving unused space back to the device.

use crate::drawer::{Drawer, OpenRead, Place, UNTOUCHED};
use crate::engine::{Connection, Fault, Opener, Pages};
use crate::error::{Cause, Doing, Error};
use crate::file::space;
use crate::schema::about::About;
#[cfg(feature = "inspect")]
use crate::work::cancel::Cancel;
use crate::work::progress;
use std::path::Path;
use std::time::Duration;

/// How much space a drawer takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Space {
    /// The bytes of the file, once everything is merged into it.
    pub bytes: u64,
    /// The bytes of whole pages in which nothing is stored: new records go there first, and [`Drawer::compact`] gives them back, with
    /// what is unused within pages.
    pub unused: u64,
    /// The bytes that must be free on the device for [`Drawer::compact`].
    pub needed: u64,
    /// The bytes of the write-ahead log beside the file. It grows while a read is open, and is cut when that has ended.
    pub wal: u64,
    /// The reads that are open in this process, the oldest first.
    pub open_reads: Vec<OpenRead>,
}

impl Drawer {
    /// How much space the drawer takes, how much of it is unused, and how much giving that back would need.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn space(&self) -> Result<Space, Error> {
        let doing = || "cannot tell how much space the drawer takes";
        let space = self.inner.reading(|scope| scope.doing(doing, || Ok(measured(scope.connection)?)))?;
        Ok(self.with_log(space))
    }

    /// Gives unused space back to the device, and says how much space the drawer takes then. Keys stay as they are.
    ///
    /// The file is written anew in one transaction: a kill in the middle leaves it as it was. It takes time that grows with the
    /// file, and others cannot write meanwhile; few apps need it but after removing a lot.
    ///
    /// # Errors
    /// When the device has not the space for it ([`Error::is_no_space`]), or the file is locked or cannot be written. It is then as
    /// it was.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Note { text: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Note>())?;
    /// # drawer.insert_all((0..200).map(|n| Note { text: "x".repeat(400 + n) }))?;
    /// # drawer.remove_all::<Note>()?;
    /// let before = drawer.space()?;
    /// if before.unused > before.bytes / 2 {
    ///     let after = drawer.compact()?;
    ///     assert!(after.bytes < before.bytes && after.unused == 0);
    /// }
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "vacuum")]
    pub fn compact(&self) -> Result<Space, Error> {
        let space = self.inner.with_writer(|scope| {
            scope.doing(
                || "cannot compact the drawer",
                || {
                    if let Place::File(path) = &self.inner.place {
                        has_space(scope.connection, path)?;
                    }
                    Ok(compacted(scope.connection)?)
                },
            )
        })?;
        // Where a read is open, the log is cut when that has ended.
        self.inner.cut_log();
        Ok(self.with_log(space))
    }

    fn with_log(&self, space: Space) -> Space {
        Space { wal: self.inner.pool().log_bytes(), open_reads: self.inner.open_reads(), ..space }
    }
}

/// Sees that there is space to write the file anew.
fn has_space(connection: &Connection, path: &Path) -> Result<(), Error> {
    let found = space::require(path, measured(connection)?.needed, "compacting", "Free some space and try again");
    found.untouched(|| UNTOUCHED)
}

/// Gives the unused space of the file at `path` back to the device, also of one that no app of ours made, and says how much space it took
/// before and takes now. An app may have it open.
///
/// # Errors
/// When it is not there or no database, another program holds it for too long, or the device has too little room. It is as it was then.
#[cfg(feature = "inspect")]
pub fn compact_file(path: impl AsRef<Path>, cancel: &Cancel) -> Result<(Space, Space), Error> {
    let path = path.as_ref();
    let work = || {
        if !path.is_file() {
            return Err(Error::bare(Cause::FileMissing, "it does not exist").advise("Check the path"));
        }
        let mut connection = Opener::new(path).waiting(WAIT).writer()?;
        connection.bound(cancel, Duration::MAX, u64::MAX)?;
        let before = measured(&connection)?;
        has_space(&connection, path)?;
        let after = compacted(&connection)?;
        connection.close()?;
        Ok((before, after))
    };
    work().doing(|| "cannot compact the file").untouched(|| UNTOUCHED).in_file(path)
}

fn compacted(connection: &Connection) -> Result<Space, Fault> {
    progress::tell(|| "compacting".to_owned(), 0, None);
    // Writing the file anew counts as a change of structure, which the next open would look into.
    About::still_the_same(connection, || connection.compact())?;
    // While somebody reads, the write-ahead log stays as large as the file; it is merged later.
    connection.truncate_wal();
    measured(connection)
}

/// How long to wait for an app that has the file open.
const WAIT: Duration = Duration::from_secs(5);

fn measured(connection: &Connection) -> Result<Space, Fault> {
    let Pages { count, unused, size } = connection.pages()?;
    // What is used is written to a temporary file, and from there to the write-ahead log.
    Ok(Space {
        bytes: count * size,
        unused: unused * size,
        needed: (count - unused.min(count)) * size * 2,
        wal: 0,
        open_reads: Vec::new(),
    })
}
