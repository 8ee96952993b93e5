//! Rows that are replaced and renumbered by plain SQL, of the app and of another program, next to typed writes and searches.

use crate::trial::Trial;
use rusqlite::{Connection, named_params};
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::File;
use velvet_drawer::{Drawer, Error, Record, Schema, Trail};

#[derive(Record, Clone, Debug)]
struct Glaze {
    #[record(own_key)]
    name: String,
    #[record(searchable)]
    notes: String,
    #[record(unique)]
    cone: Option<i64>,
}

const WORDS: [&str; 5] = ["pools", "breaks", "crackles", "crazes", "blue"];

fn open(path: &Path) -> Result<Drawer, Error> {
    let options = Drawer::options().trail(Trail::Before).relaxed().lock_timeout(Duration::from_secs(60));
    options.open(path, Schema::new("fire").record::<Glaze>())
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let path = folder.path().join("fire.drawer");
    while let Some(mut chance) = trial.next() {
        crate::files::remove(&path);
        let held = if chance.u8(..4) > 0 { in_turns(trial, &path, &mut chance) } else { at_once(&path, &mut chance) };
        if let Err(what) = held {
            trial.found(what);
        }
    }
}

fn told(error: impl std::fmt::Display) -> String {
    error.to_string()
}

struct Write {
    text: &'static str,
    a: i64,
    b: i64,
    notes: String,
}

impl Write {
    fn by(chance: &mut fastrand::Rng) -> Write {
        let text = match chance.u8(..10) {
            0 => "INSERT OR REPLACE INTO glaze (name, notes, cone) VALUES ('g' || :a, :notes, :b)",
            1 => "REPLACE INTO glaze (key, name, notes, cone) VALUES (:a, 'g' || :b, :notes, :a)",
            2 => "UPDATE OR REPLACE glaze SET key = :b, notes = :notes WHERE key = :a",
            3 => "UPDATE OR REPLACE glaze SET name = 'g' || :b, notes = :notes WHERE key = :a",
            4 => "UPDATE OR IGNORE glaze SET key = :b + 100, notes = :notes WHERE key = :a",
            5 => "UPDATE OR IGNORE glaze SET key = key - 100, notes = :notes WHERE key > 100 AND :a < :b",
            6 => "DELETE FROM glaze WHERE key = :a AND :b <> 0 AND :notes <> ''",
            7 => "INSERT OR IGNORE INTO glaze (name, notes, cone) VALUES ('g' || :a, :notes, :b)",
            8 => "UPDATE OR REPLACE glaze SET cone = :b, notes = :notes WHERE name = 'g' || :a",
            _ => "UPDATE glaze SET notes = :notes WHERE key IN (:a, :b)",
        };
        let notes = (0..chance.usize(1..4)).filter_map(|_| chance.choice(WORDS)).collect::<Vec<_>>().join(" ");
        Write { text, a: chance.i64(1..9), b: chance.i64(1..9), notes }
    }

    fn by_app(&self, drawer: &Drawer) -> Result<(), Error> {
        drawer.write(|tx| {
            tx.sql(self.text).bind("a", self.a).bind("b", self.b).bind("notes", self.notes.as_str()).run().map(drop)
        })
    }

    fn by_another(&self, file: &Connection) -> Result<(), String> {
        let values = named_params! { ":a": self.a, ":b": self.b, ":notes": self.notes };
        file.execute(self.text, values).map(drop).map_err(told)
    }
}

/// The rows with a word, as the engine and plain Rust have them.
fn with_word(file: &Connection, word: &str) -> rusqlite::Result<BTreeSet<i64>> {
    let mut rows = file.prepare_cached("SELECT key, notes FROM glaze")?;
    let all = rows.query_map([], |row| Ok((row.get(0)?, row.get::<_, String>(1)?)))?;
    let has_word = |row: &rusqlite::Result<(i64, String)>| row.as_ref().is_ok_and(|(_, notes)| notes.contains(word));
    all.filter(has_word).map(|row| row.map(|(key, _)| key)).collect()
}

/// A search does not wait for whoever writes at that moment, such as the thread that begins the session: then the next one is right.
fn is_right_soon(drawer: &Drawer, file: &Connection) -> Result<(), String> {
    let mut tried = Ok(());
    for _ in 0..50 {
        tried = is_right(drawer, file);
        if tried.is_ok() {
            break;
        }
        thread::sleep(Duration::from_millis(5));
    }
    tried
}

fn is_right(drawer: &Drawer, file: &Connection) -> Result<(), String> {
    for word in WORDS {
        let found = drawer.records::<Glaze>().search(word).collect().map_err(told)?;
        let found: BTreeSet<i64> = found.iter().map(|glaze| glaze.key().number()).collect();
        let expected = with_word(file, word).map_err(told)?;
        if found != expected {
            return Err(format!("{word} is in {expected:?}, and found in {found:?}"));
        }
    }
    match drawer.search_index_is_sound::<Glaze>() {
        Ok(true) => Ok(()),
        other => Err(format!("the search index is sound: {other:?}")),
    }
}

/// One write after the other, each of the app or of another program; what is searched is right after each.
fn in_turns(trial: &mut Trial, path: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let drawer = open(path).map_err(told)?;
    let file = Connection::open(path).map_err(told)?;
    for _ in 0..chance.usize(1..60) {
        let write = Write::by(chance);
        let written = if chance.bool() { write.by_app(&drawer).map_err(told) } else { write.by_another(&file) };
        written.map_err(|error| format!("{}: {error}", write.text))?;
        trial.count("writes in turns", 1);
        is_right_soon(&drawer, &file).map_err(|what| format!("after {}: {what}", write.text))?;
    }
    is_sound(drawer, path)
}

/// The same by two threads and another program at once, next to searches.
fn at_once(path: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let drawer = open(path).map_err(told)?;
    let done = AtomicBool::new(false);
    let writes = chance.usize(50..250);
    let seeds = [chance.u64(..), chance.u64(..), chance.u64(..)];
    let failed: Vec<String> = thread::scope(|scope| {
        let (drawer, done) = (&drawer, &done);
        let writers: Vec<_> = seeds
            .into_iter()
            .enumerate()
            .map(|(n, seed)| {
                scope.spawn(move || -> Result<(), String> {
                    let mut chance = fastrand::Rng::with_seed(seed);
                    let file = Connection::open(path).map_err(told)?;
                    file.busy_timeout(Duration::from_secs(60)).map_err(told)?;
                    for _ in 0..writes {
                        let write = Write::by(&mut chance);
                        if n > 0 { write.by_app(drawer).map_err(told) } else { write.by_another(&file) }?;
                    }
                    Ok(())
                })
            })
            .collect();
        let searcher = scope.spawn(move || -> Result<(), String> {
            while !done.load(Ordering::Relaxed) {
                for word in WORDS {
                    drawer.records::<Glaze>().search(word).collect().map_err(|error| format!("a search: {error}"))?;
                }
            }
            Ok(())
        });
        let written: Vec<_> = writers.into_iter().map(|writer| writer.join().expect("no writer panics")).collect();
        done.store(true, Ordering::Relaxed);
        let searched = searcher.join().expect("no searcher panics");
        written.into_iter().chain([searched]).filter_map(Result::err).collect()
    });
    if let Some(error) = failed.into_iter().next() {
        return Err(format!("at once: {error}"));
    }
    is_right_soon(&drawer, &Connection::open(path).map_err(told)?)?;
    is_sound(drawer, path)
}

fn is_sound(drawer: Drawer, path: &Path) -> Result<(), String> {
    drawer.close().map_err(told)?;
    let check = File::open(path).and_then(|file| file.check()).map_err(told)?;
    if check.is_sound() { Ok(()) } else { Err(format!("{check:?}")) }
}
