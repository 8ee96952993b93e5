//! Taking an attachment out of a file.

use super::file::File;
use crate::error::{Cause, Error};
use crate::work::progress;
use serde::Serialize;
use std::io::Write;
use velvet_core::ValueRef;
use velvet_core::schema::structure::ATTACHMENT_PART;
use velvet_core::statement::{PARTS_BETWEEN, part_keys};

/// An attachment, as a file says of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FoundAttachment {
    /// Its row number.
    pub key: i64,
    /// What it is called.
    pub name: String,
    /// What kind of file it is.
    pub media_type: String,
    /// How many bytes it has.
    pub bytes: u64,
    /// The BLAKE3 hash of what is in it, in hexadecimal digits.
    pub hash: String,
    content: i64,
}

impl File {
    /// The attachment with this row number, name, or beginning of its hash.
    ///
    /// # Errors
    /// When there is none, or several ([`Error::is_not_found`]), and when the file has no attachments.
    pub fn attachment(&self, word: &str) -> Result<FoundAttachment, Error> {
        let doing = format!("cannot find the attachment {word}");
        if self.declared().is_none_or(|declared| declared.table(ATTACHMENT_PART).is_none()) {
            let error = Error::new(Cause::NotFound, format!("{doing}: the file has no attachments"));
            return Err(error.in_file(self.path()));
        }
        let text = "SELECT key, name, media_type, bytes, hash, content FROM attachment \
                    WHERE key = ?1 OR name = ?2 OR (length(?2) >= 6 AND substr(hash, 1, length(?2)) = ?2) ORDER BY key";
        let key = word.parse::<i64>().map_or(ValueRef::Missing, ValueRef::Integer);
        let found = self.read(&doing, |connection| {
            Ok(connection.list(text, [key, word.into()], |row| FoundAttachment {
                key: row.integer(0),
                name: row.text(1).to_owned(),
                media_type: row.text(2).to_owned(),
                bytes: row.integer(3).unsigned_abs(),
                hash: row.text(4).to_owned(),
                content: row.integer(5),
            })?)
        })?;
        let keys: Vec<String> = found.iter().map(|found| found.key.to_string()).collect();
        let is_meant = |found: &FoundAttachment| found.key.to_string() == word;
        let mut found = found;
        if let Some(at) = found.iter().position(is_meant) {
            return Ok(found.swap_remove(at));
        }
        let error = match found.len() {
            1 => return Ok(found.swap_remove(0)),
            0 => Error::new(Cause::NotFound, format!("{doing}: no attachment has that number, name or hash"))
                .advise("See which there are in the table `attachment`"),
            several => Error::new(Cause::NotFound, format!("{doing}: {several} are called that, {}", keys.join(", ")))
                .advise("Name one by its number"),
        };
        Err(error.in_file(self.path()))
    }

    /// Writes what is in an attachment to `out`.
    ///
    /// # Errors
    /// When parts of it are missing, or it is not what was stored ([`Error::is_damaged`]): what was written is of no use then. When `out` takes no more.
    pub fn write_attachment(&self, attachment: &FoundAttachment, out: &mut dyn Write) -> Result<(), Error> {
        let FoundAttachment { key, bytes, hash, content, .. } = attachment;
        let doing = format!("cannot read what is in attachment {key}");
        self.read(&doing, |connection| {
            let (mut done, mut hasher) = (0, blake3::Hasher::new());
            // Nothing is between these.
            let [first, last] = part_keys(*content).unwrap_or([0, -1]);
            connection.rows(PARTS_BETWEEN, [first.into(), last.into()], |row| {
                let ValueRef::Bytes(part) = row.value(1) else { return Ok(()) };
                out.write_all(part).map_err(Error::own)?;
                done += part.len() as u64;
                hasher.update(part);
                progress::tell(|| "writing an attachment".to_owned(), done, Some(*bytes));
                Ok::<_, Error>(())
            })?;
            let is_whole = done == *bytes && hasher.finalize().to_hex().as_str() == hash;
            let problem = format!(
                "it is not what was stored: {done} of its {bytes} bytes are there, and its hash is another one"
            );
            let advice = "`velvet check` says what else is wrong; take it from a copy that is whole";
            if is_whole { Ok(()) } else { Err(Error::bare(Cause::Damaged, problem).advise(advice)) }
        })
    }
}
