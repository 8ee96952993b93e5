//! Suggestions while somebody types.

use super::{Records, reading};
use crate::error::{Cause, Error};
use velvet_core::search::Marked;
use velvet_core::statement::Select;
use velvet_core::suggest::Suggestions;
use velvet_core::{Column, Misfit, Picked, Record, Term, Textual, ValueRef};

impl<T: Record, Access> Records<'_, T, Access> {
    /// The best `count` texts of a column for what somebody has typed so far, each once: those that begin with it, then
    /// those in which a word does, then those that contain it; among these the shorter first. Large and small letters and accents
    /// make no difference. Nothing for nothing typed.
    ///
    /// An index on the column makes it several times faster in a table of long rows.
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
        if best.is_empty() || count == 0 {
            return Ok(Vec::new());
        }
        let column = column(T::columns());
        let position = column.position();
        let text = |select: Select| select.any_order::<T>(Picked { what: column.write(), position });
        self.run(text, |open, rows| {
            while let Some(row) = rows.next().map_err(open.fault(reading::<T>))? {
                match row.value(0) {
                    ValueRef::Text(text) => best.offer(text),
                    ValueRef::Missing => {}
                    other => {
                        let misfit = Misfit::new(velvet_core::show::plain(other), "is not text");
                        let misfit = position.map_or(misfit.clone(), |at| misfit.at(at));
                        let doing = reading::<T>();
                        let error = Error::misfit(Cause::Unreadable, &doing, T::TABLE, T::COLUMNS, misfit);
                        return Err(open.inner.place.name(error));
                    }
                }
            }
            Ok(best.into_list())
        })
    }
}
