//! Complete copies of a file, also of one that is open.

use crate::bookkeeping::trails::hide;
use crate::drawer::Drawer;
use crate::engine::{Fault, Opener, copy_from};
use crate::error::Error;
use crate::file::new_file;
use crate::schema::about::About;
use crate::sealing::note_copied_keys;
use crate::search;
use std::path::Path;
use velvet_core::schema::structure::{ATTACHMENT_PART, Structure};
use velvet_core::statement::TRAIL;
use velvet_core::value::name::quoted;

impl Drawer {
    /// Copies the whole drawer to a new file at `path`, as it is at one moment, while others go on reading and writing. The copy is
    /// one file, complete, and on the device when this returns.
    ///
    /// # Errors
    /// When there is a file at `path` already ([`Error::is_already_there`]), or the copy cannot be written. Nothing is left then.
    #[doc(alias = "backup")]
    pub fn copy_to(&self, path: impl AsRef<Path>) -> Result<(), Error> {
        let doing = "cannot copy the drawer";
        self.inner.reading(|scope| {
            new_file::make_new(path.as_ref(), doing, |unfinished| {
                copy_from(scope.connection, unfinished)?;
                note_copied_keys(unfinished)
            })
        })
    }

    /// As [`Drawer::copy_to`], with nothing in columns that are declared private (`#[record(private)]`): to be handed to
    /// whoever looks for a fault. Where a column cannot be empty, 0 or an empty text stands there. Nothing of the values is left in
    /// the copy, in search indexes, trails and unused pages neither.
    ///
    /// # Errors
    /// As [`Drawer::copy_to`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// #[derive(Record)]
    /// struct Customer {
    ///     name: String,
    ///     #[record(private)]
    ///     phone: Option<String>,
    /// }
    ///
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let schema = || Schema::new("kilnbook").record::<Customer>();
    /// # let drawer = Drawer::open(folder.path().join("kiln.drawer"), schema())?;
    /// # let copy = folder.path().join("for-the-developer.drawer");
    /// drawer.insert(Customer { name: "Ada".into(), phone: Some("555-0100".into()) })?;
    /// drawer.copy_without_private_to(&copy)?;
    /// assert_eq!(Drawer::open(&copy, schema())?.records::<Customer>().first()?.unwrap().phone, None);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn copy_without_private_to(&self, path: impl AsRef<Path>) -> Result<(), Error> {
        let doing = "cannot copy the drawer without what is private";
        self.inner.reading(|scope| {
            new_file::make_new(path.as_ref(), doing, |unfinished| {
                copy_from(scope.connection, unfinished)?;
                note_copied_keys(unfinished)?;
                Ok(blank_private(unfinished, &self.inner.declared.structure)?)
            })
        })
    }
}

/// Removes the values of private columns from a file that nobody else has open.
pub(crate) fn blank_private(path: &Path, structure: &Structure) -> Result<(), Fault> {
    let connection = Opener::new(path).writer()?;
    // No trigger of any kind is to hear of this, or to keep what stood there.
    connection.without_triggers(|| {
        let transaction = connection.transaction()?;
        for table in &structure.tables {
            let private = table.columns.iter().filter(|c| c.private).filter_map(|c| Some((&c.name, c.blank()?)));
            let private: Vec<_> = private.collect();
            if private.is_empty() {
                continue;
            }
            let sets: Vec<String> =
                private.iter().map(|(c, blank)| format!("{} = {}", quoted(c), blank.literal())).collect();
            connection.run(&format!("UPDATE {} SET {}", quoted(&table.name), sets.join(", ")))?;
            // Older entries may be from before a column was private.
            if connection.has(TRAIL)? {
                private.iter().try_for_each(|(column, _)| hide(&connection, &table.name, column, "private"))?;
            }
        }
        if structure.table(ATTACHMENT_PART).and_then(|parts| parts.column("bytes")).is_some_and(|bytes| bytes.private) {
            // An attachment in which nothing is has no parts.
            let hash = blake3::hash(&[]).to_hex().to_string();
            connection.run(&format!("DELETE FROM {ATTACHMENT_PART}"))?;
            connection.execute("UPDATE attachment SET bytes = 0, hash = ?1", [(&hash).into()])?;
        }
        for table in search::searched(structure) {
            search::remake(&connection, structure, &table.name)?;
        }
        transaction.commit()?;
        // What was overwritten may still stand in unused parts of pages.
        connection.compact()?;
        if About::fact(&connection, "structure_count")?.is_some() {
            About::same_after_all(&connection)?;
        }
        connection.leave_wal()
    })?;
    connection.close()
}
