//! Opening a drawer: finding the file, telling what it is, creating it where there is none.

pub(crate) mod copying;

mod aside;
mod asked;
mod brought_up;
mod create;
mod drawer;
#[cfg(feature = "encryption")]
mod file_key_change;
mod flow;
mod foreign_log;
mod kept;
mod keyed;
mod options;
mod path;
mod recognise;
mod registry;
mod remove;
mod restore;
mod shipped;
mod why_not;

#[cfg(feature = "encryption")]
pub use file_key_change::{FileKeyChange, FileKeyChanged, NotChanged};
pub use kept::{KeptCopy, KeptFor};
pub use options::Options;

pub(crate) use path::resolved;
pub(crate) use recognise::{Found, recognise};

use foreign_log::bring_back;
#[cfg(feature = "inspect")]
pub(crate) use foreign_log::unanswered;
use kept::kept;
use remove::{Copies, remove_from_device};
use restore::restore;
