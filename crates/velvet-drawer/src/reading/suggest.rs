//! Suggestions while somebody types.

use super::{Open, Records, reading};
use crate::drawer::{Drawer, Inner};
use crate::engine::{Connection, Rows};
use crate::error::{Cause, Error};
use std::sync::PoisonError;
use velvet_core::search::Marked;
use velvet_core::statement::Select;
use velvet_core::suggest::Suggestions;
use velvet_core::{Column, Fragment, Misfit, Picked, Record, Term, Textual, ValueRef};

impl<T: Record, Access> Records<'_, T, Access> {
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
    /// assert_eq!(suggested[2].with("<b>", "</b>"), "Oxide of <b>co</b>balt");
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn suggest<C: Textual, E: Term>(
        self,
        column: impl FnOnce(T::Columns) -> Column<T, C, E>,
        typed: &str,
        count: usize,
    ) -> Result<Vec<Marked>, Error> {
        let mut best = Suggestions::new(typed, count);
        if count == 0 || (best.is_empty() && self.drawer().is_none()) {
            return Ok(Vec::new());
        }
        let column = column(T::columns());
        let picked = Picked { position: column.position(), what: column.write() };
        let position = picked.position;
        let text = |select: Select| select.any_order::<T>(picked);
        match self.drawer() {
            Some(drawer) => {
                drawer.inner.refuse_if_busy_here("read")?;
                let mut kept = drawer.inner.suggested_from.lock().unwrap_or_else(PoisonError::into_inner);
                let from = match kept.take() {
                    Some(from) => from,
                    None => SuggestedFrom::new(drawer)?,
                };
                let from = kept.insert(from);
                from.suggest::<T>(&drawer.inner, position, self, text, &mut best)?;
            }
            None => {
                self.run(text, |open, rows| each_text::<T>(open, rows, position, |text| best.offer(text)))?;
            }
        }
        Ok(best.into_list())
    }
}

/// Hands each text to `take`.
fn each_text<T: Record>(
    open: Open<'_>,
    rows: &mut Rows<'_>,
    position: Option<usize>,
    mut take: impl FnMut(&str),
) -> Result<(), Error> {
    while let Some(row) = rows.next().map_err(open.fault(reading::<T>))? {
        match row.value(0) {
            ValueRef::Text(text) => take(text),
            ValueRef::Missing => {}
            other => {
                let misfit = Misfit::new(velvet_core::show::plain(other), "is not text");
                let misfit = Misfit { column: position, ..misfit };
                let doing = reading::<T>();
                let error = Error::misfit(Cause::Unreadable, &doing, T::TABLE, T::COLUMNS, misfit);
                return Err(open.inner.place.name(error));
            }
        }
    }
    Ok(())
}

/// How many bytes of text are kept at most.
const MOST_KEPT: usize = 16 << 20;

/// The texts that were suggested from last. While somebody types, the same ones are looked through for each letter, so they are
/// kept until something is written; a connection of their own tells when.
pub(crate) struct SuggestedFrom {
    connection: Connection,
    /// The statement that read them, with its values; nothing when they are not kept.
    statement: Option<Fragment>,
    /// The engine's count of what others wrote, when they were read.
    version: i64,
    texts: String,
    ends: Vec<usize>,
}

impl SuggestedFrom {
    fn new(drawer: &Drawer) -> Result<SuggestedFrom, Error> {
        let connection = drawer.inner.pool().own_reader();
        let connection = connection.map_err(|fault| drawer.inner.fault("cannot open the file for reading", fault))?;
        Ok(SuggestedFrom { connection, statement: None, version: 0, texts: String::new(), ends: Vec::new() })
    }

    fn suggest<T: Record>(
        &mut self,
        inner: &Inner,
        position: Option<usize>,
        records: Records<'_, T, impl Sized>,
        text: impl FnOnce(Select) -> Fragment,
        best: &mut Suggestions,
    ) -> Result<(), Error> {
        let SuggestedFrom { connection, statement: kept, version, texts, ends } = self;
        let open = Open { connection, inner };
        let statement = records.statement(open, text)?;
        let fault = || open.fault(reading::<T>);
        let now = connection.number("PRAGMA data_version").map_err(fault())?;
        if now == *version && kept.as_ref().is_some_and(|k| k.text == statement.text && k.values == statement.values) {
            let mut from = 0;
            for end in ends.iter() {
                best.offer(&texts[from..*end]);
                from = *end;
            }
            return Ok(());
        }
        // Read before the rows, so that what is written in between is seen as written after them.
        *version = now;
        *kept = None;
        texts.clear();
        ends.clear();
        let asked = statement.clone();
        let mut fits = true;
        open.ask::<T, ()>(asked, |open, rows| {
            each_text::<T>(open, rows, position, |text| {
                best.offer(text);
                fits &= texts.len() + text.len() <= MOST_KEPT;
                if fits {
                    texts.push_str(text);
                    ends.push(texts.len());
                }
            })
        })?;
        if fits {
            *kept = Some(statement);
        }
        Ok(())
    }
}
