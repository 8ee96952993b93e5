//! A selection as an iterator.

use super::{Records, reading, stored};
use crate::drawer::{Access, Scope};
use crate::engine::Rows;
use crate::error::Error;
use std::iter::FusedIterator;
use std::marker::PhantomData;
use std::panic::Location;
use velvet_core::statement::Select;
use velvet_core::{Record, Stored};

/// The records of a selection, one after the other; handed to the closure of [`Records::stream`].
pub struct Stream<'r, 's, T> {
    scope: Scope<'r>,
    rows: Option<&'r mut Rows<'s>>,
    of: PhantomData<fn() -> T>,
}

impl<T: Record> Iterator for Stream<'_, '_, T> {
    type Item = Result<Stored<T>, Error>;

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        let rows = self.rows.as_mut()?;
        let (next, is_over) = match rows.next() {
            Ok(Some(row)) => (Some(stored(row)), false),
            Ok(None) => (None, true),
            Err(fault) => (Some(Err(fault.into())), true),
        };
        if is_over {
            self.rows = None;
        }
        next.map(|record| self.scope.doing(reading::<T>, || record))
    }
}

impl<T: Record> FusedIterator for Stream<'_, '_, T> {}

impl<T: Record, A: Access> Records<T, A> {
    /// Hands the records to `work` as an iterator, in constant memory however many there are. Whenever `work` returns,
    /// everything is freed. For plain work on one record after the other there is [`Records::for_each`].
    ///
    /// # Errors
    /// As [`Records::collect`], and what `work` returns.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for n in 0..9 { drawer.insert(Piece { mark: format!("K-{n}"), grams: 300 + n })?; }
    /// let first_heavy = drawer.records::<Piece>().stream(|pieces| {
    ///     pieces.filter(|p| p.as_ref().is_ok_and(|p| p.grams > 303)).map(|p| Ok(p?.mark.clone())).next().transpose()
    /// })?;
    /// assert_eq!(first_heavy.as_deref(), Some("K-4"));
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[track_caller]
    pub fn stream<R>(self, work: impl FnOnce(&mut Stream<'_, '_, T>) -> Result<R, Error>) -> Result<R, Error> {
        let _open = self.at.held_open(Location::caller())?;
        self.run(Select::rows::<T>, |scope, rows| work(&mut Stream { scope, rows: Some(rows), of: PhantomData }))
    }
}
