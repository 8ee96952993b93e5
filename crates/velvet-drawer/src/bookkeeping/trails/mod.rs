//! Trails: what was written to each record, when, by which session and write, and what stood there before.

mod keeping;
mod spans;
mod wanted;

pub(crate) use keeping::Keeping;
pub(crate) use spans::begin_again;
pub(crate) use wanted::{WantedTrails, hide, hide_of_removed, triggers};
