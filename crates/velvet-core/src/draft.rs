//! A record that is being edited: a new one, or a copy of a stored one.

use crate::key::Key;
use crate::record::{Record, Stored};
use crate::stored_form::StoredForm;
use std::fmt;
use std::ops::{Deref, DerefMut};

/// A record that is being edited: a new one, or a copy of a stored one. By deref, its fields. Saving inserts the one and writes
/// what was edited of the other; dropping discards it.
///
/// ```
/// # use velvet_drawer::{Draft, Record};
/// # fn edit<Piece: Record>(empty: Piece) {
/// let draft = Draft::new(empty);
/// assert!(draft.is_new());
/// # }
/// ```
pub struct Draft<T> {
    record: T,
    origin: Option<Origin<T>>,
}

/// The stored record that a draft is a copy of.
struct Origin<T> {
    key: Key<T>,
    /// What was stored when the copy was taken.
    form: StoredForm,
    /// The columns that are written, where others must stay as they are stored.
    only: Option<Vec<usize>>,
}

impl<T: Record> Draft<T> {
    /// A new record.
    pub fn new(record: T) -> Draft<T> {
        Draft { record, origin: None }
    }

    /// A stored record, to be edited.
    pub fn of(stored: Stored<T>) -> Draft<T> {
        // What was read has a stored form; were there none, every column would count as edited.
        let form = StoredForm::of(&*stored).unwrap_or_default();
        let (key, record) = stored.into_parts();
        Draft { record, origin: Some(Origin { key, form, only: None }) }
    }

    /// The key of the stored record; nothing for a new one.
    pub fn key(&self) -> Option<Key<T>> {
        self.origin.as_ref().map(|origin| origin.key)
    }

    /// Whether it is a new record.
    pub fn is_new(&self) -> bool {
        self.origin.is_none()
    }

    /// The names of the columns that were edited; all of them for a new record.
    pub fn edited(&self) -> Vec<&'static str> {
        self.edited_positions().into_iter().map(|at| T::COLUMNS[at]).collect()
    }

    /// The plain record, as it was edited.
    pub fn into_record(self) -> T {
        self.record
    }

    /// The same edits as those of a new record, such as after the stored one was removed.
    #[must_use]
    pub fn as_new(self) -> Draft<T> {
        Draft::new(self.record)
    }

    /// The same edits on top of what is stored now: only edited columns are written, and those that were changed meanwhile stay.
    #[must_use]
    pub fn on_top_of(self, stored: &Stored<T>) -> Draft<T> {
        let only = Some(self.edited_positions());
        let form = StoredForm::of(&**stored).unwrap_or_default();
        Draft { record: self.record, origin: Some(Origin { key: stored.key(), form, only }) }
    }

    /// This record as a whole in the place of what is stored now.
    #[must_use]
    pub fn in_place_of(self, stored: &Stored<T>) -> Draft<T> {
        let form = StoredForm::of(&**stored).unwrap_or_default();
        Draft { record: self.record, origin: Some(Origin { key: stored.key(), form, only: None }) }
    }

    /// The columns in which what is stored now differs from what this is a copy of.
    #[doc(hidden)]
    pub fn changed_meanwhile(&self, now: &T) -> Vec<usize> {
        let now = StoredForm::of(now).unwrap_or_default();
        self.origin.as_ref().map_or_else(Vec::new, |origin| origin.form.changed(&now))
    }

    /// The columns that are to be written.
    #[doc(hidden)]
    pub fn edited_positions(&self) -> Vec<usize> {
        match &self.origin {
            Some(Origin { only: Some(only), .. }) => only.clone(),
            Some(Origin { form, .. }) => match StoredForm::of(&self.record) {
                Ok(now) => form.changed(&now),
                // The value without a stored form is refused when it is written.
                Err(_) => (0..T::COLUMNS.len()).collect(),
            },
            None => (0..T::COLUMNS.len()).collect(),
        }
    }

    /// Whether columns that were not edited may be stored otherwise than they stand in it.
    #[doc(hidden)]
    pub fn is_partial(&self) -> bool {
        self.origin.as_ref().is_some_and(|origin| origin.only.is_some())
    }
}

impl<T: Record + Clone> Stored<T> {
    /// A copy to be edited.
    pub fn draft(&self) -> Draft<T> {
        Draft::of(self.clone())
    }
}

impl<T> Deref for Draft<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.record
    }
}

impl<T> DerefMut for Draft<T> {
    fn deref_mut(&mut self) -> &mut T {
        &mut self.record
    }
}

impl<T: Record + fmt::Debug> fmt::Debug for Draft<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.key() {
            Some(key) => write!(f, "draft of {key:?}: ")?,
            None => write!(f, "new {}: ", T::TABLE)?,
        }
        self.record.fmt(f)
    }
}
