//! Copies of a sealed file that get new keys, are restored and set aside: each opens with the keys of the one keeper, for ever.

use crate::files;
use crate::trial::Trial;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use velvet_drawer::inspect::File;
use velvet_drawer::{Drawer, Error, KeyKeeper, KeyRefusal, Options, Record, Schema, SecretKey};

#[derive(Record)]
struct Client {
    number: u32,
    #[record(sealed)]
    phone: String,
}

/// A keeper that notes when a key is kept over another.
#[derive(Clone, Default)]
struct Keeper(Arc<Mutex<Kept>>);

#[derive(Default)]
struct Kept {
    keys: BTreeMap<String, [u8; 32]>,
    overwritten: Vec<String>,
}

impl KeyKeeper for Keeper {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(kept.keys.get(name).map(|key| SecretKey::from_bytes(*key)))
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = kept.keys.insert(name.to_owned(), *key.expose());
        if before.is_some_and(|before| before != *key.expose()) {
            kept.overwritten.push(name.to_owned());
        }
        Ok(())
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).keys.remove(name);
        Ok(())
    }
}

/// How many records a file has.
const ROWS: u32 = 6;

fn options(keeper: &Keeper) -> Options {
    Drawer::options().keys(keeper.clone())
}

fn schema() -> Schema {
    Schema::new("fire").record::<Client>()
}

fn phone(number: u32) -> String {
    format!("555 0100 {number}")
}

pub(crate) fn run(trial: &mut Trial) {
    while let Some(mut chance) = trial.next() {
        let folder = tempfile::tempdir().expect("a folder for the trial");
        if let Err(what) = round(trial, folder.path(), &mut chance) {
            trial.found(what);
        }
    }
}

/// A file, and those that it is a copy of, all known by numbers.
#[derive(Clone)]
struct Copy {
    path: PathBuf,
    number: u32,
    made_of: Vec<u32>,
}

impl Copy {
    fn of(&self, path: &Path, number: u32) -> Copy {
        let made_of = self.made_of.iter().copied().chain([self.number]).collect();
        Copy { path: path.to_owned(), number, made_of }
    }
}

fn round(trial: &mut Trial, folder: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let keeper = Keeper::default();
    let first = folder.join("fire.drawer");
    let drawer = options(&keeper).open(&first, schema()).map_err(told)?;
    drawer.insert_all((0..ROWS).map(|number| Client { number, phone: phone(number) })).map_err(told)?;
    drawer.close().map_err(told)?;
    let mut all = vec![Copy { path: first, number: 0, made_of: Vec::new() }];
    let mut said = Vec::new();
    // Where the library is not asked, it cannot know of a copy.
    let mut has_strange_copy = false;
    for step in 1..chance.u32(4..16) {
        let at = chance.usize(..all.len());
        let place = all[at].clone();
        let copy = place.of(&folder.join(format!("copy-{step}.drawer")), step);
        let open = || options(&keeper).open(&place.path, schema());
        let what = chance.u8(..7);
        said.push((what, place.number));
        let done = match what {
            0 => open().and_then(|drawer| {
                drawer.copy_to(&copy.path)?;
                all.push(copy);
                drawer.close()
            }),
            1 => File::open(&place.path).and_then(|file| file.copy_to(&copy.path, false)).map(|()| all.push(copy)),
            2 if chance.u8(..3) == 0 => {
                has_strange_copy = true;
                files::copy(&place.path, &copy.path).map_err(told)?;
                all.push(copy);
                Ok(())
            }
            3 if all.len() > 1 => {
                let from = all[(at + chance.usize(1..all.len())) % all.len()].clone();
                Drawer::restore(&place.path, &from.path).map(|aside| {
                    all.extend(aside.map(|path| Copy { path, ..place.clone() }));
                    all[at] = from.of(&place.path, step);
                })
            }
            4 if !has_strange_copy => {
                let forgotten = open().map_err(told)?.forget_old_keys();
                // Older copies of this very file go with its old keys, which is what was asked for.
                all.retain(|copy| !copy.made_of.contains(&place.number) || is_whole(&copy.path, &keeper).is_ok());
                match forgotten {
                    // It says for the sake of which file a key stays.
                    Err(error) if error.is_in_use() => Ok(()),
                    other => other,
                }
            }
            _ => open().and_then(|drawer| {
                drawer.renew_key()?;
                drawer.close()
            }),
        };
        done.map_err(|error| format!("{said:?}: {error}"))?;
        trial.count("steps", 1);
        for copy in &all {
            is_whole(&copy.path, &keeper).map_err(|error| format!("{said:?}: {}: {error}", copy.path.display()))?;
        }
    }
    let overwritten = keeper.0.lock().unwrap_or_else(PoisonError::into_inner).overwritten.clone();
    if overwritten.is_empty() { Ok(()) } else { Err(format!("{said:?}: kept over another: {overwritten:?}")) }
}

fn told(error: impl std::fmt::Display) -> String {
    error.to_string()
}

fn is_whole(place: &Path, keeper: &Keeper) -> Result<(), Error> {
    let drawer = options(keeper).open(place, schema())?;
    let found = drawer.records::<Client>().collect()?;
    drawer.close()?;
    match found.len() == ROWS as usize && found.iter().all(|client| client.phone == phone(client.number)) {
        true => Ok(()),
        false => Err(Error::own("other values are read")),
    }
}
