//! The texts that were suggested from last.

use crate::engine::Connection;
use velvet_core::Fragment;

/// How many bytes of text are kept at most.
const MOST_KEPT: usize = 16 << 20;

/// The texts that were suggested from last. While somebody types, the same ones are looked through for each letter, so they are
/// kept until something is written; a connection of their own tells when.
pub(crate) struct CachedTexts {
    pub(crate) connection: Connection,
    /// The statement that read them, with its values; nothing when they are not kept.
    statement: Option<Fragment>,
    /// The engine's count of what others wrote, when they were read.
    version: i64,
    texts: String,
    ends: Vec<usize>,
}

impl CachedTexts {
    pub(crate) fn new(connection: Connection) -> CachedTexts {
        CachedTexts { connection, statement: None, version: 0, texts: String::new(), ends: Vec::new() }
    }

    /// The texts that a statement would read now, where they are at hand.
    pub(crate) fn of(&self, statement: &Fragment, version: i64) -> Option<impl Iterator<Item = &str>> {
        let is_same = |kept: &Fragment| kept.text == statement.text && kept.values == statement.values;
        if version != self.version || !self.statement.as_ref().is_some_and(is_same) {
            return None;
        }
        let mut from = 0;
        Some(self.ends.iter().map(move |end| &self.texts[std::mem::replace(&mut from, *end)..*end]))
    }

    /// Keeps the texts that `read` hands over in place of those at hand, unless they are too many. The version was counted before they
    /// are read, so that what is written in between is seen as written after them.
    pub(crate) fn keep<E>(
        &mut self,
        statement: Fragment,
        version: i64,
        read: impl FnOnce(&Connection, &mut dyn FnMut(&str)) -> Result<(), E>,
    ) -> Result<(), E> {
        (self.version, self.statement) = (version, None);
        self.texts.clear();
        self.ends.clear();
        let (texts, ends, mut fits) = (&mut self.texts, &mut self.ends, true);
        read(&self.connection, &mut |text| {
            fits &= texts.len() + text.len() <= MOST_KEPT;
            if fits {
                texts.push_str(text);
                ends.push(texts.len());
            }
        })?;
        self.statement = fits.then_some(statement);
        Ok(())
    }
}
