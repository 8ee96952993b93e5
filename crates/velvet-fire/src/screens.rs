//! Screens that follow a drawer while threads and processes write to it, are killed, and reads fail: each does only the steps that it is told, and in the
//! end shows what the engine itself reads.

use crate::kills::start;
use crate::trial::Trial;
use rusqlite::Connection;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::{Drawer, Error, Key, List, Live, Record, Schema, Step, Stored};

#[derive(Record, Clone, Debug)]
struct Pot {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    grams: Option<i64>,
    #[record(searchable)]
    remarks: String,
    #[record(link(on_delete = clear))]
    shelf: Option<Key<Shelf>>,
}

#[derive(Record, Clone, Debug)]
struct Shelf {
    #[record(own_key)]
    name: String,
}

fn schema() -> Schema {
    Schema::new("screens").record::<Pot>().record::<Shelf>()
}

fn open(path: &Path) -> Result<Drawer, Error> {
    let options = Drawer::options().relaxed().lock_timeout(Duration::from_secs(20));
    options.others_noticed_within(Duration::from_millis(15)).open(path, schema())
}

/// One write of some kind.
fn scribble(drawer: &Drawer, chance: &mut fastrand::Rng) -> Result<(), Error> {
    let mark = format!("K-{}", chance.u32(..60));
    let grams = chance.bool().then(|| chance.i64(-5..5));
    let found = drawer.get_by_own_key::<Pot>(&mark)?.map(|pot| pot.key());
    let pot = Pot { mark, grams, remarks: format!("clay {}", chance.u8(..3)), shelf: None };
    let done = match (chance.u32(..12), found) {
        (0..=3, None) => drawer.insert(pot).map(drop),
        (0..=3, Some(key)) => drawer.change(key, |p| p.grams = grams).map(drop),
        (4, Some(key)) => drawer.remove(key).map(drop),
        (5, _) => {
            drawer.records::<Pot>().filter(|p| p.grams.is_none()).limit(9).update(|p| p.remarks.set("light")).map(drop)
        }
        (6, _) => drawer.write(|tx| {
            let shelf = tx.insert(Shelf { name: format!("S-{}", chance.u32(..)) })?;
            tx.records::<Pot>().filter(|p| p.grams.at_least(2)).limit(5).update(|p| p.shelf.set(shelf.key())).map(drop)
        }),
        (7, _) => drawer.records::<Shelf>().limit(2).remove().map(drop),
        (8, _) => drawer.refresh((0..8).map(|n| Pot { mark: format!("R-{n}"), ..pot.clone() })).run().map(drop),
        (9, _) => drawer.write(|tx| tx.sql("update pot set grams = grams + 1 where key % 7 = 3").run()).map(drop),
        (10, _) if chance.u32(..10) == 0 => drawer
            .insert_all((0..1_200).map(|n| Pot { mark: format!("M-{n}-{}", chance.u64(..)), ..pot.clone() }))
            .map(drop),
        (11, _) if chance.u32(..10) == 0 => drawer.write(|tx| tx.sql("delete from pot").run()).map(drop),
        (_, key) => drawer.write(|tx| {
            key.map(|key| tx.remove(key)).transpose()?;
            Err(Error::own("given up"))
        }),
    };
    // Others write the same.
    done.or_else(|error| if error.is_own() || error.is_clash() || error.is_not_found() { Ok(()) } else { Err(error) })
}

/// What a process does until it is killed.
pub(crate) fn work(path: &Path, seed: u64) -> Result<(), Error> {
    let mut chance = fastrand::Rng::with_seed(seed);
    let drawer = open(path)?;
    println!("writes");
    loop {
        scribble(&drawer, &mut chance)?;
        thread::sleep(Duration::from_micros(chance.u64(..4_000)));
    }
}

/// A list that does what it is told.
struct Screen {
    live: Live<List<Stored<Pot>>>,
    shown: Vec<(i64, String)>,
    statement: &'static str,
    failed: u64,
    updates: u64,
}

fn told(pot: &Pot) -> String {
    format!("{} {:?} {}", pot.mark, pot.grams, pot.remarks)
}

impl Screen {
    fn take(&mut self, within: Duration) -> Result<(), String> {
        let Some(update) = self.live.news_within(within) else { return Ok(()) };
        let Ok(update) = update else {
            self.failed += 1;
            return Ok(());
        };
        self.updates += 1;
        for step in update.steps() {
            match step {
                Step::Removed { at, .. } => drop(self.shown.remove(at)),
                Step::Added { at, number } => self.shown.insert(at, (number, told(&update.result[at]))),
                Step::Moved { from, to, .. } => {
                    let moved = self.shown.remove(from);
                    self.shown.insert(to, moved);
                }
                Step::Changed { at, .. } => self.shown[at].1 = told(&update.result[at]),
            }
        }
        let is_same = self.shown.iter().map(|(number, _)| *number).eq(update.result.numbers());
        if is_same && self.shown.iter().zip(update.result.iter()).all(|((_, shown), pot)| *shown == told(pot)) {
            return Ok(());
        }
        Err(format!("{}: the steps do not lead to the result", self.statement))
    }

    /// Whether it comes to show what the engine reads.
    fn settles(&mut self, engine: &Connection) -> Result<(), String> {
        let read = || {
            let mut statement = engine.prepare(self.statement)?;
            let rows = statement.query_map([], |row| {
                let (mark, grams, remarks): (String, Option<i64>, String) = (row.get(1)?, row.get(2)?, row.get(3)?);
                Ok((row.get(0)?, format!("{mark} {grams:?} {remarks}")))
            })?;
            rows.collect::<rusqlite::Result<Vec<(i64, String)>>>()
        };
        let expected = read().map_err(|error| error.to_string())?;
        let begun = Instant::now();
        while self.shown != expected || self.updates == 0 {
            if begun.elapsed() > Duration::from_secs(20) {
                return Err(format!(
                    "{}: {} rows are shown, {} stored",
                    self.statement,
                    self.shown.len(),
                    expected.len()
                ));
            }
            self.take(Duration::from_millis(20))?;
        }
        Ok(())
    }
}

fn screens(drawer: &Drawer) -> Result<Vec<Screen>, Error> {
    let pots = || drawer.records::<Pot>();
    let all = [
        (pots().watch()?, "SELECT key, mark, grams, remarks FROM pot ORDER BY key"),
        (
            pots().filter(|p| p.grams.at_least(0) | p.remarks.is("light")).sort_by(|p| p.mark.descending()).watch()?,
            "SELECT key, mark, grams, remarks FROM pot WHERE grams >= 0 OR remarks = 'light' ORDER BY mark DESC",
        ),
        (
            pots().sort_by(|p| (p.grams.descending(), p.mark.ascending())).limit(7).watch()?,
            "SELECT key, mark, grams, remarks FROM pot ORDER BY grams DESC, mark LIMIT 7",
        ),
        (
            pots().sort_by(|p| (p.grams.ascending().missing_last(), p.mark.ascending())).offset(5).limit(9).watch()?,
            "SELECT key, mark, grams, remarks FROM pot ORDER BY grams NULLS LAST, mark LIMIT 9 OFFSET 5",
        ),
        (
            pots().filter(|p| p.shelf.which(|s| s.name.at_least("S-"))).sort_by(|p| p.mark.ascending()).watch()?,
            "SELECT pot.key, mark, grams, remarks FROM pot JOIN shelf ON shelf.key = pot.shelf WHERE name >= 'S-' ORDER BY mark",
        ),
    ];
    Ok(all.map(|(live, statement)| Screen { live, shown: Vec::new(), statement, failed: 0, updates: 0 }).into())
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    while let Some(mut chance) = trial.next() {
        let place = folder.path().join("screens");
        let _ = fs::remove_dir_all(&place);
        fs::create_dir_all(&place).expect("a folder");
        if let Err(why) = round(trial, &place, &mut chance) {
            trial.found(why);
        }
    }
}

fn round(trial: &mut Trial, place: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let said = |error: Error| error.to_string();
    let path = place.join("fire.drawer");
    let drawer = open(&path).map_err(said)?;
    let engine = Connection::open(&path).map_err(|error| error.to_string())?;
    engine.busy_timeout(Duration::from_secs(20)).map_err(|error| error.to_string())?;
    let mut screens = screens(&drawer).map_err(said)?;
    let mut processes = Vec::new();
    for _ in 0..2 {
        let mut process = start("scribble", place, chance.u64(..), 0);
        if let Some(out) = process.stdout.take() {
            let _ = BufReader::new(out).lines().next();
        }
        processes.push(process);
    }
    let is_over = AtomicBool::new(false);
    let seeds = [chance.u64(..), chance.u64(..)];
    let followed = thread::scope(|scope| {
        let writers = seeds.map(|seed| {
            let (drawer, is_over) = (drawer.clone(), &is_over);
            scope.spawn(move || {
                let mut chance = fastrand::Rng::with_seed(seed);
                while !is_over.load(Ordering::Relaxed) {
                    scribble(&drawer, &mut chance)?;
                    thread::sleep(Duration::from_micros(chance.u64(..3_000)));
                }
                Ok::<_, Error>(())
            })
        });
        let end = Instant::now() + Duration::from_millis(chance.u64(200..700));
        let mut result = Ok(());
        while Instant::now() < end && result.is_ok() {
            let at = chance.usize(..screens.len());
            match chance.u32(..30) {
                0 => screens[at].live.pause(),
                1 | 2 => screens[at].live.go_on(),
                3 if processes.len() > 1 || chance.u32(..4) == 0 => {
                    if let Some(mut process) = processes.pop() {
                        let _ = process.kill().and_then(|()| process.wait());
                    }
                }
                4 => {
                    // What is no text cannot be read for a while.
                    let spoil = "UPDATE pot SET remarks = CAST(x'ff' AS TEXT) WHERE key = (SELECT max(key) FROM pot)";
                    let mend = "UPDATE pot SET remarks = 'mended' WHERE remarks = CAST(x'ff' AS TEXT)";
                    let spoiled = engine.execute(spoil, []);
                    thread::sleep(Duration::from_millis(chance.u64(..60)));
                    if let Err(error) = spoiled.and_then(|_| engine.execute(mend, [])) {
                        result = Err(error.to_string());
                    }
                }
                _ => result = screens[at].take(Duration::from_millis(5)),
            }
        }
        for mut process in processes {
            let _ = process.kill().and_then(|()| process.wait());
        }
        is_over.store(true, Ordering::Relaxed);
        for writer in writers {
            match writer.join() {
                Ok(Ok(())) => {}
                // It met what was spoiled.
                Ok(Err(error)) if error.is_unreadable() => {}
                Ok(Err(error)) => result = Err(format!("a writer: {error}")),
                Err(_) => result = Err("a writer panicked".into()),
            }
        }
        result
    });
    followed?;
    for screen in &mut screens {
        screen.live.go_on();
        screen.settles(&engine)?;
        trial.count("updates", screen.updates);
        trial.count("failures told", screen.failed);
    }
    trial.count("screens", screens.len() as u64);
    drawer.close().map_err(said)
}
