//! Looking into a file, read-only and without types: what an app really kept.
//!
//! Works on any database in the same open format, also one that no app of ours made, and leaves no trace on the file or
//! beside it.
//!
//! ```
//! use velvet_drawer::inspect::{File, Page};
//! # use velvet_drawer::{Drawer, Record, Schema};
//! # #[derive(Record)] struct Glaze { name: String }
//! # let folder = tempfile::tempdir().unwrap();
//! # let path = folder.path().join("kiln.drawer");
//! # let drawer = Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>())?;
//! # drawer.insert(Glaze { name: "Celadon".into() })?;
//! let file = File::open(&path)?;
//! let glazes = file.table("glaze")?;
//! let mut names = Vec::new();
//! file.rows(&glazes, &Page { columns: vec!["name".into()], ..Page::default() }, &mut |row| {
//!     names.push(row[0].to_value());
//!     Ok(())
//! })?;
//! assert_eq!(names.len(), 1);
//! # Ok::<(), velvet_drawer::Error>(())
//! ```

mod as_one;
mod attachment;
mod cell;
mod check;
mod compare;
mod complete;
mod copy;
mod draft;
mod export;
mod file;
mod folder;
mod follow;
mod former;
mod forms;
mod import;
mod limits;
mod one;
mod overview;
mod query;
mod rehearse;
mod rows;
mod salvage;
mod search;
mod seems_encrypted;
mod sessions;
mod structure;
mod trail;
mod words;

pub use crate::records::compact_file as compact;
pub use attachment::FoundAttachment;
pub use cell::{Cell, ChangedCell};
pub use check::{Checked, Problem, ProblemKind};
pub use compare::{Comparison, Did, Difference, TableComparison};
pub use complete::Incomplete;
pub use export::Exchange;
pub use file::{File, FoundColumn, FoundTable};
pub use folder::{FoundFile, drawers_in, encrypted_in};
pub use follow::{Following, Happened};
pub use former::Former;
pub use import::{import, import_sql};
pub use limits::Limits;
pub use one::{Dependants, LinkedRow, OneRow};
pub use overview::{Overview, TableOverview, VersionOverview};
pub use rehearse::Rehearsal;
pub use rows::Page;
pub use salvage::{Salvaged, SalvagedTable, salvage};
pub use search::FoundRow;
pub use seems_encrypted::{SeemsEncrypted, seems_encrypted};
pub use sessions::{Session, SessionEnd, TableWrites};
pub use structure::{Against, ColumnStructure, IndexStructure, LinkStructure, TableStructure};
pub use trail::{Gap, Told, TrailByRecord, TrailEntry, TrailOf, WrittenColumn};
pub use velvet_core::schema::structure::{Holds, Kind};
pub use velvet_core::{Value, ValueRef};
