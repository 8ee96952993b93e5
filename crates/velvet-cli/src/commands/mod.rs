//! One file for each command.

pub(crate) mod attachment;
pub(crate) mod check;
pub(crate) mod compact;
pub(crate) mod compare;
pub(crate) mod completions;
pub(crate) mod copy;
pub(crate) mod demo;
pub(crate) mod export;
pub(crate) mod follow;
mod former;
pub(crate) mod import;
pub(crate) mod one;
pub(crate) mod overview;
pub(crate) mod query;
pub(crate) mod records;
pub(crate) mod rehearse;
pub(crate) mod salvage;
pub(crate) mod search;
pub(crate) mod sessions;
pub(crate) mod structure;
pub(crate) mod trail;

use crate::args::Reader;
pub(crate) use crate::clean::named;
use crate::failure::Failure;
use crate::keys;
use crate::limits::limits;
use crate::locked;
use crate::terminal;
use crate::terminal::QUIET;
use serde::Serialize;
use std::io::{self, Write};
use std::ops::Deref;
use std::path::{Path, PathBuf};
use velvet_core::exchange::show::count;
use velvet_drawer::inspect::{File, Incomplete, drawers_in};

/// The file that is meant: the path itself, or the only drawer in it when it is a folder.
fn one_file(path: &Path) -> Result<PathBuf, Failure> {
    keys::unlock(path)?;
    if !path.is_dir() {
        return Ok(path.to_owned());
    }
    let mut drawers: Vec<PathBuf> = drawers_in(path)?.into_iter().filter(|f| f.is_drawer).map(|f| f.path).collect();
    match drawers.len() {
        0 => Err(no_drawer(path)),
        1 => Ok(drawers.remove(0)),
        several => {
            let list: Vec<String> = drawers.iter().map(|d| format!("\n  {}", named(d))).collect();
            Err(Failure::new(format!("{} has {several} drawers; name the one you mean:{}", named(path), list.concat())))
        }
    }
}

/// A file that was opened, and why it may not show all that was stored.
struct Opened {
    file: File,
    reasons: Vec<Incomplete>,
}

impl Deref for Opened {
    type Target = File;

    fn deref(&self) -> &File {
        &self.file
    }
}

impl Opened {
    /// What a reader should know of what was shown: why that may not be all, and what could not be read.
    fn notes(&self) -> Vec<String> {
        self.reasons.iter().map(|reason| reason.what.clone()).chain(self.left_out()).collect()
    }

    /// Writes a report as JSON, with the notes.
    fn report(&self, what: impl Serialize) -> io::Result<()> {
        #[derive(Serialize)]
        struct Report<T> {
            #[serde(flatten)]
            what: T,
            notes: Vec<String>,
        }
        terminal::json(&Report { what, notes: self.notes() })
    }
}

/// Opens the file that is meant. Where it does not show what was stored, that is said before anything of it is: with what comes out for
/// people, beside what comes out for programs.
fn opened(path: &Path, reader: Reader) -> Result<Opened, Failure> {
    let path = one_file(path)?;
    let file = File::open_within(&path, limits()).map_err(|error| locked::failure(&path, error))?;
    let reasons = file.incomplete()?;
    for Incomplete { what, .. } in &reasons {
        if reader == Reader::Person {
            writeln!(terminal::out(), "{}\n", terminal::note(what))?;
        } else {
            writeln!(terminal::err(), "{}", terminal::note(what))?;
        }
    }
    Ok(Opened { file, reasons })
}

/// Says what could not be shown: to people where the rest is shown, or beside what comes out for programs.
fn say_left_out(file: &File, reader: Reader) -> io::Result<()> {
    for (at, sentence) in file.left_out().iter().enumerate() {
        if reader == Reader::Person {
            let gap = if at == 0 { "\n" } else { "" };
            writeln!(terminal::out(), "{gap}{}", terminal::note(sentence))?;
        } else {
            writeln!(terminal::err(), "{}", terminal::note(sentence))?;
        }
    }
    Ok(())
}

/// Says how many there are of a thing, and how many of them are shown.
fn say_how_many(shown: usize, which: &str, all: Option<usize>, thing: &str) -> io::Result<()> {
    let line = match all {
        Some(all) if all == shown => count(all, thing),
        Some(all) => format!("the {which} {shown} of {}; --limit shows more", count(all, thing)),
        None => format!("the {which} {}; there are more, and --limit shows them", count(shown, thing)),
    };
    writeln!(terminal::out(), "\n{QUIET}{line}{QUIET:#}")
}

/// A number of bytes as people say it.
fn size(bytes: u64) -> String {
    let mut size = bytes as f64;
    for unit in ["B", "KB", "MB", "GB"] {
        if size < 1000.0 {
            return if unit == "B" || size >= 100.0 {
                format!("{size:.0} {unit}")
            } else {
                format!("{size:.1} {unit}")
            };
        }
        size /= 1000.0;
    }
    format!("{size:.1} TB")
}

/// The text of a history file.
fn history(path: &Path) -> Result<String, Failure> {
    std::fs::read_to_string(path).map_err(|e| Failure::new(format!("the history {} cannot be read: {e}", named(path))))
}

fn no_drawer(folder: &Path) -> Failure {
    Failure::new(format!("no drawer in {} or the folders below it. Check the path, or name a file", named(folder)))
}
