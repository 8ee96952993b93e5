//! An attachment as a stream.

use super::reading::not_whole;
use crate::drawer::{Inner, Scope};
use crate::error::{Cause, Error};
use crate::schema::attachment::Attachment;
use crate::work::cancel::Cancel;
use crate::work::ui_thread;
use std::fmt;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use velvet_core::statement::{GET_PART, PART, part_key};
use velvet_core::{Key, Stored, ValueRef};

/// An attachment that is read as a stream. It holds one part of it in memory, of 256 KB, and nothing of the file open between two reads.
pub struct AttachmentReader {
    inner: Arc<Inner>,
    key: Key<Attachment>,
    content: i64,
    bytes: u64,
    position: u64,
    /// The part that is held, and its number.
    part: Vec<u8>,
    held: Option<u64>,
}

impl AttachmentReader {
    pub(super) fn new(inner: Arc<Inner>, attachment: &Stored<Attachment>) -> AttachmentReader {
        let (content, bytes) = (attachment.content, attachment.bytes);
        AttachmentReader { inner, key: attachment.key(), content, bytes, position: 0, part: Vec::new(), held: None }
    }

    /// How many bytes the attachment has.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Holds the part with this number.
    fn hold(&mut self, number: u64) -> Result<(), Error> {
        if self.held == Some(number) {
            return Ok(());
        }
        self.held = None;
        let mut part = std::mem::take(&mut self.part);
        let taken = self.hand_over(number, |bytes| {
            part.clear();
            part.extend_from_slice(bytes);
        });
        self.part = part;
        taken?;
        self.held = Some(number);
        Ok(())
    }

    /// How many bytes the part with this number has.
    fn length(&self, number: u64) -> u64 {
        self.bytes.saturating_sub(number * PART as u64).min(PART as u64)
    }

    /// Hands over the part with this number.
    fn hand_over(&self, number: u64, take: impl FnOnce(&[u8])) -> Result<(), Error> {
        let AttachmentReader { inner, key: of, content, bytes, .. } = self;
        let expected = self.length(number);
        let mut take = Some(take);
        let mut read = |scope: Scope<'_>| {
            let key = part_key(*content, number).unwrap_or_default();
            let found = scope.connection.one(GET_PART, [key.into()], |row| {
                let ValueRef::Bytes(part) = row.value(0) else { return 0 };
                if let Some(take) = take.take().filter(|_| part.len() as u64 == expected) {
                    take(part);
                }
                part.len() as u64
            })?;
            match found {
                Some(length) if length == expected => Ok(()),
                Some(length) => Err(not_whole(number * PART as u64 + length, *bytes)),
                None if scope.get(*of)?.is_none() => {
                    Err(Error::bare(Cause::NotFound, "it was removed while it was read"))
                }
                None => Err(not_whole(number * PART as u64, *bytes)),
            }
        };
        inner.with_reader_of_attachments(|scope| scope.doing(|| format!("cannot read what is in {of}"), || read(scope)))
    }

    /// Hands over all of it, part by part, with how much of how much there was up to then.
    pub(super) fn each_part(
        &mut self,
        mut each: impl FnMut(&[u8], u64, u64) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let (cancel, mut done) = (Cancel::here(), 0);
        for number in 0..self.bytes.div_ceil(PART as u64) {
            if cancel.as_ref().is_some_and(Cancel::is_cancelled) {
                return Err(Error::bare(Cause::Cancelled, "it was cancelled"));
            }
            self.hold(number)?;
            done += self.part.len() as u64;
            each(&self.part, done, self.bytes)?;
        }
        Ok(())
    }
}

impl Read for AttachmentReader {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let _waits = ui_thread::watched();
        if self.position >= self.bytes || into.is_empty() {
            return Ok(0);
        }
        let (number, from) = (self.position / PART as u64, (self.position % PART as u64) as usize);
        let length = self.length(number) as usize;
        if from == 0 && into.len() >= length && self.held != Some(number) {
            // A whole part needs not be held first.
            self.hand_over(number, |part| into[..length].copy_from_slice(part)).map_err(io::Error::other)?;
            self.position += length as u64;
            return Ok(length);
        }
        self.hold(number).map_err(io::Error::other)?;
        let count = self.part.len().saturating_sub(from).min(into.len());
        into[..count].copy_from_slice(&self.part[from..from + count]);
        self.position += count as u64;
        Ok(count)
    }
}

impl Seek for AttachmentReader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let position = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.bytes.checked_add_signed(by),
            SeekFrom::Current(by) => self.position.checked_add_signed(by),
        };
        let before = || io::Error::new(io::ErrorKind::InvalidInput, "before the beginning of the attachment");
        self.position = position.ok_or_else(before)?;
        Ok(self.position)
    }
}

impl fmt::Debug for AttachmentReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("AttachmentReader")
            .field("of", &self.key)
            .field("position", &self.position)
            .finish_non_exhaustive()
    }
}
