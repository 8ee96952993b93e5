//! Looks, restoring and removing next to a drawer in one process: the app can write, and what it wrote is there.

use crate::files;
use crate::model::{self, Model};
use crate::trial::Trial;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use velvet_drawer::inspect::File;
use velvet_drawer::{Drawer, Error};

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    // As a kill leaves it: with its log and shared memory.
    let running = folder.path().join("running.drawer");
    let begun = model::make(&running, 1, 20).expect("made");
    let killed = folder.path().join("killed.drawer");
    let open = Drawer::open(&running, model::schema()).expect("opened");
    let mut after = begun.clone();
    let last = begun.change(1, 20);
    last.write(&open).expect("written");
    after.apply(&last);
    files::copy(&running, &killed).expect("copied");
    open.close().expect("closed");
    let copy = folder.path().join("copy.drawer");
    model::make(&copy, 2, 20).expect("made");
    while let Some(mut chance) = trial.next() {
        let place = folder.path().join(format!("{}.drawer", chance.u32(..)));
        files::copy(&killed, &place).expect("copied");
        let restores = chance.bool();
        if let Err(what) = round(trial, &place, &copy, restores, &after, &mut chance) {
            trial.found(format!("{}: {what}", if restores { "restoring" } else { "looks" }));
        }
        files::remove(&place);
        for name in files::names(folder.path()).iter().filter(|name| name.contains("set-aside")) {
            let _ = std::fs::remove_file(folder.path().join(name));
        }
    }
}

fn round(
    trial: &mut Trial,
    place: &Path,
    copy: &Path,
    restores: bool,
    begun: &Model,
    chance: &mut fastrand::Rng,
) -> Result<(), String> {
    let done = AtomicBool::new(false);
    // A look that begins before the drawer does, and lives as long.
    let held = (!restores && chance.bool()).then(|| File::open(place)).transpose().map_err(|e| e.to_string())?;
    let (opens, seed) = (chance.u64(1..12), chance.u64(..));
    let (written, count) = thread::scope(|scope| {
        let looker = scope.spawn(|| {
            while !done.load(Ordering::Relaxed) {
                let _ = File::open(place).and_then(|file| file.overview());
                if restores {
                    let _ = (Drawer::restore(place, copy), Drawer::remove_from_device(place));
                }
            }
        });
        let written = write(place, seed, opens, restores, begun);
        done.store(true, Ordering::Relaxed);
        looker.join().expect("no look panics");
        (written, opens)
    });
    drop(held);
    trial.count("opens", count);
    let model = written?;
    match model {
        Some(model) if Model::read(place).map_err(|e| e.to_string())? != model => {
            Err("what was written is not there".into())
        }
        _ => Ok(()),
    }
}

/// Opens, writes and closes; returns what must be there, where nobody puts another file in its place.
fn write(place: &Path, seed: u64, opens: u64, restores: bool, begun: &Model) -> Result<Option<Model>, String> {
    let mut model = begun.clone();
    for n in 0..opens {
        let drawer = loop {
            match Drawer::open(place, model::schema()) {
                Ok(drawer) => break drawer,
                Err(error) if restores && (error.is_locked() || error.is_in_use()) => {}
                Err(error) => return Err(format!("opening: {error}")),
            }
        };
        let name = format!("beside {n}");
        let write = || -> Result<bool, Error> {
            drawer.write(|tx| tx.get_or_insert(model::glaze(&name)).map(drop))?;
            if restores {
                return drawer.records::<model::Glaze>().any();
            }
            let change = model.change(seed, n + 100);
            change.write(&drawer)?;
            model.apply(&change);
            model.glazes.insert(name.clone());
            Ok(true)
        };
        let mut write = write;
        match write() {
            Ok(true) => {}
            Ok(false) => return Err("what was written cannot be read".into()),
            Err(error) => return Err(format!("writing: {error}")),
        }
        drawer.close().map_err(|error| format!("closing: {error}"))?;
    }
    Ok((!restores).then_some(model))
}
