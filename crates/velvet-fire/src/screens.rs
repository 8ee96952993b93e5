//! Screens that follow a drawer while threads and processes write to it, are killed, and reads fail: each does only the steps that it is told, and in the
//! end shows what the engine itself reads.

use crate::kills::start;
use crate::trial::Trial;
use rusqlite::Connection;
use std::cmp::Ordering;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::{Drawer, Error, Key, List, Live, Record, Schema, Settings, State, Step, Stored, TextOrder};

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

#[derive(Settings, Clone, Debug)]
struct Desk {
    writes: u64,
}

#[derive(Record, Clone, Debug)]
struct Shelf {
    #[record(own_key)]
    name: String,
}

fn schema() -> Schema {
    Schema::new("screens").record::<Pot>().record::<Shelf>().settings::<Desk>()
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
    statement: String,
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
            let mut statement = engine.prepare(&self.statement)?;
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

/// An order of the app's own, which the engine is given too.
struct LastLetterFirst;

impl TextOrder for LastLetterFirst {
    fn compare(a: &str, b: &str) -> Ordering {
        a.chars().rev().cmp(b.chars().rev())
    }
}

/// How many lists are followed at a time.
const SCREENS: usize = 12;

/// Lists of all kinds: with conditions, orders and ranges of chance, some of which end at the same row.
fn screens(drawer: &Drawer, chance: &mut fastrand::Rng) -> Result<Vec<Screen>, Error> {
    let mut all = Vec::new();
    let ends = chance.u64(4..12);
    for _ in 0..SCREENS {
        let pots = drawer.records::<Pot>();
        let (pots, condition) = match chance.u8(..5) {
            0 | 1 => (pots, "1"),
            2 => (pots.filter(|p| p.grams.at_least(0) | p.remarks.is("light")), "grams >= 0 OR remarks = 'light'"),
            3 => (pots.filter(|p| !p.mark.starts_with("M")), "mark NOT LIKE 'M%'"),
            _ => {
                let on_shelf = "(SELECT name FROM shelf WHERE shelf.key = pot.shelf) >= 'S-'";
                (pots.filter(|p| p.shelf.which(|s| s.name.at_least("S-"))), on_shelf)
            }
        };
        let (pots, order) = match chance.u8(..7) {
            0 => (pots, "key"),
            1 => (pots.sort_by(|p| p.mark.descending()), "mark DESC"),
            2 => (pots.sort_by(|p| (p.grams.descending(), p.mark.ascending())), "grams DESC, mark"),
            3 => (pots.sort_by(|p| (p.grams.ascending().missing_last(), p.mark.ascending())), "grams NULLS LAST, mark"),
            4 => (
                pots.sort_by(|p| (p.remarks.descending(), p.mark.ascending_by::<LastLetterFirst>())),
                "remarks DESC, mark COLLATE last_letter_first",
            ),
            5 => (
                pots.sort_by(|p| (p.remarks.ascending_by::<LastLetterFirst>(), p.mark.descending())),
                "remarks COLLATE last_letter_first, mark DESC",
            ),
            _ => (
                pots.sort_by(|p| (p.shelf.its(|s| s.name).ascending(), p.mark.ascending())),
                "(SELECT name FROM shelf WHERE shelf.key = pot.shelf), mark",
            ),
        };
        let (offset, limit) = match chance.u8(..5) {
            0 | 1 => (0, None),
            2 => (chance.u64(..ends), None),
            // These end at the same row.
            _ => {
                let offset = chance.u64(..ends);
                (offset, Some(ends - offset))
            }
        };
        let pots = if offset > 0 { pots.offset(offset) } else { pots };
        let pots = limit.map_or(pots.clone(), |limit| pots.limit(limit));
        let limit = limit.map_or(-1, u64::cast_signed);
        let statement = format!(
            "SELECT key, mark, grams, remarks FROM pot WHERE {condition} ORDER BY {order} LIMIT {limit} OFFSET {offset}"
        );
        all.push(Screen { live: pots.watch()?, shown: Vec::new(), statement, failed: 0, updates: 0 });
    }
    Ok(all)
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
    let collation = |a: &str, b: &str| LastLetterFirst::compare(a, b);
    engine.create_collation("last_letter_first", collation).map_err(|error| error.to_string())?;
    let mut screens = screens(&drawer, chance).map_err(said)?;
    let mut desk = drawer.settings::<Desk>().watch_field(|desk| desk.writes).map_err(said)?;
    let writes = AtomicU64::new(0);
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
            let (drawer, is_over, writes) = (drawer.clone(), &is_over, &writes);
            scope.spawn(move || {
                let mut chance = fastrand::Rng::with_seed(seed);
                while !is_over.load(Relaxed) {
                    scribble(&drawer, &mut chance)?;
                    writes.fetch_add(1, Relaxed);
                    if chance.u8(..16) == 0 {
                        drawer.settings::<Desk>().change(|desk| desk.writes += 1)?;
                        thread::sleep(Duration::from_micros(chance.u64(..3_000)));
                    }
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
                5 => {
                    // Whoever writes just now keeps the file open, and closes it afterwards.
                    let _ = drawer.going_to_background(Duration::from_millis(chance.u64(..40)));
                    let text = "UPDATE pot SET grams = ifnull(grams, 0) + 1 WHERE key = (SELECT min(key) FROM pot)";
                    let written = engine.execute(text, []).map(drop).map_err(|error| error.to_string());
                    thread::sleep(Duration::from_millis(chance.u64(..20)));
                    result = written.and_then(|()| drawer.back_in_foreground().map_err(said));
                }
                _ => result = screens[at].take(Duration::from_millis(5)),
            }
        }
        for mut process in processes {
            let _ = process.kill().and_then(|()| process.wait());
        }
        is_over.store(true, Relaxed);
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
    trial.count("writes of this process", writes.into_inner());
    let stored = "SELECT coalesce((SELECT CAST(value AS INTEGER) FROM desk WHERE setting = 'writes'), 0)";
    let stored =
        engine.query_row(stored, [], |row| row.get(0)).map_err(|error| error.to_string()).map(i64::cast_unsigned)?;
    let begun = Instant::now();
    while !matches!(desk.now(), State::Loaded(now) if now == stored) {
        let _ = desk.news_within(Duration::from_millis(20));
        if begun.elapsed() > Duration::from_secs(20) {
            return Err(format!("a setting is shown as {:?}, and {stored} is stored", desk.now()));
        }
    }
    drawer.close().map_err(said)
}
