//! A write-ahead log that may hold acknowledged writes and is not part of the file: the app has to answer for it, and can bring it back.

use super::kept::{LogWithoutFile, logs_without_file};
use super::restore::placed;
use super::{path, recognise, registry};
use crate::device::companions::{self, with_companions};
use crate::device::unfinished::Unfinished;
use crate::engine::{Fault, FaultKind, Opener, alone_with_log, transactions_in};
use crate::error::{Cause, Doing, Error};
use crate::file::new_file;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use velvet_core::exchange::show::count;

const SETTING_ASIDE: &str = "cannot set aside the write-ahead log, which belongs to a different version of the file";

const BRINGING_BACK: &str = "cannot bring back the write-ahead log";

/// The logs that were set aside with transactions that the file may lack, and that nobody has answered for, each with what it is as part of a sentence.
pub(crate) fn unanswered(path: &Path) -> impl Iterator<Item = (LogWithoutFile, String)> {
    logs_without_file(path).into_iter().filter_map(|found| {
        let transactions = usize::try_from(transactions_in(&found.log).unwrap_or_default()).unwrap_or(usize::MAX);
        let what = format!(
            "the write-ahead log {} was set aside with {} that the file may lack",
            found.log.display(),
            count(transactions, "transaction")
        );
        (transactions > 0).then_some((found, what))
    })
}

/// Refuses to open a file while a log that was set aside holds transactions and nobody has answered for it; or takes the answer.
pub(super) fn answered(path: &Path, may_stay: bool) -> Result<(), Error> {
    for (LogWithoutFile { log, place }, what) in unanswered(path) {
        if may_stay {
            fs::rename(&log, companions::log_of(&place))
                .and_then(|()| companions::keep_names(path))
                .map_err(|error| Error::device(SETTING_ASIDE, &error).untouched(recognise::UNTOUCHED).in_file(path))?;
            continue;
        }
        return Err(Error::new(Cause::ForeignLog, format!("cannot open the drawer: {what}"))
            .untouched("The file and the log were left untouched")
            .advise(
                "Bring the log back with Drawer::bring_back_log; or open once with Options::set_aside_foreign_log, which keeps it and goes on without it",
            )
            .in_file(path));
    }
    Ok(())
}

/// Moves the log next to the file out of its way, with a complete copy of the file. Returns the new path; `None` if another process was faster.
pub(super) fn set_aside(path: &Path) -> Result<Option<PathBuf>, Error> {
    let Some(log) = with_companions(path).nth(1) else { return Ok(None) };
    let place = companions::set_aside(path);
    let to = companions::log_of(&place);
    let moved = || {
        fs::rename(&log, &to)?;
        // The engine would look for the log's contents there.
        let _ = with_companions(path).nth(2).map(fs::remove_file);
        companions::keep_names(path)
    };
    let device = |error| Error::device(SETTING_ASIDE, &error);
    let result = if path.exists() {
        let with_copy = |file: &mut fs::File, is_foreign: bool| {
            if !is_foreign {
                return Ok(false);
            }
            // The copy is whole before the log loses its name, so that a kill leaves the log where it is judged again.
            let unfinished = Unfinished::of(path)?;
            let mut copy = fs::File::create(unfinished.path())?;
            io::copy(file, &mut copy)?;
            copy.sync_all()?;
            new_file::placed(unfinished.path(), &place)?;
            moved().map(|()| true)
        };
        alone_with_log(path, &log, with_copy).map(Option::unwrap_or_default).map_err(Error::from)
    } else {
        moved().map(|()| true).map_err(device)
    };
    let is_moved = result.doing(|| SETTING_ASIDE).map_err(|e| e.or_untouched("Nothing was deleted").in_file(path))?;
    Ok(is_moved.then_some(to))
}

/// Replays a log over the file, both as copies first, and puts the result in the file's place.
pub(crate) fn bring_back(path: &Path, log: &Path) -> Result<Option<PathBuf>, Error> {
    let path = path::prepared(path)?;
    registry::alone(&path, BRINGING_BACK, || brought_back(&path, log))
}

fn brought_back(path: &Path, log: &Path) -> Result<Option<PathBuf>, Error> {
    let named = |error: Error| error.or_untouched("The file and the log were left as they were").in_file(path);
    let refuse = |cause, why: &str, advice: &str| {
        Err(named(Error::new(cause, format!("{BRINGING_BACK} {}: {why}", log.display())).advise(advice)))
    };
    match transactions_in(log) {
        Err(error) => return Err(named(Error::device(&format!("{BRINGING_BACK} {}", log.display()), &error))),
        Ok(0) => {
            return refuse(
                Cause::FileMissing,
                "it holds no transaction",
                "Check its path; Drawer::kept_copies lists the logs",
            );
        }
        Ok(_) => {}
    }
    if !path.exists() {
        let advice = "Put back the file that the log belongs to, for example with Drawer::restore";
        return refuse(Cause::FileMissing, "the file does not exist, and a log alone is not a drawer", advice);
    }
    let unfinished = Unfinished::of(path).map_err(|error| named(Error::device(BRINGING_BACK, &error)))?;
    let replayed = replayed(path, log, unfinished.path()).doing(|| format!("{BRINGING_BACK} {}", log.display()));
    replayed.map_err(named)?;
    let kept = placed(unfinished.path(), path)?;
    // It is in the file now. Where it keeps its name, the next open asks again, and loses nothing.
    let _ = answered(path, true);
    Ok(kept)
}

/// Makes of copies of the file and the log what the engine would make of them.
fn replayed(path: &Path, log: &Path, to: &Path) -> Result<(), Error> {
    let own = with_companions(path).nth(1).filter(|own| transactions_in(own).is_ok_and(|n| n > 0));
    if own.is_some() {
        let problem = "the file has a log of its own, which is not merged";
        return Err(Error::bare(Cause::InUse, problem).advise("Open the drawer and close it, which merges its log"));
    }
    let copied = alone_with_log(path, log, |file, is_foreign| {
        if !is_foreign {
            io::copy(file, &mut fs::File::create(to)?)?;
            with_companions(to).nth(1).map_or(Ok(0), |beside| fs::copy(log, beside))?;
        }
        Ok(is_foreign)
    });
    match copied? {
        None => return Err(Fault { kind: FaultKind::Locked, message: "another process has it open".into() }.into()),
        Some(true) => {
            let problem = "it belongs to a different version of the file; replaying it would corrupt the file";
            let advice = "Restore the copy that was kept with it, with Drawer::restore, and bring it back then";
            return Err(Error::bare(Cause::ForeignLog, problem).advise(advice));
        }
        Some(false) => {}
    }
    let made = Opener::new(to).writer()?;
    made.leave_wal()?;
    if !made.is_sound()? {
        return Err(Error::bare(Cause::Damaged, "the file would be damaged by it"));
    }
    made.close()?;
    fs::File::open(to).and_then(|file| file.sync_all()).map_err(|error| Error::device(BRINGING_BACK, &error))
}
