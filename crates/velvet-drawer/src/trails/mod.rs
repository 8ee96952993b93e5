//! Trails: what was written to each record, when, by which session and write, and what stood there before.

mod keeping;
mod wanted;

pub(crate) use keeping::Keeping;
pub(crate) use wanted::{WantedTrails, hide, hide_of_removed, triggers};
