//! Saving edits.

use super::{Tx, misfit};
use crate::drawer::{Drawer, Scope, Writes};
use crate::error::{Cause, Error};
use std::error::Error as StdError;
use std::fmt;
use velvet_core::records::stored_form::StoredForm;
use velvet_core::{Edit, Key, Record, Stored};

/// An edit that could not be saved: what it was, why, and what is stored instead. Nothing that was typed is lost.
pub struct Unsaved<T>(Box<UnsavedParts<T>>);

struct UnsavedParts<T> {
    error: Error,
    edit: Edit<T>,
    theirs: Option<Stored<T>>,
}

impl<T: Record> Unsaved<T> {
    /// Why it could not be saved. [`Error::is_changed_meanwhile`] where somebody else changed or removed the record.
    pub fn error(&self) -> &Error {
        &self.0.error
    }

    /// The edit.
    pub fn edit(&self) -> &Edit<T> {
        &self.0.edit
    }

    /// What is stored now, where the record was changed meanwhile; nothing where it was removed.
    pub fn theirs(&self) -> Option<&Stored<T>> {
        self.0.theirs.as_ref()
    }

    /// The edit, to be saved in another way, and what is stored now.
    pub fn into_parts(self) -> (Edit<T>, Option<Stored<T>>) {
        (self.0.edit, self.0.theirs)
    }
}

impl<T> From<Unsaved<T>> for Error {
    fn from(unsaved: Unsaved<T>) -> Error {
        unsaved.0.error
    }
}

impl<T> fmt::Display for Unsaved<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.error.fmt(f)
    }
}

impl<T> fmt::Debug for Unsaved<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&self.0.error, f)
    }
}

impl<T> StdError for Unsaved<T> {
    fn source(&self) -> Option<&(dyn StdError + 'static)> {
        Some(&self.0.error)
    }
}

impl Drawer {
    /// Saves an edit: inserts a new record, or writes what was edited of a stored one.
    ///
    /// # Errors
    /// When the record was changed or removed since the edit was taken ([`Error::is_changed_meanwhile`]), and as
    /// [`Drawer::insert`]. Nothing is written then, and the edit is in the error.
    ///
    /// ```
    /// use velvet_drawer::Edit;
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Clone, Debug)] struct Piece { mark: String, grams: u32, remarks: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let mut edit = Edit::new(Piece { mark: "K-1".into(), grams: 640, remarks: String::new() });
    /// edit.grams = 650;
    /// let bowl = drawer.save(edit)?;
    ///
    /// let mut form = bowl.edit();
    /// form.remarks = "for the market".into();
    /// drawer.change(bowl.key(), |p| p.grams = 500)?; // elsewhere, meanwhile
    /// let unsaved = drawer.save(form).unwrap_err();
    /// assert!(unsaved.error().is_changed_meanwhile());
    ///
    /// let (form, theirs) = unsaved.into_parts();
    /// let bowl = drawer.save(form.on_top_of(&theirs.unwrap()))?;
    /// assert_eq!((bowl.grams, bowl.remarks.as_str()), (500, "for the market"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn save<T: Record>(&self, edit: Edit<T>) -> Result<Stored<T>, Unsaved<T>> {
        let mut theirs = None;
        let saved = self.inner.transaction(|scope| scope.save(&edit, &mut theirs));
        finished(edit, saved, theirs)
    }
}

impl Tx<'_> {
    /// Saves an edit; see [`Drawer::save`].
    ///
    /// # Errors
    /// As [`Drawer::save`].
    pub fn save<T: Record>(&self, edit: Edit<T>) -> Result<Stored<T>, Unsaved<T>> {
        let mut theirs = None;
        let saved = self.scope().save(&edit, &mut theirs);
        finished(edit, saved, theirs)
    }
}

/// What was saved: its key, and the record where it is another than the edit.
type Saved<T> = (Key<T>, Option<Stored<T>>);

fn finished<T: Record>(
    edit: Edit<T>,
    saved: Result<Saved<T>, Error>,
    theirs: Option<Stored<T>>,
) -> Result<Stored<T>, Unsaved<T>> {
    match saved {
        Ok((_, Some(stored))) => Ok(stored),
        Ok((key, None)) => Ok(Stored::new(key, edit.into_record())),
        Err(error) => Err(Unsaved(Box::new(UnsavedParts { error, edit, theirs }))),
    }
}

impl Scope<'_, Writes> {
    fn save<T: Record>(self, edit: &Edit<T>, theirs: &mut Option<Stored<T>>) -> Result<Saved<T>, Error> {
        let Some(key) = edit.key() else {
            let doing = || format!("cannot save a new {}", T::TABLE);
            let saved = self.inserted(&**edit, self.moment_of::<T>(), doing)?;
            return Ok((saved, if T::STAMPED.is_empty() { None } else { self.get(saved)? }));
        };
        let doing = || format!("cannot save {key}");
        self.doing(doing, || {
            let Some(now) = self.get(key)? else {
                let error = Error::bare(Cause::ChangedMeanwhile, "it was removed meanwhile");
                let advice = "To keep what was edited, save it as a new record (`as_new`)";
                return Err(error.advise(advice).in_table(T::TABLE, None));
            };
            let changed = edit.changed_meanwhile(&now);
            if !changed.is_empty() {
                let names: Vec<&str> = changed.iter().map(|at| T::COLUMNS[*at]).collect();
                let problem = format!("it was changed meanwhile, in {}", names.join(", "));
                let advice = "Both versions are at hand: save the edit `on_top_of` the stored one, or `in_place_of` it";
                *theirs = Some(now);
                let error = Error::bare(Cause::ChangedMeanwhile, problem).advise(advice);
                return Err(error.in_table(T::TABLE, names.first().copied()));
            }
            let form = StoredForm::of(&**edit).map_err(misfit::<T>)?;
            self.write_columns(key, &**edit, &form, &edit.edited_positions(&form))?;
            let is_another = edit.is_partial() || !T::STAMPED.is_empty();
            Ok((key, if is_another { self.get(key)? } else { None }))
        })
    }
}
