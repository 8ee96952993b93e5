//! Attachments as records, and the parts in which their contents are kept.

use velvet_derive::Record;

/// A file that is kept inside the drawer. Records link to it by its key; what is in it is read by [`Attachments`](crate::Attachments).
///
/// It is a record like others, found by `drawer.records::<Attachment>()`, changed (its name and media type) by [`Drawer::change`](crate::Drawer::change), and removed by
/// [`Drawer::remove`](crate::Drawer::remove): its content goes with the last attachment that has it. With `#[record(remove_unlinked)]` on a link, it is removed with the last record
/// that links to it by such a link, unless another link still leads to it; then it stays until it is removed, also after that other record is gone.
///
/// ```
/// use velvet_drawer::{Attachment, Drawer, Key, Record, Schema};
///
/// #[derive(Record)]
/// struct Piece {
///     mark: String,
///     #[record(link(on_delete = clear), remove_unlinked)]
///     photo: Option<Key<Attachment>>,
/// }
///
/// # fn main() -> Result<(), velvet_drawer::Error> {
/// let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>().attachments())?;
/// let bytes = [0x42; 30_000];
/// let bowl = drawer.write(|tx| {
///     let photo = tx.attachments().add(&bytes[..]).named("bowl.jpg").media_type("image/jpeg").run()?;
///     tx.insert(Piece { mark: "K-1".into(), photo: Some(photo.key()) })
/// })?;
/// let photo = bowl.photo.expect("it has one");
/// assert_eq!(drawer.attachments().bytes(photo)?, bytes);
/// drawer.remove(bowl.key())?;
/// assert!(drawer.get(photo)?.is_none());
/// # Ok(()) }
/// ```
#[derive(Record, Clone, Debug, PartialEq)]
#[record(library = "crate")]
#[non_exhaustive]
pub struct Attachment {
    /// What it is called; empty where nothing was said.
    pub name: String,
    /// What kind of file it is, such as `image/jpeg`; empty where nothing was said.
    pub media_type: String,
    /// How many bytes it has.
    pub bytes: u64,
    /// The BLAKE3 hash of what is in it, as 64 hexadecimal digits.
    #[record(indexed)]
    pub hash: String,
    /// The number under which its content is kept.
    #[record(indexed)]
    pub(crate) content: i64,
}

/// A part of a content.
#[derive(Record)]
#[record(name = "attachment_part", library = "crate")]
pub(crate) struct Part {
    /// The number under which the content is kept.
    content: i64,
    /// Which part it is, from 0.
    number: u64,
    /// What is in it.
    bytes: Vec<u8>,
}
