//! Inserting where a record with the same own key may be there already.
//!
//! The rules need `#[record(key)]`: with an automatic key alone nothing could ever clash, and every call would add one more.

use super::misfit;
use crate::drawer::Drawer;
use crate::error::Error;
use crate::reading::Open;
use velvet_core::column_type::stored_value;
use velvet_core::name::quoted;
use velvet_core::{Keyed, Pick, Record, Stored};

impl Drawer {
    /// The stored record with the same own key (`#[record(key)]`) as this one, or else this one, inserted: on a clash, the
    /// old one is kept.
    ///
    /// # Errors
    /// As [`Drawer::get`] and [`Drawer::insert`].
    pub fn get_or_insert<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.write(|tx| tx.get_or_insert(record))
    }

    /// Inserts a record, or puts it in the place of the stored one with the same own key. That one keeps its key, and the
    /// records that link to it; only columns that differ are written.
    ///
    /// # Errors
    /// As [`Drawer::insert`], also when another unique value clashes.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Article { #[record(key)] number: String, cents: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// let old = drawer.insert(Article { number: "4711".into(), cents: 150 })?;
    /// let new = drawer.insert_or_replace(Article { number: "4711".into(), cents: 180 })?;
    /// assert_eq!((new.key(), new.cents), (old.key(), 180));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn insert_or_replace<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.write(|tx| tx.insert_or_replace(record))
    }

    /// Inserts a record, or writes only the chosen columns of it to the stored one with the same own key. Returns the
    /// record as it is stored then.
    ///
    /// # Errors
    /// As [`Drawer::insert_or_replace`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Article { #[record(key)] number: String, cents: u32, note: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// drawer.insert(Article { number: "4711".into(), cents: 150, note: "the soft one".into() })?;
    /// let news = Article { number: "4711".into(), cents: 180, note: String::new() };
    /// let merged = drawer.insert_or_merge(news, |a| a.cents)?;
    /// assert_eq!((merged.cents, merged.note.as_str()), (180, "the soft one"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn insert_or_merge<T: Keyed, P: Pick<T>>(
        &self,
        record: T,
        columns: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.write(|tx| tx.insert_or_merge(record, columns))
    }
}

impl Open<'_> {
    pub(crate) fn get_or_insert<T: Keyed>(self, record: T) -> Result<Stored<T>, Error> {
        match self.with_same_key(&record)? {
            Some(stored) => Ok(stored),
            None => self.insert(record),
        }
    }

    pub(crate) fn insert_or_replace<T: Keyed>(self, record: T) -> Result<Stored<T>, Error> {
        match self.with_same_key(&record)? {
            Some(stored) => self.update(stored.key(), record),
            None => self.insert(record),
        }
    }

    pub(crate) fn insert_or_merge<T: Keyed, P: Pick<T>>(
        self,
        record: T,
        columns: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        let Some(stored) = self.with_same_key(&record)? else { return self.insert(record) };
        let mut chosen = Vec::new();
        columns(T::columns()).each(&mut |name| chosen.extend(position_of::<T>(&name)));
        let key = stored.key();
        self.write_columns(key, &record, &chosen, || format!("cannot merge into {key}"))?;
        Ok(self.get(key)?.unwrap_or(stored))
    }

    fn with_same_key<T: Keyed>(self, record: &T) -> Result<Option<Stored<T>>, Error> {
        let doing = || format!("cannot look for a {} with the same key", T::TABLE);
        let own_key = stored_value::<T::NaturalKey>(record.natural_key())
            .map_err(|wrong| misfit::<T>(self, &doing(), wrong.at(T::KEY_POSITION)))?;
        self.one(T::statements().get_by.as_deref().unwrap_or_default(), own_key.as_ref(), doing)
    }
}

/// The position of a column by its name in a statement.
fn position_of<T: Record>(name: &str) -> Option<usize> {
    T::COLUMNS.iter().position(|column| name.ends_with(&format!(".{}", quoted(column))))
}
