//! Giving unused space back to the device.

use super::UNTOUCHED;
use crate::drawer::{Drawer, Place};
use crate::engine::{Connection, Fault, Settings};
use crate::error::{Cause, Error};
use crate::opening::{APPLICATION_ID, About};
use crate::space;
use std::path::Path;
use std::time::Duration;

/// How much space a drawer takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Space {
    /// The bytes of the file, once everything is merged into it.
    pub bytes: u64,
    /// The bytes of whole pages in which nothing is stored: new records go there first, and [`Drawer::compact`] gives them back, with
    /// what is unused within pages.
    pub unused: u64,
    /// The bytes that must be free on the device for [`Drawer::compact`].
    pub needed: u64,
}

impl Drawer {
    /// How much space the drawer takes, how much of it is unused, and how much giving that back would need.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn space(&self) -> Result<Space, Error> {
        self.reading(|connection| {
            measured(connection).map_err(|fault| self.inner.fault("cannot tell how much space the drawer takes", fault))
        })
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
    pub fn compact(&self) -> Result<Space, Error> {
        let engine = |fault| self.inner.fault("cannot compact the drawer", fault).untouched(UNTOUCHED);
        self.writing(|connection| {
            if let Place::File(path) = &self.inner.place {
                has_room(connection, path).map_err(|error| self.inner.place.name(error))?;
            }
            compacted(connection, true).map_err(engine)
        })
    }
}

/// Sees that there is room to write the file anew.
fn has_room(connection: &Connection, path: &Path) -> Result<(), Error> {
    let needed = measured(connection).map_err(|fault| Error::engine(DOING, fault).untouched(UNTOUCHED))?.needed;
    let room = space::require(path, needed, "compacting", "Free some space and try again");
    room.map_err(|error| error.untouched(UNTOUCHED))
}

const DOING: &str = "cannot compact the file";

/// Gives the unused space of the file at `path` back to the device, also of one that no app of ours made, and says how much space it took
/// before and takes now. An app may have it open.
///
/// # Errors
/// When it is not there or no database, another program holds it for too long, or the device has too little room. It is as it was then.
pub fn compact_file(path: impl AsRef<Path>) -> Result<(Space, Space), Error> {
    let path = path.as_ref();
    let engine = |fault| Error::engine(DOING, fault).untouched(UNTOUCHED);
    let work = || {
        if !path.is_file() {
            return Err(Error::new(Cause::NotThere, format!("{DOING}: it is not there")).advise("Check the path"));
        }
        let connection = Connection::writer(path, &Settings::of_ours(WAIT, false)).map_err(engine)?;
        let before = measured(&connection).map_err(engine)?;
        has_room(&connection, path)?;
        let ours = connection.number("PRAGMA application_id").map_err(engine)? == APPLICATION_ID;
        let after = compacted(&connection, ours).map_err(engine)?;
        connection.close().map_err(engine)?;
        Ok((before, after))
    };
    work().map_err(|error| error.in_file(path))
}

fn compacted(connection: &Connection, ours: bool) -> Result<Space, Fault> {
    connection.run("VACUUM")?;
    if ours {
        // Writing the file anew counts as a change of structure, which the next open would look into.
        let count = connection.number("PRAGMA schema_version")?;
        About::same_after_all(connection, count)?;
    }
    // While somebody reads, the log stays as large as the file; it is merged later.
    let _ = connection.run("PRAGMA wal_checkpoint(TRUNCATE)");
    measured(connection)
}

/// How long to wait for an app that has the file open.
const WAIT: Duration = Duration::from_secs(5);

fn measured(connection: &Connection) -> Result<Space, Fault> {
    let number = |name: &str| connection.number(&format!("PRAGMA {name}")).map(i64::unsigned_abs);
    let (pages, free, size) = (number("page_count")?, number("freelist_count")?, number("page_size")?);
    // What is used is written to a temporary file, and from there to the log.
    Ok(Space { bytes: pages * size, unused: free * size, needed: (pages - free.min(pages)) * size * 2 })
}
