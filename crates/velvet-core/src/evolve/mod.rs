//! How a structure grows: changes as data and in words, the history of an app's versions, and what an upgrade does.

pub mod attendant;
mod draft;
mod history;
mod plan;
mod step;
mod used;

pub use attendant::create;
pub use draft::{Draft, draft};
pub use history::{History, HistoryHead, HistoryProblem, Version};
pub use plan::{Operation, Rebuild, VersionPlan, plan};
pub use step::{Step, StepProblem};
