//! Files that are being made: under names of their own until they are finished, and cleared away where what made them was killed.

use crate::device::companions::{self, clear_away};
use crate::device::running;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process;
use std::time::{Duration, SystemTime};

/// What stands in the name of every such file, before the number of the process that makes it.
pub(crate) const WORD: &str = "velvet-unfinished";

/// How long a file must have been left alone, beside other files than the one that is made now.
const LEFT_ALONE: Duration = Duration::from_secs(60);

/// How long it must have been left alone where the system does not tell whether a process is running.
const LONG: Duration = Duration::from_secs(24 * 60 * 60);

/// A file that is being made, in the folder of the one that it will be. What is left of it is cleared away when this is dropped.
pub(crate) struct Unfinished(PathBuf);

impl Unfinished {
    /// Takes a name for what will be the file at `path`, and clears away what was left behind in its folder.
    pub(crate) fn of(path: &Path) -> io::Result<Unfinished> {
        clear_left_behind(path);
        let word = format!("{WORD}-{}", process::id());
        for number in 1.. {
            let place = companions::named(path, &word, number);
            match fs::File::options().write(true).create_new(true).open(&place) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                result => return result.map(|_| Unfinished(place)),
            }
        }
        Err(io::Error::other("every name for the new file is taken"))
    }

    pub(crate) fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        clear_away(&self.0);
    }
}

/// Clears away what processes that were killed had not finished, in the folder of `path`.
pub(crate) fn clear_left_behind(path: &Path) {
    let Some(Ok(entries)) = path.parent().map(fs::read_dir) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(process) = made_by(&name) else { continue };
        let idle =
            entry.metadata().and_then(|m| m.modified()).ok().and_then(|at| SystemTime::now().duration_since(at).ok());
        let is_for_this =
            path.file_stem().is_some_and(|stem| name.starts_with(&format!("{}.{WORD}", stem.to_string_lossy())));
        let must_be_idle = match running::is_running(process) {
            Some(true) => LONG,
            Some(false) if is_for_this => Duration::ZERO,
            Some(false) => LEFT_ALONE,
            None => LONG,
        };
        if must_be_idle.is_zero() || idle.is_some_and(|idle| idle >= must_be_idle) {
            clear_away(&entry.path());
        }
    }
}

/// The process that made a file of this name; nothing where it is another file.
fn made_by(name: &str) -> Option<i64> {
    let (_, rest) = name.split_once(&format!(".{WORD}-"))?;
    let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
    let (process, rest) = rest.split_at(digits);
    let number = rest.strip_prefix('-').map_or(rest, |rest| rest.trim_start_matches(|c: char| c.is_ascii_digit()));
    let is_end = number.is_empty() || number.starts_with('.');
    process.parse().ok().filter(|_| is_end && !companions::COMPANIONS.iter().any(|end| name.ends_with(end)))
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "what fails here fails a test")]
mod tests {
    use super::*;

    #[test]
    fn only_what_nobody_makes_any_more_is_cleared_away() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("kiln.drawer");
        let old = SystemTime::now() - Duration::from_secs(61);
        let put = |name: &str, at: SystemTime| {
            let file = fs::File::create(folder.path().join(name)).unwrap();
            file.set_modified(at).unwrap();
        };
        let me = process::id();
        // No process has so high a number.
        for name in ["kiln.velvet-unfinished-99999999.drawer", "kiln.velvet-unfinished-99999999-2.drawer"] {
            put(name, SystemTime::now());
            put(&format!("{name}-journal"), SystemTime::now());
        }
        put("other.velvet-unfinished-99999999", old);
        let stays = [
            format!("kiln.velvet-unfinished-{me}.drawer"),
            "kiln.velvet-unfinished-99999999-x.drawer".to_owned(),
            "kiln.velvet-unfinished-.drawer".to_owned(),
            "kiln.unfinished-99999999.drawer".to_owned(),
            "other.velvet-unfinished-99999999-7.drawer".to_owned(),
        ];
        stays.iter().for_each(|name| put(name, SystemTime::now()));
        let unfinished = Unfinished::of(&path).unwrap();
        assert_eq!(unfinished.path(), folder.path().join(format!("kiln.velvet-unfinished-{me}-2.drawer")));
        drop(unfinished);
        let found = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap());
        let mut found: Vec<String> = found.collect();
        let mut stays = stays.to_vec();
        // Where the system does not tell, all of them are too new.
        if cfg!(target_os = "linux") {
            found.sort();
            stays.sort();
            assert_eq!(found, stays);
        }
    }
}
