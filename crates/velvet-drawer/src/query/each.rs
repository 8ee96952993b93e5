//! One record after the other, without holding them all.

use super::{Records, stored};
use crate::drawer::Access;
use crate::error::Error;
use crate::work::progress;
use std::ops::ControlFlow;
use std::panic::Location;
use velvet_core::statement::Select;
use velvet_core::{Record, Stored};

/// What a closure may return to say whether to go on.
pub trait Going {
    /// Whether to go on, or the error to end with.
    #[doc(hidden)]
    fn going(self) -> Result<ControlFlow<()>, Error>;
}

impl Going for () {
    fn going(self) -> Result<ControlFlow<()>, Error> {
        Ok(ControlFlow::Continue(()))
    }
}

impl Going for ControlFlow<()> {
    fn going(self) -> Result<ControlFlow<()>, Error> {
        Ok(self)
    }
}

impl<G: Going> Going for Result<G, Error> {
    fn going(self) -> Result<ControlFlow<()>, Error> {
        self?.going()
    }
}

impl<T: Record, A: Access> Records<T, A> {
    /// Calls `work` with one record after the other, in constant memory however many there are. Ends early when `work`
    /// returns [`ControlFlow::Break`] or an error; nothing stays open then.
    ///
    /// # Errors
    /// As [`Records::collect`], and what `work` returns.
    ///
    /// ```
    /// use std::ops::ControlFlow;
    /// # use velvet_drawer::{Drawer, Record, Schema};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # for n in 0..9 { drawer.insert(Piece { mark: format!("K-{n}"), grams: 300 })?; }
    /// // As many as the kiln carries.
    /// let mut grams = 0;
    /// drawer.records::<Piece>().for_each(|piece| {
    ///     grams += piece.grams;
    ///     if grams < 1_000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    /// })?;
    /// assert_eq!(grams, 1_200);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    #[track_caller]
    pub fn for_each<G: Going>(self, mut work: impl FnMut(Stored<T>) -> G) -> Result<(), Error> {
        let _open = self.at.held_open(Location::caller())?;
        self.run(Select::rows::<T>, |_, rows| {
            let mut read = 0;
            while let Some(row) = rows.next()? {
                progress::tell_rows(|| format!("reading records of {}", T::TABLE), read, None);
                read += 1;
                if work(stored(row)?).going()?.is_break() {
                    break;
                }
            }
            Ok(())
        })
    }
}
