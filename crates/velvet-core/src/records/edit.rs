//! A record that is being edited: a new one, or a copy of a stored one.

use crate::records::key::Key;
use crate::records::record::Record;
use crate::records::stored::Stored;
use crate::records::stored_form::StoredForm;
use std::fmt;
use std::ops::{Deref, DerefMut};

/// A record that is being edited: a new one, or a copy of a stored one. By deref, its fields. Saving inserts the one and writes
/// what was edited of the other; dropping discards it.
///
/// ```
/// # use velvet_drawer::{Edit, Record};
/// # fn edit<Piece: Record>(empty: Piece) {
/// let edit = Edit::new(empty);
/// assert!(edit.is_new());
/// # }
/// ```
pub struct Edit<T> {
    record: T,
    base: Option<Base<T>>,
}

/// The stored record that an edit is a copy of.
struct Base<T> {
    key: Key<T>,
    /// What was stored when the copy was taken.
    form: StoredForm,
    /// The columns that are written, where others must stay as they are stored.
    only: Option<Vec<usize>>,
}

impl<T: Record> Edit<T> {
    /// A new record.
    pub fn new(record: T) -> Edit<T> {
        Edit { record, base: None }
    }

    /// A stored record, to be edited.
    pub fn of(stored: Stored<T>) -> Edit<T> {
        // What was read has a stored form; were there none, every column would count as edited.
        let form = StoredForm::of(&*stored).unwrap_or_default();
        let (key, record) = stored.into_parts();
        Edit { record, base: Some(Base { key, form, only: None }) }
    }

    /// The key of the stored record; nothing for a new one.
    pub fn key(&self) -> Option<Key<T>> {
        self.base.as_ref().map(|base| base.key)
    }

    /// Whether it is a new record.
    pub fn is_new(&self) -> bool {
        self.base.is_none()
    }

    /// The names of the columns that were edited; all of them for a new record.
    pub fn edited(&self) -> Vec<&'static str> {
        let form = StoredForm::of(&self.record);
        // A value without a stored form is refused when it is written.
        let positions = form.map_or_else(|_| (0..T::COLUMNS.len()).collect(), |form| self.edited_positions(&form));
        positions.into_iter().map(|at| T::COLUMNS[at]).collect()
    }

    /// The plain record, as it was edited.
    pub fn into_record(self) -> T {
        self.record
    }

    /// The same edits as those of a new record, such as after the stored one was removed.
    #[must_use]
    pub fn as_new(self) -> Edit<T> {
        Edit::new(self.record)
    }

    /// The same edits on top of what is stored now: only edited columns are written, and those that were changed meanwhile stay.
    #[must_use]
    pub fn on_top_of(self, stored: &Stored<T>) -> Edit<T> {
        let form = StoredForm::of(&self.record).unwrap_or_default();
        let only = Some(self.edited_positions(&form));
        let form = StoredForm::of(&**stored).unwrap_or_default();
        Edit { record: self.record, base: Some(Base { key: stored.key(), form, only }) }
    }

    /// This record as a whole in the place of what is stored now.
    #[must_use]
    pub fn in_place_of(self, stored: &Stored<T>) -> Edit<T> {
        let form = StoredForm::of(&**stored).unwrap_or_default();
        Edit { record: self.record, base: Some(Base { key: stored.key(), form, only: None }) }
    }

    /// The columns in which what is stored now differs from what this is a copy of.
    #[doc(hidden)]
    pub fn changed_meanwhile(&self, now: &T) -> Vec<usize> {
        let now = StoredForm::of(now).unwrap_or_default();
        self.base.as_ref().map_or_else(Vec::new, |base| base.form.changed(&now))
    }

    /// The columns that are to be written, where this is the stored form of the edited record.
    #[doc(hidden)]
    pub fn edited_positions(&self, now: &StoredForm) -> Vec<usize> {
        match &self.base {
            Some(Base { only: Some(only), .. }) => only.clone(),
            Some(Base { form, .. }) => form.changed(now),
            None => (0..T::COLUMNS.len()).collect(),
        }
    }

    /// Whether columns that were not edited may be stored otherwise than they stand in it.
    #[doc(hidden)]
    pub fn is_partial(&self) -> bool {
        self.base.as_ref().is_some_and(|base| base.only.is_some())
    }
}

impl<T: Record + Clone> Stored<T> {
    /// A copy to be edited.
    pub fn edit(&self) -> Edit<T> {
        Edit::of(self.clone())
    }
}

impl<T> Deref for Edit<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.record
    }
}

impl<T> DerefMut for Edit<T> {
    fn deref_mut(&mut self) -> &mut T {
        &mut self.record
    }
}

impl<T: Record + fmt::Debug> fmt::Debug for Edit<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.key() {
            Some(key) => write!(f, "edit of {key:?}: ")?,
            None => write!(f, "new {}: ", T::TABLE)?,
        }
        self.record.fmt(f)
    }
}
