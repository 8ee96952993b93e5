//! Reading what is in attachments.

use super::{AttachmentReader, Attachments};
use crate::drawer::{Access, Mode, Scope};
use crate::error::{Cause, Error};
use crate::file::new_file;
use crate::schema::attachment::Attachment;
use crate::work::progress;
use crate::work::ui_thread;
use std::fs;
use std::io;
use std::path::Path;
use velvet_core::statement::{PARTS_BETWEEN, part_keys};
use velvet_core::{Key, Stored, ValueRef};

impl<A: Access> Attachments<A> {
    /// All that is in an attachment.
    ///
    /// # Errors
    /// When it is not there ([`Error::is_not_found`]), parts of it are missing ([`Error::is_damaged`]), or the file cannot be read.
    pub fn bytes(&self, key: Key<Attachment>) -> Result<Vec<u8>, Error> {
        let _waits = ui_thread::watched();
        self.at.reading(|scope| {
            let attachment = scope.attachment(key)?;
            scope.doing(|| format!("cannot read what is in {key}"), || scope.all_bytes(&attachment))
        })
    }
}

impl Attachments {
    /// Opens an attachment to be read as a stream, also only in part: in constant memory, while others write, and without keeping the write-ahead log
    /// from being merged.
    ///
    /// # Errors
    /// When it is not there ([`Error::is_not_found`]), or the file cannot be read.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Schema};
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").attachments())?;
    /// # let firing = drawer.attachments().add(&[7; 3_000][..]).run()?;
    /// use std::io::{Read, Seek, SeekFrom};
    /// let mut sound = drawer.attachments().open(firing.key())?;
    /// let mut end = Vec::new();
    /// sound.seek(SeekFrom::End(-44)).and_then(|_| sound.read_to_end(&mut end)).expect("it is there");
    /// assert_eq!(end.len(), 44);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn open(&self, key: Key<Attachment>) -> Result<AttachmentReader, Error> {
        let _waits = ui_thread::watched();
        let inner = self.at.open()?;
        let attachment = inner.reading(|scope| scope.attachment(key))?;
        Ok(AttachmentReader::new(inner, &attachment))
    }

    /// Writes an attachment to a new file, wholly or not at all.
    ///
    /// # Errors
    /// As [`Attachments::open`], when there is such a file already ([`Error::is_already_there`]), or it cannot be written.
    pub fn export_to(&self, key: Key<Attachment>, path: impl AsRef<Path>) -> Result<(), Error> {
        let _waits = ui_thread::watched();
        let mut reader = self.open(key)?;
        let doing = format!("cannot write {key} to a file");
        new_file::make_new(path.as_ref(), &doing, |unfinished| {
            let device = |error: io::Error| Error::device(doing.as_str(), &error);
            let mut file = fs::File::create(unfinished).map_err(device)?;
            reader.each_part(|part, done, all| {
                progress::tell(|| "writing an attachment".to_owned(), done, Some(all));
                io::Write::write_all(&mut file, part).map_err(device)
            })?;
            file.sync_all().map_err(device)
        })
    }
}

impl<M: Mode> Scope<'_, M> {
    /// The attachment with this key.
    pub(super) fn attachment(self, key: Key<Attachment>) -> Result<Stored<Attachment>, Error> {
        let none = || {
            let error = Error::bare(Cause::NotFound, "it does not exist");
            Err(error.advise("It was removed, or its key comes from another file").in_table("attachment", None))
        };
        match self.get(key)? {
            Some(attachment) => Ok(attachment),
            None => self.doing(|| format!("cannot read {key}"), none),
        }
    }

    fn all_bytes(self, attachment: &Attachment) -> Result<Vec<u8>, Error> {
        let Some([first, last]) = part_keys(attachment.content) else {
            return Err(not_whole(0, attachment.bytes));
        };
        let mut all = Vec::new();
        // The file may promise more than there is, or than memory has room for.
        let _ = all.try_reserve_exact(usize::try_from(attachment.bytes).unwrap_or_default().min(1 << 30));
        self.connection.rows(PARTS_BETWEEN, [first.into(), last.into()], |row| {
            if let ValueRef::Bytes(bytes) = row.value(1) {
                all.extend_from_slice(bytes);
            }
            Ok::<_, Error>(())
        })?;
        if all.len() as u64 == attachment.bytes { Ok(all) } else { Err(not_whole(all.len() as u64, attachment.bytes)) }
    }
}

/// An error of an attachment of which parts are missing, or too many.
#[cold]
pub(super) fn not_whole(there: u64, bytes: u64) -> Error {
    let problem =
        format!("{there} of its {bytes} bytes are there: another program removed parts, or the file is damaged");
    Error::bare(Cause::Damaged, problem)
        .advise("`velvet check` says what else is wrong; take it from a copy that is whole")
}
