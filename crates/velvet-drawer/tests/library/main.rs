//! The tests of the library, in one executable: each file is a module of it.
//!
//! What needs a process of its own starts this executable once more, for one test by its whole name.

mod attachments;
mod changes;
mod checking;
mod column_types;
mod common;
mod comparing;
mod conditions;
mod copying;
mod displaced;
mod edits;
#[cfg(feature = "encryption")]
mod encrypted;
#[cfg(feature = "tracing")]
mod events;
mod exchanging;
mod first_starts;
mod generated_upgrades;
#[cfg(feature = "table")]
mod grids;
mod ignoring_case;
mod inspecting;
mod later;
mod layers;
mod links;
mod live;
mod moments;
mod named_values;
mod open_format;
mod opening;
mod pages;
mod processes;
mod recording;
mod refreshing;
mod resting;
mod salvaging;
mod sealed;
mod sealed_settings;
mod searching;
mod selections;
mod sessions;
mod settings;
mod sql;
#[cfg(target_os = "linux")]
mod temporary_files;
mod trails;
mod transactions;
mod unreadable;
mod upgrading;
mod writing;
