//! Saving drafts.

use super::{Tx, UNTOUCHED};
use crate::drawer::Drawer;
use crate::error::{Cause, Error};
use crate::reading::Open;
use std::error::Error as StdError;
use std::fmt;
use velvet_core::{Draft, Key, Record, Stored};

/// A draft that could not be saved: what it was, why, and what is stored instead. Nothing that was typed is lost.
pub struct Unsaved<T>(Box<Inner<T>>);

struct Inner<T> {
    error: Error,
    draft: Draft<T>,
    theirs: Option<Stored<T>>,
}

impl<T: Record> Unsaved<T> {
    /// Why it could not be saved. [`Error::is_changed_meanwhile`] where somebody else changed or removed the record.
    pub fn error(&self) -> &Error {
        &self.0.error
    }

    /// The draft.
    pub fn draft(&self) -> &Draft<T> {
        &self.0.draft
    }

    /// What is stored now, where the record was changed meanwhile; nothing where it was removed.
    pub fn theirs(&self) -> Option<&Stored<T>> {
        self.0.theirs.as_ref()
    }

    /// The draft, to be saved in another way, and what is stored now.
    pub fn into_parts(self) -> (Draft<T>, Option<Stored<T>>) {
        (self.0.draft, self.0.theirs)
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
    /// Saves a draft: inserts a new record, or writes what was edited of a stored one.
    ///
    /// # Errors
    /// When the record was changed or removed since the draft was taken ([`Error::is_changed_meanwhile`]), and as
    /// [`Drawer::insert`]. Nothing is written then, and the draft is in the error.
    ///
    /// ```
    /// use velvet_drawer::Draft;
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record, Clone, Debug)] struct Piece { mark: String, grams: u32, remarks: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// let mut draft = Draft::new(Piece { mark: "K-1".into(), grams: 640, remarks: String::new() });
    /// draft.grams = 650;
    /// let bowl = drawer.save(draft)?;
    ///
    /// let mut form = bowl.draft();
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
    pub fn save<T: Record>(&self, draft: Draft<T>) -> Result<Stored<T>, Unsaved<T>> {
        let mut theirs = None;
        let saved = self.write(|tx| tx.open().save(&draft, &mut theirs));
        finished(draft, saved, theirs)
    }
}

impl Tx<'_> {
    /// Saves a draft; see [`Drawer::save`].
    ///
    /// # Errors
    /// As [`Drawer::save`].
    pub fn save<T: Record>(&self, draft: Draft<T>) -> Result<Stored<T>, Unsaved<T>> {
        let mut theirs = None;
        let saved = self.open().save(&draft, &mut theirs);
        finished(draft, saved, theirs)
    }
}

/// What was saved: its key, and the record where it is another than the draft.
type Saved<T> = (Key<T>, Option<Stored<T>>);

fn finished<T: Record>(
    draft: Draft<T>,
    saved: Result<Saved<T>, Error>,
    theirs: Option<Stored<T>>,
) -> Result<Stored<T>, Unsaved<T>> {
    match saved {
        Ok((_, Some(stored))) => Ok(stored),
        Ok((key, None)) => Ok(Stored::new(key, draft.into_record())),
        Err(error) => Err(Unsaved(Box::new(Inner { error, draft, theirs }))),
    }
}

impl Open<'_> {
    fn save<T: Record>(self, draft: &Draft<T>, theirs: &mut Option<Stored<T>>) -> Result<Saved<T>, Error> {
        let Some(key) = draft.key() else {
            let doing = || format!("cannot save a new {}", T::TABLE);
            let mut statement = self.connection.prepare(&T::statements().insert).map_err(self.fault(doing))?;
            return Ok((self.insert_with(&mut statement, &**draft, doing)?, None));
        };
        let doing = || format!("cannot save {key}");
        let Some(now) = self.get(key)? else {
            let error = Error::new(Cause::ChangedMeanwhile, format!("{}: it was removed meanwhile", doing()));
            let advice = "To keep what was edited, save it as a new record (`as_new`)";
            return Err(self.inner.place.name(error.untouched(UNTOUCHED).advise(advice).in_table(T::TABLE, None)));
        };
        let changed = draft.changed_meanwhile(&now);
        if !changed.is_empty() {
            let names: Vec<&str> = changed.iter().map(|at| T::COLUMNS[*at]).collect();
            let problem = format!("{}: it was changed meanwhile, in {}", doing(), names.join(", "));
            let advice = "Both versions are at hand: save the draft `on_top_of` the stored one, or `in_place_of` it";
            let error = Error::new(Cause::ChangedMeanwhile, problem).untouched(UNTOUCHED).advise(advice);
            *theirs = Some(now);
            return Err(self.inner.place.name(error.in_table(T::TABLE, names.first().copied())));
        }
        self.write_columns(key, &**draft, &draft.edited_positions(), doing)?;
        let stored = if draft.is_partial() { self.get(key)? } else { None };
        Ok((key, stored))
    }
}
