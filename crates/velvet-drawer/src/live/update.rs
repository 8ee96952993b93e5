//! What whoever follows a result is given.

use crate::error::Error;
use std::sync::Arc;
use velvet_core::live::{List, Step};

/// A result as it is now.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Update<R> {
    /// The result.
    pub result: R,
    /// The one that was taken before, if there was one.
    pub before: Option<R>,
    /// Whether it could not be read for a while, which was told, and can be again.
    pub is_back: bool,
}

impl<R> Update<List<R>> {
    /// What changed since the list that was taken before, to be done on that one step after the other. Of a first list, it is that all came in.
    ///
    /// Removals come first, from the back; then what moved; then, from the front, what came in; and last what changed. So the places of what came in or
    /// changed are places of the result.
    ///
    /// ```
    /// # use velvet_drawer::{Drawer, Record, Schema, Step};
    /// # #[derive(Record)] struct Piece { mark: String, grams: u32 }
    /// # let drawer = Drawer::in_memory(Schema::new("kilnbook").record::<Piece>())?;
    /// # drawer.insert(Piece { mark: "K-1".into(), grams: 300 })?;
    /// let mut shown: Vec<String> = Vec::new();
    /// let mut pieces = drawer.records::<Piece>().sort_by(|p| p.grams.ascending()).watch()?;
    /// # for _ in 0..2 {
    /// let update = pieces.next().expect("the drawer is open").expect("the file can be read");
    /// for step in update.steps() {
    ///     match step {
    ///         Step::Removed { at, .. } => drop(shown.remove(at)),
    ///         Step::Added { at, .. } => shown.insert(at, update.result[at].mark.clone()),
    ///         Step::Moved { from, to, .. } => {
    ///             let moved = shown.remove(from);
    ///             shown.insert(to, moved);
    ///         }
    ///         Step::Changed { at, .. } => shown[at] = update.result[at].mark.clone(),
    ///     }
    /// }
    /// # drawer.insert(Piece { mark: "K-2".into(), grams: 200 })?;
    /// # }
    /// # assert_eq!(shown, ["K-2", "K-1"]);
    /// # Ok::<(), velvet_drawer::Error>(())
    /// ```
    pub fn steps(&self) -> Vec<Step> {
        self.result.steps_since(self.before.as_ref().unwrap_or(&List::default()))
    }
}

/// How a result stands.
#[derive(Clone, Debug)]
pub enum State<R> {
    /// It was not read yet.
    Loading,
    /// It is this.
    Loaded(R),
    /// It cannot be read just now. It is tried again until it can.
    Failed {
        /// Why.
        error: Arc<Error>,
        /// What it was before, where it could be read.
        last: Option<R>,
    },
}
