//! One file for each command.

pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod demo;
pub(crate) mod overview;
pub(crate) mod records;
pub(crate) mod rehearse;
pub(crate) mod structure;

use crate::failure::Failure;
use std::path::{Path, PathBuf};
use velvet_drawer::inspect::drawers_in;

/// The file that is meant: the path itself, or the only drawer in it when it is a folder.
fn one_file(path: &Path) -> Result<PathBuf, Failure> {
    if !path.is_dir() {
        return Ok(path.to_owned());
    }
    let mut drawers: Vec<PathBuf> = drawers_in(path)?.into_iter().filter(|f| f.is_drawer).map(|f| f.path).collect();
    match drawers.len() {
        0 => Err(no_drawer(path)),
        1 => Ok(drawers.remove(0)),
        several => {
            let list: Vec<String> = drawers.iter().map(|d| format!("\n  {}", d.display())).collect();
            Err(Failure::new(format!(
                "{} has {several} drawers; name the one you mean:{}",
                path.display(),
                list.concat()
            )))
        }
    }
}

/// The text of a history file.
fn history(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path)
        .map_err(|e| Failure::new(format!("the history {} cannot be read: {e}", path.display())))
}

fn no_drawer(folder: &Path) -> Failure {
    Failure::new(format!("no drawer in {} or the folders below it. Check the path, or name a file", folder.display()))
}
