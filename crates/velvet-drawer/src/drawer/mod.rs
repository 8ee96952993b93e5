//! The handle to an open drawer.

mod access;
mod background;
mod cache;
mod following;
mod health;
mod in_effect;
mod in_place;
mod inner;
mod later;
mod opened;
mod readings;
mod scope;
mod storing;

pub use access::{Access, Alone, MayWrite};
pub use background::Resting;
pub(crate) use following::{Changes, Share, Subscriber, Subscription};
pub use health::Health;
pub(crate) use in_effect::InEffect;
pub(crate) use inner::{Inner, Place, UNTOUCHED};
pub use later::Later;
pub use opened::Opened;
pub(crate) use readings::HeldRead;
pub use readings::OpenRead;
pub use scope::{Mode, Reads, Scope, Writes};

use crate::engine::bytes_of;
use crate::error::{Cause, Error};
use crate::work::ui_thread;
use std::fmt;
use std::panic::Location;
use std::path::Path;
use std::sync::Arc;

/// An open database file: a cheap handle that is cloned freely and used from any thread.
///
/// Dropping the last handle closes the file; nothing that was acknowledged is lost either way.
///
/// Inside the closures of [`Drawer::write`] and [`Drawer::read`] use what they are given; the drawer itself refuses to
/// be used there, on the same thread, because it would wait for itself or see another state ([`Error::is_nested`]).
pub struct Drawer {
    pub(crate) inner: Arc<Inner>,
    handle: u64,
}

impl Drawer {
    /// What is asked of the drawer, to be run by itself.
    pub(crate) fn alone(&self) -> Alone {
        Alone::of(&self.inner)
    }

    #[track_caller]
    pub(crate) fn of(inner: Arc<Inner>) -> Drawer {
        Drawer::taken_at(inner, Location::caller())
    }

    /// A handle that was taken at this place in the app's code.
    pub(crate) fn taken_at(inner: Arc<Inner>, at: &'static Location<'static>) -> Drawer {
        let handle = inner.new_handle(at);
        Drawer { inner, handle }
    }

    /// The whole path of the file; nothing for a drawer in memory.
    pub fn path(&self) -> Option<&Path> {
        self.inner.path()
    }

    /// What opening it came to: whether it was created, or upgraded and how. Of a file that was open already, what its
    /// first opening came to.
    pub fn opened(&self) -> &Opened {
        self.inner.opened()
    }

    /// The whole drawer as bytes, such as its file would hold once everything is merged.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn to_bytes(&self) -> Result<Vec<u8>, Error> {
        let doing = || "cannot read the whole drawer";
        self.inner.reading(|scope| scope.doing(doing, || Ok(bytes_of(scope.connection)?)))
    }

    /// Closes this handle, and the file when it is the last one.
    ///
    /// # Errors
    /// When other handles keep the file open, with the places that took them ([`Error::is_in_use`]). This handle is
    /// closed all the same, and the file follows when the last of the others is dropped. And when the file was deleted, moved or replaced
    /// while it was open ([`Error::is_displaced`]): what it held is then kept beside its path, and the message says where.
    pub fn close(self) -> Result<(), Error> {
        let _waits = ui_thread::watched();
        let inner = Arc::clone(&self.inner);
        drop(self);
        let still_open = inner.open_handles();
        match Arc::try_unwrap(inner) {
            Ok(mut inner) => inner.close(),
            // Another handle was dropped this very moment, and is closing the file.
            Err(_) if still_open.is_empty() => Ok(()),
            Err(inner) => {
                let places: Vec<String> = still_open.iter().map(|at| format!("{}:{}", at.file(), at.line())).collect();
                let count =
                    if places.len() == 1 { "1 other handle".into() } else { format!("{} other handles", places.len()) };
                Err(inner.place.name(
                    Error::new(
                        Cause::InUse,
                        format!("the file stays open: {count} in use, taken at {}", places.join(", ")),
                    )
                    .untouched("This handle is closed; nothing acknowledged is lost")
                    .advise("Drop the others, or close them"),
                ))
            }
        }
    }
}

impl Clone for Drawer {
    #[track_caller]
    fn clone(&self) -> Drawer {
        Drawer::of(Arc::clone(&self.inner))
    }
}

impl Drop for Drawer {
    fn drop(&mut self) {
        self.inner.forget_handle(self.handle);
        if self.inner.open_handles().is_empty() {
            self.inner.end_following();
        }
    }
}

impl fmt::Debug for Drawer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Drawer")
            .field("place", &self.inner.place)
            .field("app", &self.inner.declared.app)
            .field("version", &self.inner.declared.version)
            .finish_non_exhaustive()
    }
}
