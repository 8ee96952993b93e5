//! What changed since a position, to be sent to other devices, and what comes from them.

mod apply;
mod line;
mod since;

pub use apply::{Applied, Apply};
pub use since::{Changed, ChangesSince, Position};
