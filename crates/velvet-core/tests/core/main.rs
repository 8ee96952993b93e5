//! The tests of the core, in one executable: each file is a module of it.

mod b_tree;
mod common;
mod evolution;
mod exchange;
mod lists;
mod sealing;
mod shown;
mod stored_forms;
mod structure;
