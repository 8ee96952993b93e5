//! What an app calls in its own tests, so that what passes them opens on the user's phone.
//!
//! ```no_run
//! # use velvet_drawer::{Record, Schema};
//! # #[derive(Record)] struct Glaze { name: String }
//! # fn schema() -> Schema { Schema::new("kilnbook").record::<Glaze>() }
//! use velvet_drawer::testing;
//!
//! #[test]
//! fn the_schema_is_recorded() {
//!     testing::history_is_current(&schema(), "kilnbook.history.json");
//! }
//!
//! #[test]
//! fn files_of_every_version_open() {
//!     testing::every_version_upgrades(&schema());
//! }
//! ```

mod history;
mod sample_rows;
mod shipped;
mod statements;
mod upgrades;

pub use history::history_is_current;
pub use shipped::shipped_file_fits;
pub use statements::{Statements, statements_are_valid};
pub use upgrades::{Upgrades, every_version_upgrades};
