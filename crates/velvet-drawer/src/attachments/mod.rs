//! Files kept inside the drawer: photos, sounds, documents, of any size.
//!
//! A content is kept once, in parts, however many attachments have it. A small one is stored in one transaction. A large one is stored in several, so that
//! neither memory nor the write-ahead log grows with it, and counts only once the last of them is committed; what a kill leaves of it belongs to no
//! attachment, and is removed.

pub(crate) mod outside;

mod adding;
mod leftovers;
mod reader;
mod reading;

pub use adding::{Adding, Prepared};
pub(crate) use leftovers::is_something_left;
pub use reader::AttachmentReader;

use crate::drawer::{Alone, Drawer, Scope, Writes};
use crate::query::View;
use crate::records::Tx;

/// The attachments of a drawer, of a view or of a transaction; see [`Attachment`](crate::Attachment).
#[derive(Clone)]
pub struct Attachments<A = Alone> {
    at: A,
}

impl Drawer {
    /// The attachments: to add some, and to read what is in them. The schema must have them ([`Schema::attachments`](crate::Schema::attachments)).
    pub fn attachments(&self) -> Attachments {
        Attachments { at: self.alone() }
    }
}

impl View<'_> {
    /// The attachments; see [`Drawer::attachments`].
    pub fn attachments(&self) -> Attachments<Scope<'_>> {
        Attachments { at: self.scope() }
    }
}

impl<'t> Tx<'t> {
    /// The attachments; see [`Drawer::attachments`].
    pub fn attachments(&self) -> Attachments<Scope<'t, Writes>> {
        Attachments { at: self.scope() }
    }
}
