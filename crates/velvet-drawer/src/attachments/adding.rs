//! Adding attachments.

use super::Attachments;
use crate::drawer::{Access, Inner, MayWrite, Scope, Writes};
use crate::error::{Cause, Error};
use crate::schema::about::About;
use crate::schema::attachment::Attachment;
use crate::work::cancel::Cancel;
use crate::work::progress;
use crate::work::ui_thread;
use std::io::{self, Read};
use std::sync::Arc;
use velvet_core::schema::structure::ATTACHMENT;
use velvet_core::statement::{CONTENT_WITH_HASH, INSERT_ATTACHMENT, INSERT_PART, PART, part_key};
use velvet_core::{Key, Stored, ValueRef};

/// What is not larger is stored in one transaction, and held in memory until then.
const SMALL: usize = 4 * PART;

/// How many parts of a large one are stored in one transaction.
const PARTS_AT_ONCE: usize = 16;

/// An attachment that is still to be added.
#[must_use = "nothing is stored until it is run"]
pub struct Adding<R, A> {
    at: A,
    from: R,
    said: Said,
}

/// What is said of an attachment beside what is in it.
#[derive(Default)]
struct Said {
    name: String,
    media_type: String,
}

/// A content that is stored already, and belongs to no attachment yet; see [`Adding::prepare`]. Dropped without being kept, it is removed.
#[must_use = "what is not kept is removed"]
pub struct Prepared {
    inner: Arc<Inner>,
    said: Said,
    content: Content,
    is_kept: bool,
}

/// A content.
struct Content {
    bytes: u64,
    hash: String,
    held: Storage,
}

enum Storage {
    /// In memory.
    Bytes(Vec<u8>),
    /// In the file, under this number.
    Stored(i64),
}

impl<A: Access> Attachments<A> {
    /// Adds what `from` reads: an open file, `&bytes[..]`, or whatever else can be read.
    ///
    /// Of a drawer, a large one is read and stored in several short transactions, in constant memory; others write meanwhile. Of a transaction, it is stored
    /// within that, so that the write-ahead log grows with it: there, use [`Adding::prepare`] and [`Attachments::keep`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Schema};
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").attachments())?;
    /// # let mut file = std::io::repeat(7); use std::io::Read; let file = file.take(3_000_000);
    /// let firing = drawer.attachments().add(file).named("firing.wav").media_type("audio/wav").run()?;
    /// assert_eq!((firing.bytes, firing.name.as_str()), (3_000_000, "firing.wav"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn add<R: Read>(&self, from: R) -> Adding<R, A>
    where
        A: MayWrite,
    {
        Adding { at: self.at.clone(), from, said: Said::default() }
    }

    /// Makes an attachment of a content that was prepared.
    ///
    /// # Errors
    /// When it was prepared for another file ([`Error::is_misfit`]), or the file cannot be written.
    pub fn keep(&self, mut prepared: Prepared) -> Result<Stored<Attachment>, Error>
    where
        A: MayWrite,
    {
        let kept = self.at.writing(|scope| {
            if !std::ptr::eq(scope.inner, &*prepared.inner) {
                let error = Error::new(Cause::Misfit, "cannot keep an attachment that was prepared for another file");
                return Err(error.untouched("Nothing was written by this call"));
            }
            scope.doing(doing, || scope.keep_content(&prepared.said, &prepared.content))
        })?;
        // Where the same content was there already, or the transaction is rolled back, this one is of no attachment.
        prepared.is_kept = matches!(prepared.content.held, Storage::Stored(number) if number == kept.content);
        Ok(kept)
    }
}

impl<R: Read, A: MayWrite> Adding<R, A> {
    /// What it is called.
    pub fn named(mut self, name: impl Into<String>) -> Self {
        self.said.name = name.into();
        self
    }

    /// What kind of file it is, such as `image/jpeg`.
    pub fn media_type(mut self, media_type: impl Into<String>) -> Self {
        self.said.media_type = media_type.into();
        self
    }

    /// Adds it. Where the same content is stored already, that is used.
    ///
    /// # Errors
    /// When it cannot be read ([`Error::is_device`]), was cancelled, or the file cannot be written. Nothing is left of it then.
    pub fn run(self) -> Result<Stored<Attachment>, Error> {
        let _waits = ui_thread::watched();
        match self.at.drawer()? {
            Some(inner) => {
                let at = Attachments { at: self.at.clone() };
                at.keep(self.prepared(inner)?)
            }
            None => {
                let Adding { at, mut from, said } = self;
                at.writing(|scope| {
                    scope.doing(doing, || {
                        let content = scope.store_all(&mut from)?;
                        scope.keep_content(&said, &content)
                    })
                })
            }
        }
    }

    /// Stores the content, in several short transactions where it is large, and makes no attachment of it yet: that is done by [`Attachments::keep`],
    /// in the same transaction as what links to it.
    ///
    /// # Errors
    /// As [`Adding::run`]; and of a transaction ([`Error::is_nested`]).
    ///
    /// ```
    /// # use velvet_drawer::{Attachment, Drawer, Key, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, photo: Key<Attachment> }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>().attachments())?;
    /// # let file = &[1, 2, 3][..];
    /// let photo = drawer.attachments().add(file).named("bowl.jpg").prepare()?;
    /// drawer.write(|tx| {
    ///     let photo = tx.attachments().keep(photo)?;
    ///     tx.insert(Piece { mark: "K-1".into(), photo: photo.key() })
    /// })?;
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn prepare(self) -> Result<Prepared, Error> {
        let _waits = ui_thread::watched();
        match self.at.drawer()? {
            Some(inner) => self.prepared(inner),
            None => {
                let error = Error::new(Cause::Nested, "an attachment is prepared before the transaction that keeps it");
                Err(error.advise("Prepare it with `drawer.attachments()`, or add it with `run`"))
            }
        }
    }

    fn prepared(self, inner: Arc<Inner>) -> Result<Prepared, Error> {
        let Adding { mut from, said, .. } = self;
        let named = |error: Error| inner.place.name(error);
        inner.refuse_if_busy_here("write to")?;
        let mut reading = Reading::new(&mut from);
        let first = reading.next(SMALL).map_err(named)?;
        if first.len() < SMALL {
            let content = Content { bytes: reading.bytes, hash: reading.hash(), held: Storage::Bytes(first) };
            return Ok(Prepared { inner, said, content, is_kept: false });
        }
        inner.remove_leftovers(None)?;
        let number = inner.transaction(|scope| scope.doing(doing, || scope.begin_content()))?;
        // From here on, what was stored is removed again where this ends early.
        let content = Content { bytes: 0, hash: String::new(), held: Storage::Stored(number) };
        let mut prepared = Prepared { inner: Arc::clone(&inner), said, content, is_kept: false };
        let stored = reading.each_block(first, |at, block| {
            inner.transaction(|scope| scope.doing(doing, || scope.insert_parts(number, at, block)))
        });
        stored.map_err(named)?;
        (prepared.content.bytes, prepared.content.hash) = (reading.bytes, reading.hash());
        Ok(prepared)
    }
}

impl Drop for Prepared {
    fn drop(&mut self) {
        if let Storage::Stored(number) = self.content.held {
            self.inner.storing.end(number);
            if !self.is_kept {
                // Also where the work of this thread was asked to stop. What cannot be removed now is removed with what else is left over.
                let _ = Cancel::default().during(|| self.inner.remove_leftovers(None));
            }
        }
    }
}

/// What is read, block by block.
struct Reading<'r> {
    from: &'r mut dyn Read,
    hasher: blake3::Hasher,
    bytes: u64,
    cancel: Option<Cancel>,
}

impl<'r> Reading<'r> {
    fn new(from: &'r mut dyn Read) -> Reading<'r> {
        Reading { from, hasher: blake3::Hasher::new(), bytes: 0, cancel: Cancel::here() }
    }

    fn hash(&self) -> String {
        self.hasher.finalize().to_hex().to_string()
    }

    /// The next bytes: as many as asked for, or less at the end.
    fn next(&mut self, bytes: usize) -> Result<Vec<u8>, Error> {
        let mut block = Vec::new();
        self.fill(&mut block, bytes)?;
        Ok(block)
    }

    /// Reads to the end, and has each block stored, of which the first is read already, with the number of its first part.
    fn each_block(
        &mut self,
        first: Vec<u8>,
        mut store: impl FnMut(u64, &[u8]) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let (mut block, mut stored) = (first, 0);
        while !block.is_empty() {
            store(stored, &block)?;
            stored += (block.len() / PART) as u64;
            progress::tell(|| "storing an attachment".to_owned(), self.bytes, None);
            let is_last = !block.len().is_multiple_of(PART);
            block.clear();
            if !is_last {
                self.fill(&mut block, PARTS_AT_ONCE * PART)?;
            }
        }
        Ok(())
    }

    fn fill(&mut self, block: &mut Vec<u8>, bytes: usize) -> Result<(), Error> {
        while block.len() < bytes {
            if self.cancel.as_ref().is_some_and(Cancel::is_cancelled) {
                return Err(Error::new(Cause::Cancelled, "cannot add an attachment: it was cancelled")
                    .untouched("Nothing is left of it"));
            }
            // In pieces, so that also what is read slowly can be stopped.
            let before = block.len();
            let wanted = (bytes - before).min(PART) as u64;
            match Read::take(&mut *self.from, wanted).read_to_end(block) {
                Ok(0) => break,
                Ok(_) => {}
                Err(error) => return Err(unread(&error)),
            }
            self.hasher.update(&block[before..]);
        }
        self.bytes += block.len() as u64;
        Ok(())
    }
}

fn unread(error: &io::Error) -> Error {
    Error::device("cannot read what is to be added as an attachment", error).untouched("Nothing is left of it")
}

fn doing() -> &'static str {
    "cannot add an attachment"
}

impl Scope<'_, Writes> {
    /// Takes a number for a content that is stored in several transactions.
    fn begin_content(self) -> Result<i64, Error> {
        let number = self.connection.take_row_number(ATTACHMENT)?;
        About::remember(self.connection, &super::leftovers::fact(number), &super::leftovers::this_process())?;
        self.inner.storing.begin(number);
        Ok(number)
    }

    /// Stores parts of a content, the first of which has this number.
    fn insert_parts(self, content: i64, first: u64, block: &[u8]) -> Result<(), Error> {
        for (at, part) in block.chunks(PART).enumerate() {
            let number = first + at as u64;
            let Some(key) = part_key(content, number) else {
                return Err(Error::bare(Cause::Misfit, "it has more bytes than an attachment can have"));
            };
            let values = [key.into(), content.into(), number.cast_signed().into(), ValueRef::Bytes(part)];
            self.connection.execute(INSERT_PART, values)?;
        }
        Ok(())
    }

    /// Stores all that is read, in the transaction that is open.
    fn store_all(self, from: &mut dyn Read) -> Result<Content, Error> {
        let mut reading = Reading::new(from);
        let first = reading.next(SMALL)?;
        if first.len() < SMALL {
            return Ok(Content { bytes: reading.bytes, hash: reading.hash(), held: Storage::Bytes(first) });
        }
        let number = self.connection.take_row_number(ATTACHMENT)?;
        reading.each_block(first, |at, block| self.insert_parts(number, at, block))?;
        Ok(Content { bytes: reading.bytes, hash: reading.hash(), held: Storage::Stored(number) })
    }

    /// Makes an attachment of a content.
    fn keep_content(self, said: &Said, content: &Content) -> Result<Stored<Attachment>, Error> {
        let found = self.connection.one(CONTENT_WITH_HASH, [content.hash.as_str().into()], |row| row.integer(0))?;
        let (key, number) = match (&content.held, found) {
            // Its own parts are of no attachment then, and are removed with what else is left over.
            (_, Some(number)) => (self.connection.take_row_number(ATTACHMENT)?, number),
            (Storage::Stored(number), None) => (*number, *number),
            (Storage::Bytes(bytes), None) => {
                let number = self.connection.take_row_number(ATTACHMENT)?;
                self.insert_parts(number, 0, bytes)?;
                (number, number)
            }
        };
        if let (Storage::Stored(own), None) = (&content.held, found) {
            About::forget(self.connection, &super::leftovers::fact(*own))?;
        }
        let attachment = Attachment {
            name: said.name.clone(),
            media_type: said.media_type.clone(),
            bytes: content.bytes,
            hash: content.hash.clone(),
            content: number,
        };
        let Attachment { name, media_type, bytes, hash, content } = &attachment;
        let values = [
            key.into(),
            name.as_str().into(),
            media_type.as_str().into(),
            bytes.cast_signed().into(),
            hash.as_str().into(),
            (*content).into(),
        ];
        self.connection.execute(INSERT_ATTACHMENT, values)?;
        Ok(Stored::new(Key::from_number(key), attachment))
    }
}
