//! The records that the tests of this crate share.
#![allow(dead_code, unreachable_pub)]

pub mod everything;
pub mod secret;
pub mod store;
pub mod versions;

use std::path::PathBuf;
use velvet_drawer::{Choice, Drawer, Key, Progress, Record, Schema};

#[derive(Choice, Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Stage {
    Thrown,
    Bisque,
    Glazed,
    #[choice(fallback)]
    Unsure,
}

#[derive(Record, Clone, Debug, PartialEq, Eq, Hash)]
pub struct Glaze {
    #[record(own_key)]
    pub name: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
pub struct Piece {
    #[record(own_key)]
    pub mark: String,
    #[record(indexed)]
    pub stage: Stage,
    pub grams: Option<u32>,
    #[record(link(on_delete = clear))]
    pub glaze: Option<Key<Glaze>>,
    pub remarks: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(unique(piece, side))]
pub struct Photo {
    #[record(link(on_delete = remove))]
    pub piece: Key<Piece>,
    pub side: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
pub struct Recipe {
    pub glaze: Key<Glaze>,
    #[record(unique)]
    pub text: String,
}

pub fn schema() -> Schema {
    Schema::new("kilnbook").record::<Piece>().record::<Glaze>().record::<Photo>().record::<Recipe>()
}

pub fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

/// A folder of its own, and the path of a drawer in it that is not there yet.
pub fn folder() -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = std::fs::canonicalize(folder.path()).unwrap().join("kiln.drawer");
    (folder, path)
}

pub fn piece(mark: &str) -> Piece {
    Piece { mark: mark.into(), stage: Stage::Thrown, grams: Some(640), glaze: None, remarks: String::new() }
}

pub fn glaze(name: &str) -> Glaze {
    Glaze { name: name.into() }
}

/// A second connection to the file, by the engine itself, as another program would have.
pub fn other_program(path: &std::path::Path) -> rusqlite::Connection {
    let program = rusqlite::Connection::open(path).unwrap();
    #[cfg(feature = "encryption")]
    if let Some(key) = velvet_drawer::__private::key_for_engine(path) {
        program.execute_batch(&format!("PRAGMA key = \"{key}\"")).unwrap();
    }
    program
}

/// With this in the environment, every test runs with files that are encrypted.
pub const WITH_KEYS: &str = "VELVET_TEST_WITH_KEYS";

#[cfg(feature = "encryption")]
#[ctor::ctor(unsafe)]
fn encrypt_always() {
    if std::env::var_os(WITH_KEYS).is_some() {
        velvet_drawer::__private::encrypt_always([0x5a; 32]);
    }
}

/// Whether this process runs the test with this name alone. Otherwise it runs such a process, and sees that the test passes there: one that forks, or sets what
/// holds for the whole process, would meet the others.
pub fn is_alone(test: &str) -> bool {
    const ALONE: &str = "VELVET_TEST_ALONE";
    if std::env::var(ALONE).is_ok_and(|alone| alone == test) {
        return true;
    }
    let mut command = std::process::Command::new(std::env::current_exe().unwrap());
    let run = command.args(["--exact", test, "--nocapture"]).env(ALONE, test).output().unwrap();
    let said = String::from_utf8_lossy(&run.stdout) + String::from_utf8_lossy(&run.stderr);
    assert!(run.status.success() && said.contains("1 passed"), "{said}");
    false
}

/// What `work` returns, and how much was done when it last told its progress.
pub fn with_last_progress<R>(work: impl FnOnce() -> R) -> (R, u64) {
    let told = std::rc::Rc::new(std::cell::Cell::new(0));
    let last = std::rc::Rc::clone(&told);
    (Progress::told(move |now| last.set(now.done), work), told.get())
}
