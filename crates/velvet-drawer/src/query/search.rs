//! Finding records by words.

use super::only::{picked, read};
use super::{Explained, Records, of, stored};
use crate::drawer::{Access, Alone, Scope};
use crate::engine::Row;
use crate::error::Error;
use crate::live::{ByRow, Live, LiveRows, Show};
use std::fmt;
use std::marker::PhantomData;
use std::ops::Deref;
use velvet_core::live::List;
use velvet_core::query::excerpt::PickOf;
use velvet_core::search::Sought;
use velvet_core::statement::Followed;
use velvet_core::{ExcerptOf, Fragment, Marked, Pick, Picked, Record, Searchable, Stored, Value};

/// The records of a selection that have words.
#[must_use = "a search reads nothing until it is collected"]
pub struct Search<T, A = Alone> {
    records: Records<T, A>,
    sought: Sought,
}

/// Some columns of the records that a search finds.
#[must_use = "a search reads nothing until it is collected"]
pub struct OnlyFound<T, P, A = Alone> {
    search: Search<T, A>,
    columns: Vec<Picked>,
    of: PhantomData<fn() -> P>,
}

/// A record that was found; by deref, the stored record.
#[derive(Clone, PartialEq)]
pub struct Hit<T> {
    stored: Stored<T>,
    marked: Marked,
}

impl<T> Hit<T> {
    /// The part of its text around what matches, with what matches marked.
    pub fn marked(&self) -> &Marked {
        &self.marked
    }

    /// The stored record.
    pub fn into_stored(self) -> Stored<T> {
        self.stored
    }

    pub(super) fn into_parts(self) -> (Stored<T>, Marked) {
        (self.stored, self.marked)
    }

    pub(super) fn from_parts((stored, marked): (Stored<T>, Marked)) -> Hit<T> {
        Hit { stored, marked }
    }
}

impl<T: Record + fmt::Debug> fmt::Debug for Hit<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?} ({})", self.stored, self.marked)
    }
}

impl<T> Deref for Hit<T> {
    type Target = Stored<T>;

    fn deref(&self) -> &Stored<T> {
        &self.stored
    }
}

impl<T: Record, A: Access> Records<T, A> {
    /// Finds the records with all of these words in their searchable columns, best first: by how rare the words are, how often
    /// they come, and the weights of the columns. Another order can be asked for with `sort_by`.
    ///
    /// Large and small letters, accents, apostrophes and hyphens make no difference, in any script: `strasse` finds Straße, `obrien`
    /// O'Brien. The last word may go on, unless something follows it: `cob` finds cobalt, `cob ` and `cob blue` do not. In scripts
    /// that put no spaces between words, and of pictures, any part is found. Whatever is typed is taken as words, of which up to 32
    /// are looked for; where there is none, nothing is found. What is no more than the beginning of a word, of one or two letters,
    /// is found in the order in which the records were stored, because so much has it.
    ///
    /// Records that another program wrote are indexed before the search. While somebody else writes, the search does not wait: it uses the index as it is, and the next
    /// search indexes them.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// #[derive(Record)]
    /// struct Glaze {
    ///     #[record(own_key, searchable(weight = 4))]
    ///     name: String,
    ///     #[record(searchable)]
    ///     notes: String,
    /// }
    ///
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// # let glaze = |name: &str, notes: &str| Glaze { name: name.into(), notes: notes.into() };
    /// drawer.insert(glaze("Cobalt blue", "Matte when it cools slowly"))?;
    /// drawer.insert(glaze("Céladon", "Thick where it pools"))?;
    ///
    /// let hits = drawer.records::<Glaze>().search("cobalt mat").limit(10).collect()?;
    /// assert_eq!(hits[0].name, "Cobalt blue");
    /// let hits = drawer.records::<Glaze>().search("celadon").collect()?;
    /// assert_eq!(hits[0].marked().wrapped("<b>", "</b>"), "<b>Céladon</b>");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[doc(alias = "full-text search")]
    #[doc(alias = "fts")]
    pub fn search(self, words: &str) -> Search<T, A>
    where
        T: Searchable,
    {
        Search { records: self, sought: Sought::typed(words) }
    }
}

impl<T: Searchable, A: Access> Search<T, A> {
    /// At most this many records.
    pub fn limit(mut self, count: u64) -> Self {
        self.records = self.records.limit(count);
        self
    }

    /// Leaves out this many records at the start.
    pub fn offset(mut self, count: u64) -> Self {
        self.records = self.records.offset(count);
        self
    }

    /// The records that were found.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn collect(self) -> Result<Vec<Hit<T>>, Error> {
        let Search { records, sought } = self;
        let Some(expression) = sought.expression() else { return Ok(Vec::new()) };
        records.at.search_index_is_told()?;
        let places = places::<T>();
        records.run(
            |select| select.hits::<T>(expression, !sought.is_hardly_anything(), None),
            |_, rows| {
                let mut all = Vec::new();
                rows.each(|row| {
                    all.push(found(row, &sought, &places)?);
                    Ok::<_, Error>(())
                })?;
                Ok(all)
            },
        )
    }

    /// Only the best of them.
    pub(super) fn only_first(mut self) -> Self {
        self.records = self.records.only_first();
        self
    }

    /// Runs `work` in one consistent state of the file, with the same search there.
    pub(super) fn in_one_state<R>(
        self,
        work: impl FnOnce(Scope<'_>, Search<T, Scope<'_>>) -> Result<R, Error>,
    ) -> Result<R, Error> {
        let Search { records, sought } = self;
        records.in_one_state(|scope, records| work(scope, Search { records, sought }))
    }

    /// The best of them, or nothing when there is none.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn first(self) -> Result<Option<Hit<T>>, Error> {
        Ok(self.only_first().collect()?.pop())
    }

    /// Reads only these columns of what is found; see [`Records::only`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Glaze { #[record(own_key, searchable)] name: String, cone: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Glaze>())?;
    /// drawer.insert(Glaze { name: "Cobalt blue".into(), cone: 9 })?;
    /// let cones: Vec<u32> = drawer.records::<Glaze>().search("blue").only(|g| g.cone).collect()?;
    /// assert_eq!(cones, [9]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn only<P: Pick<T>>(self, pick: impl FnOnce(T::Columns) -> P) -> OnlyFound<T, P, A> {
        OnlyFound { search: self, columns: picked(pick(T::columns())), of: PhantomData }
    }

    /// Reads only the columns of an excerpt of what is found, as that type; see [`Records::only_as`].
    pub fn only_as<X: ExcerptOf<T>>(self) -> OnlyFound<T, PickOf<X>, A> {
        self.only(|_| PickOf::default())
    }

    /// How many there are.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn count(self) -> Result<u64, Error> {
        let Search { records, sought } = self;
        let Some(expression) = sought.expression() else { return Ok(0) };
        records.at.search_index_is_told()?;
        records.run(
            |select| select.count_hits::<T>(expression),
            |_, rows| Ok(rows.next()?.map_or(0, |row| row.integer(0).unsigned_abs())),
        )
    }

    /// Says how the search would be run, without running it.
    ///
    /// # Errors
    /// As [`Records::count`].
    pub fn explain(self) -> Result<Explained, Error> {
        let Search { records, sought } = self;
        let ranked = !sought.is_hardly_anything();
        records.explain_as(|select| select.hits::<T>(sought.expression().unwrap_or_default(), ranked, None))
    }
}

impl<T: Searchable, P: Pick<T>, A: Access> OnlyFound<T, P, A> {
    /// The values, in the order of the search.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn collect(self) -> Result<Vec<P::Output>, Error> {
        let OnlyFound { search: Search { records, sought }, columns, .. } = self;
        let Some(expression) = sought.expression() else { return Ok(Vec::new()) };
        records.at.search_index_is_told()?;
        let positions = positions_after_key(&columns);
        records.run(
            |select| select.hits::<T>(expression, !sought.is_hardly_anything(), Some(columns)),
            |_, rows| {
                let mut all = Vec::new();
                rows.each(|row| {
                    all.push(read::<T, T, P>(row, 1, &positions)?);
                    Ok::<_, Error>(())
                })?;
                Ok(all)
            },
        )
    }

    /// The values of the best of them, or nothing when there is none.
    ///
    /// # Errors
    /// As [`Records::collect`].
    pub fn first(mut self) -> Result<Option<P::Output>, Error> {
        self.search = self.search.only_first();
        Ok(self.collect()?.pop())
    }
}

impl<T: Searchable + Send + Sync> Search<T> {
    /// Follows what is found: the list now, best first, and again after each commit that changes it; see [`Live`].
    ///
    /// # Errors
    /// As [`Records::watch`].
    pub fn watch(self) -> Result<Live<List<Hit<T>>>, Error> {
        let places = places::<T>();
        let sought = self.sought.clone();
        self.follow(None, move |row| found(row, &sought, &places))
    }

    fn follow<R: Send + Sync + 'static>(
        self,
        columns: Option<Vec<Picked>>,
        read: impl Fn(Row<'_, '_>) -> Result<R, Error> + Send + Sync + 'static,
    ) -> Result<Live<List<R>>, Error> {
        let Search { records, sought } = self;
        let (inner, select) = records.into_followed()?;
        let collations = select.sorting.collations().cloned().collect();
        let count = 1 + columns.as_ref().map_or(T::COLUMNS.len(), Vec::len);
        let hits = match sought.expression() {
            Some(expression) => select.hits::<T>(expression, !sought.is_hardly_anything(), columns),
            None => Fragment::text("SELECT 0 WHERE FALSE"),
        };
        let whole = Followed::whole(hits, count, collations);
        let words = Value::Text(format!("{sought:?}"));
        LiveRows::follow(&inner, of::<T>(), whole, (ByRow::Number, Some(words)), read, Show::LIST)
    }
}

impl<T: Searchable + Send + Sync, P: Pick<T> + 'static> OnlyFound<T, P>
where
    P::Output: Send + Sync + 'static,
{
    /// Follows the values of what is found; see [`Search::watch`].
    ///
    /// # Errors
    /// As [`Records::watch`].
    pub fn watch(self) -> Result<Live<List<P::Output>>, Error> {
        let positions = positions_after_key(&self.columns);
        self.search.follow(Some(self.columns), move |row| read::<T, T, P>(row, 1, &positions))
    }
}

/// The position of the column in each place of a row that begins with the key.
fn positions_after_key(columns: &[Picked]) -> Vec<Option<usize>> {
    std::iter::once(None).chain(columns.iter().map(|c| c.position)).collect()
}

/// The places of the searched columns in a row.
fn places<T: Record>() -> Vec<usize> {
    let place = |(name, _): &(&str, f64)| T::COLUMNS.iter().position(|c| c == name).map(|at| at + 1);
    T::SEARCHABLE.iter().filter_map(place).collect()
}

fn found<T: Record>(row: Row<'_, '_>, sought: &Sought, places: &[usize]) -> Result<Hit<T>, Error> {
    let marked = sought.marked(places.iter().map(|at| row.text(*at)));
    Ok(Hit { stored: stored(row)?, marked })
}
