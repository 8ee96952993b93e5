//! Following what a running app writes.

use super::Limits;
use super::compare::Difference;
use super::file::File;
use super::sessions::Session;
use super::trail::{TrailEntry, TrailOf};
use crate::bookkeeping::trails;
use crate::device::temporary;
use crate::error::{Cause, Error};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// How large a file may be that keeps no trail: it is compared with what it was each time something changes.
const LARGEST: u64 = 64_000_000;

/// Follows what is written to a file, by whatever program.
///
/// Where the app keeps a trail, that says what was written. Where it keeps none, the file is compared with what it was; that takes a copy
/// of it in a temporary folder.
pub struct Following {
    path: PathBuf,
    limits: Limits,
    standing: Vec<Option<(u64, Option<SystemTime>)>>,
    last_entry: i64,
    sessions: Vec<Session>,
    folder: tempfile::TempDir,
    /// The file as it was when it was last looked at, where it keeps no trail.
    before: Option<PathBuf>,
    copies: u64,
}

/// What happened to a file.
#[derive(Debug)]
pub enum Happened<'a> {
    /// A start of the app began, or ended, or went to the background or came back.
    Session(&'a Session),
    /// The trail has a new entry.
    Trail(&'a TrailEntry),
    /// Something differs from what it was.
    Differs(Difference<'a>),
    /// The tables are others than they were.
    Structure(&'a str),
}

impl Following {
    /// Begins to follow the file at `path`: what is written from now on.
    ///
    /// # Errors
    /// As [`File::open`]; and when the file keeps no trail and is too large to be compared each time ([`Error::is_bad_query`]).
    pub fn begin(path: impl AsRef<Path>, limits: &Limits) -> Result<Following, Error> {
        let file = File::open_within(path, limits)?;
        let folder =
            temporary::folder().map_err(|e| Error::device("cannot follow the file", &e).in_file(file.path()))?;
        let mut following = Following {
            path: file.path().to_owned(),
            limits: limits.clone(),
            standing: standing(file.path()),
            last_entry: file.trail(&TrailOf { limit: Some(1), ..TrailOf::default() })?.first().map_or(0, |e| e.number),
            sessions: file.sessions(SESSIONS)?,
            folder,
            before: None,
            copies: 0,
        };
        if !keeps_trail(&file)? {
            following.copy(&file)?;
        }
        Ok(following)
    }

    /// Tells `each` what happened since the last time; says whether anything did.
    ///
    /// # Errors
    /// When the file cannot be read, and what `each` returns.
    pub fn news(&mut self, each: &mut dyn FnMut(Happened<'_>) -> Result<(), Error>) -> Result<bool, Error> {
        let standing = standing(&self.path);
        if standing == self.standing {
            return Ok(false);
        }
        match self.look(each) {
            // The app is opening or closing it, or has set it aside; it is looked at again.
            Err(error) if error.is_locked() || error.is_file_missing() => Ok(false),
            other => {
                let any = other?;
                self.standing = standing;
                Ok(any)
            }
        }
    }

    fn look(&mut self, each: &mut dyn FnMut(Happened<'_>) -> Result<(), Error>) -> Result<bool, Error> {
        let file = File::open_within(&self.path, &self.limits)?;
        let mut any = false;
        let sessions = file.sessions(SESSIONS)?;
        for session in &sessions {
            let was = self.sessions.iter().find(|s| s.number == session.number);
            if was.is_none_or(|was| was.end != session.end || was.background != session.background) {
                any = true;
                each(Happened::Session(session))?;
            }
        }
        self.sessions = sessions;
        any |= if keeps_trail(&file)? { self.of_trail(&file, each)? } else { self.differences(&file, each)? };
        Ok(any)
    }

    fn of_trail(
        &mut self,
        file: &File,
        each: &mut dyn FnMut(Happened<'_>) -> Result<(), Error>,
    ) -> Result<bool, Error> {
        self.before = None;
        let newest = file.trail(&TrailOf { limit: Some(1), ..TrailOf::default() })?.first().map_or(0, |e| e.number);
        let new = u64::try_from(newest - self.last_entry).unwrap_or(0);
        if new == 0 {
            return Ok(false);
        }
        let entries = file.trail(&TrailOf { limit: Some(new), ..TrailOf::default() })?;
        for entry in entries.iter().rev().filter(|e| e.number > self.last_entry) {
            each(Happened::Trail(entry))?;
        }
        self.last_entry = newest;
        Ok(true)
    }

    fn differences(
        &mut self,
        file: &File,
        each: &mut dyn FnMut(Happened<'_>) -> Result<(), Error>,
    ) -> Result<bool, Error> {
        let Some(before) = self.before.clone() else {
            // The trail was switched off.
            self.copy(file)?;
            return Ok(false);
        };
        self.copy(file)?;
        let after = self.before.as_ref().map_or(before.as_path(), PathBuf::as_path);
        let look = |path| File::open_within(path, &self.limits);
        let (old, new) = (look(before.as_path())?, look(after)?);
        let mut any = false;
        let comparison = old.compare(&new, &mut |difference| {
            any = true;
            each(Happened::Differs(difference))
        })?;
        for line in &comparison.structure {
            any = true;
            each(Happened::Structure(line))?;
        }
        drop(old);
        // What is left of it goes with the folder.
        let _ = fs::remove_file(before);
        Ok(any)
    }

    fn copy(&mut self, file: &File) -> Result<(), Error> {
        let bytes = fs::metadata(&self.path).map_or(0, |m| m.len());
        if bytes > LARGEST {
            let what = format!(
                "cannot follow the file: it keeps no trail, and with {} MB it is too large to be compared each time",
                bytes / 1_000_000
            );
            let error = Error::new(Cause::BadQuery, what).untouched("Nothing was read");
            return Err(error.advise("Let the app keep a trail: Options::trail").in_file(&self.path));
        }
        self.copies += 1;
        let copy = self.folder.path().join(format!("{}.drawer", self.copies));
        file.copy_to(&copy, false)?;
        self.before = Some(copy);
        Ok(())
    }
}

/// How many of the last sessions are looked at.
const SESSIONS: u64 = 5;

fn keeps_trail(file: &File) -> Result<bool, Error> {
    file.read("cannot read whether a trail is kept", |c| Ok(!trails::triggers(c)?.is_empty()))
}

fn standing(path: &Path) -> Vec<Option<(u64, Option<SystemTime>)>> {
    let beside = crate::device::companions::with_companions(path);
    beside.map(|p| fs::metadata(p).ok().map(|m| (m.len(), m.modified().ok()))).collect()
}
