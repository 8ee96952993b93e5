//! Files that are deleted, moved, replaced or overwritten while they are open.

use crate::files;
use crate::model::{self, Model};
use crate::trial::Trial;
use std::fs;
use std::path::Path;
use velvet_drawer::Drawer;

pub(crate) fn run(trial: &mut Trial) {
    let root = tempfile::tempdir().expect("a folder for the trial");
    while let Some(mut chance) = trial.next() {
        if let Err(what) = round(root.path(), &mut chance) {
            trial.found(what);
        }
    }
}

/// What becomes of a file.
#[derive(Clone, Copy, Debug)]
enum How {
    Deleted,
    Moved,
    Replaced,
    Overwritten,
}

fn round(root: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let folder = root.join("displaced");
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
    let path = folder.join("fire.drawer");
    let seed = chance.u64(..);
    // It is larger than the file that is open ever was; one with the same header could not be told from it.
    let restored = model::make(&folder.join("restored"), seed + 1, chance.u64(150..200)).map_err(|e| e.to_string())?;
    let drawer = Drawer::open(&path, model::schema()).map_err(|e| e.to_string())?;
    let mut model = Model::default();
    let write = |model: &mut Model, from: u64, count: u64| {
        (from..from + count).try_for_each(|n| {
            let change = model.change(seed, n);
            change.write(&drawer).map(|()| model.apply(&change))
        })
    };
    let before = chance.u64(2..30);
    write(&mut model, 0, before).map_err(|e| format!("before: {e}"))?;
    if chance.bool() {
        // Whether anything is merged into the file is left to chance.
        let other = rusqlite::Connection::open(&path).map_err(|e| e.to_string())?;
        other.execute_batch("PRAGMA wal_checkpoint(PASSIVE)").map_err(|e| e.to_string())?;
        // An overwrite right after the engine began the log again is noticed by its header's count only.
        let more = chance.choice([0, 2, 5]).unwrap_or(0);
        write(&mut model, before, more).map_err(|e| format!("after a checkpoint: {e}"))?;
    }
    let how = chance.choice([How::Deleted, How::Moved, How::Replaced, How::Overwritten]).unwrap_or(How::Deleted);
    let other = folder.join("restored");
    let there = fs::read(&other).map_err(|e| e.to_string())?;
    match how {
        How::Deleted => fs::remove_file(&path),
        How::Moved => fs::rename(&path, folder.join("moved")),
        How::Replaced => fs::rename(&other, &path),
        How::Overwritten => fs::write(&path, &there),
    }
    .map_err(|e| e.to_string())?;
    if chance.bool() {
        match write(&mut model, before, 1) {
            Err(error) if error.is_displaced() => {}
            other => return Err(format!("a write after it was {how:?}: {other:?}")),
        }
    }
    match chance.bool() {
        true => match drawer.close() {
            Err(error) if error.is_displaced() => {}
            other => return Err(format!("closing after it was {how:?}: {other:?}")),
        },
        false => drop(drawer),
    }
    if matches!(how, How::Overwritten) {
        if fs::read(&path).map_err(|e| e.to_string())? != there {
            return Err("what was written over it was changed".into());
        }
        let opened = Drawer::options().set_aside_foreign_log().open(&path, model::schema());
        opened.and_then(Drawer::close).map_err(|e| format!("cannot open the file that overwrote it: {e}"))?;
        return match Model::read(&path).map_err(|e| e.to_string())? == restored {
            true => Ok(()),
            false => Err("what was written over it is not there".into()),
        };
    }
    let aside = files::names(&folder).into_iter().filter(|name| name.starts_with("fire.set-aside")).collect::<Vec<_>>();
    let [kept] = &aside[..] else { return Err(format!("kept: {aside:?}")) };
    if Model::read(&folder.join(kept)).map_err(|e| e.to_string())? != model {
        return Err("what was kept is not what was written".into());
    }
    if matches!(how, How::Replaced) {
        Drawer::open(&path, model::schema()).and_then(Drawer::close).map_err(|e| e.to_string())?;
        if Model::read(&path).map_err(|e| e.to_string())? != restored {
            return Err("what was put there is not there".into());
        }
    } else if files::names(&folder).iter().any(|name| name.starts_with("fire.drawer")) {
        return Err("something was created where the file was".into());
    }
    Ok(())
}
