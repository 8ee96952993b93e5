//! The tests of the command, in one executable: each file is a module of it.

mod command;
mod common;
#[cfg(feature = "encryption")]
mod encrypted;
mod forms;
mod guide;
mod hostile;
mod terminal;
mod whole_files;
