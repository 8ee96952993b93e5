//! Suggestions while somebody types.

use super::{Records, reading, unreadable};
use crate::drawer::{Access, Inner};
use crate::engine::Rows;
use crate::error::Error;
use crate::search::CachedTexts;
use crate::work::ui_thread;
use velvet_core::Marked;
use velvet_core::search::suggest::Suggestions;
use velvet_core::statement::Select;
use velvet_core::{Column, Fragment, Misfit, Picked, Record, Term, Textual, ValueRef};

impl<T: Record, A: Access> Records<T, A> {
    /// The best `count` texts of a column for what somebody has typed so far, each once: those that begin with it, then
    /// those in which a word does, then those that contain it; among these the shorter first. Large and small letters and accents
    /// make no difference. Nothing for nothing typed.
    ///
    /// On a drawer, the texts are kept at hand from one letter to the next, until something is written. Call it with nothing
    /// typed when the box is shown, and they are at hand for the first letter as well. An index on the column makes reading them
    /// faster in a table of long rows.
    ///
    /// # Errors
    /// As [`Records::collect`].
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Article { #[record(indexed)] name: String }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Article>())?;
    /// for name in ["Cobalt carbonate", "Iron oxide", "Oxide of cobalt", "Cone 6"] {
    ///     drawer.insert(Article { name: name.into() })?;
    /// }
    /// let suggested = drawer.records::<Article>().suggest(|a| a.name, "co", 3)?;
    /// assert_eq!(suggested[0].text(), "Cone 6");
    /// assert_eq!(suggested[2].wrapped("<b>", "</b>"), "Oxide of <b>co</b>balt");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn suggest<C: Textual, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
        typed: &str,
        count: usize,
    ) -> Result<Vec<Marked>, Error> {
        let _waits = ui_thread::watched();
        let mut best = Suggestions::new(typed, count);
        if count == 0 {
            return Ok(Vec::new());
        }
        let column = column(T::columns());
        let picked = Picked { position: column.position(), what: column.write() };
        let position = picked.position;
        let text = |select: Select| select.any_order::<T>(picked);
        match self.at.drawer()? {
            Some(inner) => from_cached_texts(&inner, position, self, text, &mut best)?,
            None if best.is_empty() => {}
            None => self.run(text, |_, rows| each_text::<T>(rows, position, |text| best.offer(text)))?,
        }
        Ok(best.into_list())
    }
}

/// Hands each text to `take`.
fn each_text<T: Record>(rows: &mut Rows<'_>, position: Option<usize>, mut take: impl FnMut(&str)) -> Result<(), Error> {
    rows.each(|row| {
        match row.value(0) {
            ValueRef::Text(text) => take(text),
            ValueRef::Missing => {}
            other => {
                let misfit = Misfit::new(velvet_core::exchange::show::plain(other), "is not text");
                return Err(unreadable::<T>(Misfit { column: position, ..misfit }));
            }
        }
        Ok(())
    })
}

/// Offers the texts of a column that were read for the letter before, or reads them.
fn from_cached_texts<T: Record, A: Access>(
    inner: &Inner,
    position: Option<usize>,
    records: Records<T, A>,
    text: impl FnOnce(Select) -> Fragment,
    best: &mut Suggestions,
) -> Result<(), Error> {
    inner.refuse_if_busy_here("read")?;
    let mut cache = inner.cached_texts.lock();
    let texts = match cache.take() {
        Some(texts) => texts,
        None => CachedTexts::new(inner.own_reader()?),
    };
    let texts = cache.insert(texts);
    let (statement, now) = inner.with_reader(&texts.connection, |scope| {
        scope.doing(reading::<T>, || Ok((records.statement(scope, text)?, scope.connection.count_of_others()?)))
    })?;
    if let Some(texts) = texts.of(&statement, now) {
        texts.for_each(|text| best.offer(text));
        return Ok(());
    }
    texts.keep(statement.clone(), now, |connection, keep| {
        inner.with_reader(connection, |scope| {
            scope.ask::<T, ()>(statement, |_, rows| {
                each_text::<T>(rows, position, |text| {
                    best.offer(text);
                    keep(text);
                })
            })
        })
    })
}
