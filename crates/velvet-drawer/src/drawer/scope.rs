//! Where an operation on records runs: a connection of an open drawer, in the middle of its work.

use super::Inner;
use super::inner::UNTOUCHED;
use crate::engine::Connection;
use crate::error::Error;
use crate::search;
use std::fmt::Display;
use std::marker::PhantomData;

/// Keeps others from having traits of the library's own.
pub trait Sealed {}

/// In a scope that only reads.
pub enum Reads {}

/// In a scope that may write.
pub enum Writes {}

/// What may be done in a scope: one of [`Reads`] and [`Writes`].
pub trait Mode: Sealed {
    /// Whether it may write.
    #[doc(hidden)]
    const WRITES: bool;
}

impl Sealed for Reads {}
impl Sealed for Writes {}

impl Mode for Reads {
    const WRITES: bool = false;
}

impl Mode for Writes {
    const WRITES: bool = true;
}

/// A connection of an open drawer, in the middle of its work: that of a view, or of a transaction.
pub struct Scope<'a, M = Reads> {
    pub(crate) connection: &'a Connection,
    pub(crate) inner: &'a Inner,
    mode: PhantomData<M>,
}

impl<M> Clone for Scope<'_, M> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<M> Copy for Scope<'_, M> {}

impl<M> Sealed for Scope<'_, M> {}

impl<'a, M: Mode> Scope<'a, M> {
    pub(super) fn new(connection: &'a Connection, inner: &'a Inner) -> Self {
        Scope { connection, inner, mode: PhantomData }
    }

    /// The same place, only to read there.
    pub(crate) fn to_read(self) -> Scope<'a, Reads> {
        Scope::new(self.connection, self.inner)
    }

    /// Runs `work`. Where it fails, says what was being done, in which file, and that nothing was written.
    #[inline]
    pub(crate) fn doing<R, D: Display>(
        self,
        what: impl FnOnce() -> D,
        work: impl FnOnce() -> Result<R, Error>,
    ) -> Result<R, Error> {
        work().map_err(|error| self.told(what, error))
    }

    #[cold]
    fn told<D: Display>(self, what: impl FnOnce() -> D, error: Error) -> Error {
        let error = if error.is_bare() {
            let error = error.doing(what());
            if M::WRITES { error.or_untouched(UNTOUCHED) } else { error }
        } else {
            error
        };
        self.inner.place.name(error)
    }
}

impl Scope<'_, Writes> {
    /// Runs `work` as a part of the transaction that this is in; rolled back alone when it fails.
    pub(crate) fn part<R>(self, work: impl FnOnce() -> Result<R, Error>) -> Result<R, Error> {
        let doing = || "cannot begin or end a part of the transaction";
        let part = self.doing(doing, || Ok(self.connection.savepoint()?))?;
        let result = work()?;
        self.doing(doing, || Ok(part.keep()?))?;
        Ok(result)
    }

    /// Tells the search index of all that was written in this transaction.
    pub(crate) fn tell_search_index(self) -> Result<(), Error> {
        self.doing(
            || "cannot tell the search index of what was written",
            || Ok(search::catch_up(self.connection, &self.inner.declared.structure)?),
        )
    }
}
