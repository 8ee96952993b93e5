//! The demo app of Velvet Drawer: the kiln log of a pottery studio, and a tour of several starts of it on a pretend
//! phone. Everything in it is made up, and the same on every run.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod app;
pub mod kilnbook;
pub mod samples;
pub mod supplier;
mod tour;

pub use app::run;
pub use tour::{Toured, tour};
