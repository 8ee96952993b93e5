//! What the studio keeps, in the three versions of its app that were released. Each has the history as it was checked in
//! then; an app has only its newest.

pub mod version_1;
pub mod version_2;
pub mod version_3;
