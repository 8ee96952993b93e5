//! What is left of attachments that were not stored to their end: removed in steps, so that nobody waits long.

use crate::device::running;
use crate::drawer::{Inner, Scope, Writes};
use crate::engine::{Connection, Fault};
use crate::error::Error;
use crate::schema::about::About;
use std::process;
use velvet_core::statement::{CONTENTS_OF_NONE, REMOVE_PARTS, part_keys};

/// How many parts are removed in one transaction.
const PARTS_AT_ONCE: i64 = 32;

/// Whether a process stores an attachment, or did when it ended.
pub(crate) fn is_something_left(connection: &Connection) -> Result<bool, Fault> {
    let text = "SELECT 1 FROM velvet_about WHERE name >= 'storing attachment' AND name < 'storing attachmenu' LIMIT 1";
    Ok(connection.one(text, [], |_| ())?.is_some())
}

/// The fact that says which process stores a content.
pub(super) fn fact(content: i64) -> String {
    format!("storing attachment {content}")
}

/// This process, as others can tell whether it is running.
pub(super) fn this_process() -> String {
    let number = process::id();
    format!("{number} {}", running::began(number.into()).unwrap_or_default())
}

impl Inner {
    /// Removes what is left of attachments that were not stored to their end, by this process or by one that was killed; at most so many parts.
    pub(crate) fn remove_leftovers(&self, at_most: Option<u64>) -> Result<(), Error> {
        let mut left = at_most.unwrap_or(u64::MAX);
        loop {
            let removed = self.transaction(|scope| scope.remove_some(left))?;
            left = left.saturating_sub(removed);
            if removed == 0 || left == 0 {
                return Ok(());
            }
        }
    }
}

impl Scope<'_, Writes> {
    /// Removes some parts of contents that belong to no attachment, and says how many.
    fn remove_some(self, at_most: u64) -> Result<u64, Error> {
        self.doing(
            || "cannot remove what is left of attachments that were not stored to their end",
            || {
                for content in self.connection.list(CONTENTS_OF_NONE, [], |row| row.integer(0))? {
                    if self.is_being_stored(content)? {
                        continue;
                    }
                    let Some([first, last]) = part_keys(content) else { continue };
                    let most = PARTS_AT_ONCE.min(i64::try_from(at_most).unwrap_or(i64::MAX));
                    let removed = self.connection.execute(REMOVE_PARTS, [first.into(), last.into(), most.into()])?;
                    if removed > 0 {
                        return Ok(removed);
                    }
                }
                Ok(0)
            },
        )
    }

    fn is_being_stored(self, content: i64) -> Result<bool, Error> {
        if self.inner.storing.has(content) {
            return Ok(true);
        }
        let Some(by) = About::fact(self.connection, &fact(content))? else { return Ok(false) };
        if by == this_process() {
            // It is not: see above.
            About::forget(self.connection, &fact(content))?;
            return Ok(false);
        }
        let mut words = by.split(' ').map(|word| word.parse::<i64>().unwrap_or_default());
        let (number, began) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
        let is_running = running::began(number).is_some_and(|now| now == began);
        if !is_running {
            About::forget(self.connection, &fact(content))?;
        }
        Ok(is_running)
    }
}
