//! Inserting where the same record may be there already: by its own key, or by columns that are unique.
//!
//! A rule that can never fire is refused, because it would hide duplicates: with an automatic key alone nothing could ever
//! clash, and every call would add one more.

use super::{is_stamped, misfit, positions};
use crate::drawer::{Drawer, Scope, Writes};
use crate::error::{Cause, Error};
use crate::query::stored;
use velvet_core::column_type::stored_value;
use velvet_core::records::nul::refuse_nul;
use velvet_core::records::record::stored_values;
use velvet_core::records::stored_form::StoredForm;
use velvet_core::value::name::quoted;
use velvet_core::{Keyed, Pick, Record, Stored};

impl Drawer {
    /// The stored record with the same own key (`#[record(own_key)]`) as this one, or else this one, inserted: on a clash, the
    /// old one is kept.
    ///
    /// # Errors
    /// As [`Drawer::get`] and [`Drawer::insert`].
    #[doc(alias = "upsert")]
    pub fn get_or_insert<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_keep(scope.with_same_own_key(&record)?, record))
    }

    /// Inserts a record, or puts it in the place of the stored one with the same own key. That one keeps its key, and the
    /// records that link to it; only columns that differ are written.
    ///
    /// # Errors
    /// As [`Drawer::insert`], also when another unique value clashes.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Article { #[record(own_key)] number: String, cents: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// let old = drawer.insert(Article { number: "4711".into(), cents: 150 })?;
    /// let new = drawer.insert_or_replace(Article { number: "4711".into(), cents: 180 })?;
    /// assert_eq!((new.key(), new.cents), (old.key(), 180));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "upsert")]
    pub fn insert_or_replace<T: Keyed>(&self, record: T) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_put(scope.with_same_own_key(&record)?, record))
    }

    /// Inserts a record, or writes only the chosen columns of it to the stored one with the same own key. Returns the
    /// record as it is stored then.
    ///
    /// # Errors
    /// As [`Drawer::insert_or_replace`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Article { #[record(own_key)] number: String, cents: u32, note: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// drawer.insert(Article { number: "4711".into(), cents: 150, note: "the soft one".into() })?;
    /// let news = Article { number: "4711".into(), cents: 180, note: String::new() };
    /// let merged = drawer.insert_or_merge(news, |a| a.cents)?;
    /// assert_eq!((merged.cents, merged.note.as_str()), (180, "the soft one"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "upsert")]
    pub fn insert_or_merge<T: Keyed, P: Pick<T>>(
        &self,
        record: T,
        columns: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_merge(scope.with_same_own_key(&record)?, record, columns))
    }

    /// The stored record with the same values in unique columns as this one, or else this one, inserted.
    ///
    /// # Errors
    /// When the columns are not unique together, because the rule could never be sure ([`Error::is_schema`]), and as
    /// [`Drawer::get_or_insert`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// #[derive(Record, Debug)]
    /// #[record(unique(room, number))]
    /// struct Shelf { room: String, number: u32, boards: u32 }
    ///
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Shelf>())?;
    /// let shelf = || Shelf { room: "glazing".into(), number: 2, boards: 5 };
    /// let first = drawer.get_or_insert_by(shelf(), |s| (s.room, s.number))?;
    /// assert_eq!(drawer.get_or_insert_by(shelf(), |s| (s.room, s.number))?.key(), first.key());
    /// assert!(drawer.get_or_insert_by(shelf(), |s| s.boards).unwrap_err().is_schema());
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn get_or_insert_by<T: Record, P: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_keep(scope.with_same(&record, unique)?, record))
    }

    /// Inserts a record, or puts it in the place of the stored one with the same values in unique columns; see
    /// [`Drawer::insert_or_replace`].
    ///
    /// # Errors
    /// As [`Drawer::get_or_insert_by`].
    #[doc(alias = "upsert")]
    pub fn insert_or_replace_by<T: Record, P: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_put(scope.with_same(&record, unique)?, record))
    }

    /// Inserts a record, or writes only the chosen `columns` of it to the stored one with the same values in `unique` ones;
    /// see [`Drawer::insert_or_merge`].
    ///
    /// # Errors
    /// As [`Drawer::get_or_insert_by`].
    pub fn insert_or_merge_by<T: Record, P: Pick<T>, Q: Pick<T>>(
        &self,
        record: T,
        unique: impl FnOnce(T::Columns) -> P,
        columns: impl FnOnce(T::Columns) -> Q,
    ) -> Result<Stored<T>, Error> {
        self.inner.transaction(|scope| scope.insert_or_merge(scope.with_same(&record, unique)?, record, columns))
    }
}

impl Scope<'_, Writes> {
    pub(super) fn insert_or_keep<T: Record>(self, found: Option<Stored<T>>, record: T) -> Result<Stored<T>, Error> {
        found.map_or_else(|| self.insert(record), Ok)
    }

    pub(super) fn insert_or_put<T: Record>(self, found: Option<Stored<T>>, record: T) -> Result<Stored<T>, Error> {
        match found {
            Some(stored) => self.replace(stored.key(), record),
            None => self.insert(record),
        }
    }

    pub(super) fn insert_or_merge<T: Record, P: Pick<T>>(
        self,
        found: Option<Stored<T>>,
        record: T,
        columns: impl FnOnce(T::Columns) -> P,
    ) -> Result<Stored<T>, Error> {
        let Some(stored) = found else { return self.insert(record) };
        let key = stored.key();
        self.doing(
            || format!("cannot merge into {key}"),
            || {
                let form = StoredForm::of(&record).map_err(misfit::<T>)?;
                let mut columns = positions(columns);
                columns.retain(|column| !is_stamped::<T>(*column));
                self.write_columns(key, &record, &form, &columns).map(drop)
            },
        )?;
        Ok(self.get(key)?.unwrap_or(stored))
    }

    pub(super) fn with_same_own_key<T: Keyed>(self, record: &T) -> Result<Option<Stored<T>>, Error> {
        let doing = || format!("cannot look for a {} with the same own key", T::TABLE);
        let own_key = self.doing(doing, || {
            refuse_nul(record).map_err(misfit::<T>)?;
            stored_value::<T::OwnKey>(record.own_key()).map_err(|wrong| misfit::<T>(wrong.at(T::OWN_KEY_POSITION)))
        })?;
        self.found(T::statements().get_by_own_key.as_deref().unwrap_or_default(), own_key.as_ref(), doing)
    }

    pub(super) fn with_same<T: Record, P: Pick<T>>(
        self,
        record: &T,
        unique: impl FnOnce(T::Columns) -> P,
    ) -> Result<Option<Stored<T>>, Error> {
        let positions = positions(unique);
        let names: Vec<&str> = positions.iter().map(|at| T::COLUMNS[*at]).collect();
        self.refuse_if_not_unique::<T>(&names)?;
        self.doing(
            || format!("cannot look for the same {}", T::TABLE),
            || {
                refuse_nul(record).map_err(misfit::<T>)?;
                let values = stored_values(record).map_err(misfit::<T>)?;
                let mut text = T::statements().select.clone();
                let mut word = " WHERE ";
                for name in &names {
                    text.push_str(&format!("{word}{} = ?", quoted(name)));
                    word = " AND ";
                }
                // Nothing is equal to nothing: two records without a value there do not clash.
                let values = positions.iter().map(|at| values[*at].as_ref());
                self.connection.one(&text, values, stored)?.transpose()
            },
        )
    }

    pub(super) fn refuse_if_not_unique<T: Record>(self, names: &[&str]) -> Result<(), Error> {
        let indexes = self.inner.declared.structure.table(T::TABLE).map_or(&[][..], |table| &table.indexes);
        let is_named = |column: &String| names.contains(&column.as_str());
        let serves = |columns: &[String]| columns.len() == names.len() && columns.iter().all(is_named);
        if indexes.iter().any(|index| index.unique && serves(&index.columns)) {
            return Ok(());
        }
        let said = if names.is_empty() { "no column".into() } else { names.join(" and ") };
        self.doing(
            || format!("cannot look for the same {} by {said}", T::TABLE),
            || {
                Err(Error::bare(Cause::Schema, "several records may have the same there")
                    .advise("Name a unique column, or declare these as unique: #[record(unique)], #[record(unique(…))]")
                    .in_table(T::TABLE, names.first().copied()))
            },
        )
    }
}
