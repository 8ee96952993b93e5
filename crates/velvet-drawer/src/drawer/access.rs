//! Where something runs that was asked for, and what may be done there.

use super::scope::Sealed;
use super::{HeldRead, Inner, Reads, Scope, Writes};
use crate::error::{Cause, Error};
use crate::search;
use std::panic::Location;
use std::sync::{Arc, Weak};

/// Where something runs that was asked for: of a drawer ([`Alone`]), of a view ([`Scope`] that [`Reads`]) or of a transaction
/// ([`Scope`] that [`Writes`]).
pub trait Access: Clone + Sealed {
    /// Whether what runs there may write by itself.
    #[doc(hidden)]
    const MAY_WRITE: bool;

    /// Runs `work` where it may read.
    #[doc(hidden)]
    fn reading<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error>;

    /// Runs `work` in one consistent state of the file.
    #[doc(hidden)]
    fn viewing<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.reading(work)
    }

    /// Holds a read open that runs code of the app's, for as long as what this returns is kept. Nothing where it is a part of one.
    #[doc(hidden)]
    fn held_open(&self, _at: &'static Location<'static>) -> Result<Option<HeldRead>, Error> {
        Ok(None)
    }

    /// Sees to it that the search index was told of all that was written, as far as it is seen from there.
    #[doc(hidden)]
    fn search_index_is_told(&self) -> Result<(), Error>;

    /// The drawer, where nothing of it is open yet.
    #[doc(hidden)]
    fn drawer(&self) -> Result<Option<Arc<Inner>>, Error> {
        Ok(None)
    }
}

/// Where something runs that may write: of a drawer or a transaction.
#[diagnostic::on_unimplemented(
    message = "this is asked of a view, which only reads",
    note = "write in a transaction: `drawer.write(|tx| …)`"
)]
pub trait MayWrite: Access {
    /// Runs `work`, which writes in one statement.
    #[doc(hidden)]
    fn writing<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error>;

    /// Runs `work`, all of whose writes are kept, or none.
    #[doc(hidden)]
    fn transaction<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error>;
}

/// Asked of a drawer: runs in a state, or a transaction, of its own. What waits to be run does not keep the drawer open.
#[derive(Clone)]
pub struct Alone(Weak<Inner>);

impl Alone {
    pub(super) fn of(inner: &Arc<Inner>) -> Alone {
        Alone(Arc::downgrade(inner))
    }

    /// The drawer, unless it was closed meanwhile.
    pub(crate) fn open(&self) -> Result<Arc<Inner>, Error> {
        self.0.upgrade().ok_or_else(|| {
            Error::new(Cause::FileMissing, "the drawer was closed before this was run")
                .untouched("Nothing was read or written")
                .advise("Keep a handle to the drawer for as long as its selections are used")
        })
    }
}

impl Sealed for Alone {}

impl Access for Alone {
    const MAY_WRITE: bool = false;

    #[inline]
    fn reading<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.open()?.reading(work)
    }

    fn viewing<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error> {
        self.open()?.viewing(work)
    }

    fn held_open(&self, at: &'static Location<'static>) -> Result<Option<HeldRead>, Error> {
        Ok(Some(HeldRead::new(self.open()?, at)))
    }

    fn search_index_is_told(&self) -> Result<(), Error> {
        let inner = self.open()?;
        let doing = || "cannot read what the search index was told of";
        let is_behind = inner.reading(|scope| scope.doing(doing, || Ok(search::is_behind(scope.connection)?)))?;
        if is_behind { inner.tell_the_search_index() } else { Ok(()) }
    }

    fn drawer(&self) -> Result<Option<Arc<Inner>>, Error> {
        self.open().map(Some)
    }
}

impl MayWrite for Alone {
    #[inline]
    fn writing<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        self.open()?.transaction(work)
    }

    fn transaction<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        self.open()?.transaction(work)
    }
}

impl Access for Scope<'_, Reads> {
    const MAY_WRITE: bool = false;

    #[inline]
    fn reading<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error> {
        work(*self)
    }

    /// It was told when the view began.
    fn search_index_is_told(&self) -> Result<(), Error> {
        Ok(())
    }
}

impl Access for Scope<'_, Writes> {
    const MAY_WRITE: bool = true;

    #[inline]
    fn reading<R>(&self, work: impl FnOnce(Scope<'_>) -> Result<R, Error>) -> Result<R, Error> {
        work(self.to_read())
    }

    fn search_index_is_told(&self) -> Result<(), Error> {
        self.tell_search_index()
    }
}

impl MayWrite for Scope<'_, Writes> {
    #[inline]
    fn writing<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        work(*self)
    }

    /// What it wrote before it failed is rolled back alone.
    fn transaction<R>(&self, work: impl FnOnce(Scope<'_, Writes>) -> Result<R, Error>) -> Result<R, Error> {
        self.part(|| work(*self))
    }
}
