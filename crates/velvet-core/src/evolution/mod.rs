//! How a structure grows: changes as data and in words, the history of an app's versions, and what an upgrade does.

mod change;
mod draft;
mod history;
mod plan;

pub use change::Change;
pub use draft::{Draft, Hint, Hints, Origin, draft};
pub use history::{Head, History, HistoryProblem, Version};
pub use plan::{Operation, Rebuild, Step, plan};
