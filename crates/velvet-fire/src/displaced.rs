//! Files that are deleted, moved or replaced while they are open.

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

fn round(root: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let folder = root.join("displaced");
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
    let path = folder.join("fire.drawer");
    let seed = chance.u64(..);
    let restored = model::make(&folder.join("restored"), seed + 1, chance.u64(1..20)).map_err(|e| e.to_string())?;
    let drawer = Drawer::open(&path, model::schema()).map_err(|e| e.to_string())?;
    let mut model = Model::default();
    let write = |model: &mut Model, from: u64, count: u64| {
        (from..from + count).try_for_each(|n| {
            let change = model.change(seed, n);
            change.write(&drawer).map(|()| model.apply(&change))
        })
    };
    let before = chance.u64(1..30);
    write(&mut model, 0, before).map_err(|e| format!("before: {e}"))?;
    let (deletes, moves) = (chance.u32(..3) == 0, chance.bool());
    match (deletes, moves) {
        (true, _) => fs::remove_file(&path),
        (_, true) => fs::rename(&path, folder.join("moved")),
        (_, false) => fs::rename(folder.join("restored"), &path),
    }
    .map_err(|e| e.to_string())?;
    let is_replaced = !deletes && !moves;
    if chance.bool() {
        match write(&mut model, before, 1) {
            Err(error) if error.is_displaced() => {}
            other => return Err(format!("a write after it: {other:?}")),
        }
    }
    match chance.bool() {
        true => match drawer.close() {
            Err(error) if error.is_displaced() => {}
            other => return Err(format!("closing: {other:?}")),
        },
        false => drop(drawer),
    }
    let aside = files::names(&folder).into_iter().filter(|name| name.starts_with("fire.set-aside")).collect::<Vec<_>>();
    let [kept] = &aside[..] else { return Err(format!("kept: {aside:?}")) };
    if Model::read(&folder.join(kept)).map_err(|e| e.to_string())? != model {
        return Err("what was kept is not what was written".into());
    }
    if is_replaced {
        Drawer::open(&path, model::schema()).and_then(Drawer::close).map_err(|e| e.to_string())?;
        if Model::read(&path).map_err(|e| e.to_string())? != restored {
            return Err("what was put there is not there".into());
        }
    } else if files::names(&folder).iter().any(|name| name.starts_with("fire.drawer")) {
        return Err("something was created where the file was".into());
    }
    Ok(())
}
