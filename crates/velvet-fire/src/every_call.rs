//! A kill, and a loss of power, at every single call to the device of one long run: the drawer has every acknowledged transaction, and finds what the engine
//! alone finds.

use crate::devices::shim;
use crate::files;
use crate::trial::{Rounds, Trial};
use rusqlite::Connection;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use velvet_drawer::inspect::File;
use velvet_drawer::{Drawer, Error, Options, Record, Schema};

/// How many transactions the run has: the log begins again at least three times in them.
const TRANSACTIONS: u32 = 2_000;

/// The name of the file of the run.
const NAME: &str = "fire.drawer";

#[derive(Record, Debug)]
struct Weighing {
    #[record(own_key)]
    number: u32,
    remarks: String,
}

fn schema() -> Schema {
    Schema::new("fire").record::<Weighing>()
}

/// What the process does whose calls are recorded.
pub(crate) fn work(folder: &Path, path: &Path) -> Result<(), Error> {
    let drawer = options(folder).open(path, schema())?;
    for number in 1..=TRANSACTIONS {
        drawer.insert(Weighing { number, remarks: format!("{number} ").repeat(60 + number as usize % 150) })?;
        println!("{number}");
    }
    drawer.close()
}

/// With the key that stands beside it, where there is one.
fn options(folder: &Path) -> Options {
    #[cfg(feature = "encryption")]
    if folder.join("key").exists() {
        return Drawer::options()
            .encrypted(velvet_drawer::FileKey::of_bytes(velvet_drawer::SecretKey::from_bytes([7; 32])));
    }
    let _ = folder;
    Drawer::options()
}

/// One call to the device, or what the process said.
enum Call {
    Wrote { name: String, at: usize, bytes: Vec<u8> },
    Cut { name: String, length: usize },
    Synced { name: String },
    Removed { name: String },
    Said(u32),
}

fn calls(record: &[u8]) -> Vec<Call> {
    let (mut calls, mut rest) = (Vec::new(), record);
    while let Some((head, after)) = rest.split_at_checked(16) {
        let word = |at: usize| u32::from_ne_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]) as usize;
        let (kind, named, at, count) = (word(0) as u8, word(4), word(8), word(12));
        let (name, after) = after.split_at(named);
        let (bytes, after) = after.split_at(if matches!(kind, b'w' | b'a') { count } else { 0 });
        rest = after;
        let name = String::from_utf8_lossy(name).into_owned();
        // What was done to names is safe with their folder.
        let name = if kind == b's' && !name.starts_with(NAME) { String::new() } else { name };
        if !name.is_empty() && !name.starts_with(NAME) {
            continue;
        }
        calls.extend(match kind {
            b'w' => Some(Call::Wrote { name, at, bytes: bytes.to_vec() }),
            b't' => Some(Call::Cut { name, length: at }),
            b's' => Some(Call::Synced { name }),
            b'u' => Some(Call::Removed { name }),
            _ => String::from_utf8_lossy(bytes).trim().parse().ok().map(Call::Said),
        });
    }
    calls
}

/// What is on the device: the bytes of each file.
type Disk = BTreeMap<String, Vec<u8>>;

fn apply(disk: &mut Disk, call: &Call) {
    match call {
        Call::Wrote { name, at, bytes } => {
            let file = disk.entry(name.clone()).or_default();
            file.resize(file.len().max(at + bytes.len()), 0);
            file[*at..at + bytes.len()].copy_from_slice(bytes);
        }
        Call::Cut { name, length } => disk.entry(name.clone()).or_default().resize(*length, 0),
        Call::Removed { name } => drop(disk.remove(name)),
        Call::Synced { .. } | Call::Said(_) => {}
    }
}

/// A device, as it is after each call.
#[derive(Default)]
struct Device {
    /// As a process that is killed leaves it.
    seen: Disk,
    /// As a loss of power leaves it where nothing survives but what was synced.
    durable: Disk,
    /// What was not synced yet, by its place among the calls.
    pending: Vec<usize>,
    said: u32,
}

impl Device {
    fn of(begun: &Disk) -> Device {
        Device { seen: begun.clone(), durable: begun.clone(), ..Device::default() }
    }

    fn after(&mut self, calls: &[Call], at: usize) {
        apply(&mut self.seen, &calls[at]);
        match &calls[at] {
            Call::Said(number) => self.said = *number,
            Call::Synced { name } => {
                let (synced, pending) = self.pending.iter().partition(|at| synced_with(&calls[**at]) == Some(name));
                self.pending = pending;
                let synced: Vec<usize> = synced;
                synced.into_iter().for_each(|at| apply(&mut self.durable, &calls[at]));
            }
            _ => self.pending.push(at),
        }
    }

    /// As a loss of power may leave it: some of what was not synced survives.
    fn some_survive(&self, calls: &[Call], chance: &mut fastrand::Rng) -> Disk {
        let mut disk = self.durable.clone();
        self.pending.iter().filter(|_| chance.bool()).for_each(|at| apply(&mut disk, &calls[*at]));
        disk
    }
}

/// What must be synced for a call to be safe from a loss of power; empty for the folder.
fn synced_with(call: &Call) -> Option<&str> {
    match call {
        Call::Wrote { name, .. } | Call::Cut { name, .. } => Some(name),
        Call::Removed { .. } => Some(""),
        Call::Synced { .. } | Call::Said(_) => None,
    }
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let shim = shim(folder.path()).expect("a C compiler for what records calls");
    let ways: &[bool] = if cfg!(feature = "encryption") { &[false, true] } else { &[false] };
    let runs: Vec<(bool, (Disk, Vec<Call>))> =
        ways.iter().map(|key| (*key, recorded(&shim, folder.path(), *key))).collect();
    for (_, (_, calls)) in &runs {
        let begins = |call: &&Call| matches!(call, Call::Wrote { name, at: 0, .. } if name.ends_with("-wal"));
        trial.count("calls", calls.len() as u64);
        trial.count("turns of the log", calls.iter().filter(begins).count() as u64);
    }
    match trial.rounds() {
        // All of them in order.
        Rounds::Time(_) => {
            for (key, (begun, calls)) in &runs {
                let mut device = Device::of(begun);
                for at in 0..calls.len() {
                    device.after(calls, at);
                    let Some(mut chance) = trial.next() else { return };
                    look(trial, folder.path(), *key, calls, &device, &mut chance);
                }
            }
        }
        Rounds::Count(_) => {
            let mut places = Vec::new();
            let mut chances = BTreeMap::new();
            while let Some(mut chance) = trial.next() {
                let run = chance.usize(..runs.len());
                let calls = &runs[run].1.1;
                // Half of them between the start of a frame with the first page and the page: what was there before may be taken for it.
                let begins_first = |at: &usize| matches!(&calls[*at], Call::Wrote { name, bytes, .. } if name.ends_with("-wal") && bytes.len() == 24 && bytes[..4] == [0, 0, 0, 1]);
                let torn: Vec<usize> = (0..calls.len()).filter(begins_first).collect();
                let at = if chance.bool() { chance.choice(torn) } else { None };
                let place = (run, at.unwrap_or_else(|| chance.usize(..calls.len())));
                places.push(place);
                chances.insert(place, chance);
            }
            for (run, (key, (begun, calls))) in runs.iter().enumerate() {
                let wanted: BTreeSet<usize> =
                    places.iter().filter(|place| place.0 == run).map(|place| place.1).collect();
                let mut device = Device::of(begun);
                for at in 0..calls.len() {
                    device.after(calls, at);
                    if let Some(chance) = chances.get_mut(&(run, at)).filter(|_| wanted.contains(&at)) {
                        look(trial, folder.path(), *key, calls, &device, chance);
                    }
                }
            }
        }
    }
}

/// Every call of one run.
fn recorded(shim: &Path, root: &Path, with_key: bool) -> (Disk, Vec<Call>) {
    let folder = root.join(format!("run-{with_key}"));
    fs::create_dir_all(&folder).expect("a folder");
    if with_key {
        fs::write(folder.join("key"), "").expect("written");
    }
    // Created before, under another name at first, which is not recorded.
    options(&folder).open(folder.join(NAME), schema()).and_then(Drawer::close).expect("a drawer");
    let begun = fs::read(folder.join(NAME)).expect("a file");
    let record = root.join("record");
    let mut command = Command::new(std::env::current_exe().expect("this program"));
    command.args(["app", "turns"]).arg(&folder).args(["0", "0"]).stdin(Stdio::null());
    let output = command.env("LD_PRELOAD", shim).env("FIRE_RECORD", &record).output().expect("a process");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stdout));
    (Disk::from([(NAME.to_owned(), begun)]), calls(&fs::read(record).expect("a record")))
}

fn look(trial: &mut Trial, root: &Path, key: bool, calls: &[Call], device: &Device, chance: &mut fastrand::Rng) {
    let disks = [
        ("a kill", device.seen.clone()),
        ("a loss of power", device.durable.clone()),
        ("a loss of power that left some", device.some_survive(calls, chance)),
    ];
    for (what, disk) in disks {
        trial.count("looked at", 1);
        if let Err(found) = holds(root, key, &disk, device.said) {
            trial.found(format!("{what} after {} acknowledged, key {key}: {found}", device.said));
        }
    }
}

fn holds(root: &Path, key: bool, disk: &Disk, said: u32) -> Result<(), String> {
    let told = |error: Error| error.to_string();
    let put = |place: &str| {
        let folder = root.join(place);
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).and_then(|()| {
            if key {
                fs::write(folder.join("key"), "")?;
            }
            disk.iter()
                .filter(|(name, _)| !name.ends_with("-shm"))
                .try_for_each(|(name, bytes)| fs::write(folder.join(name), bytes))
        })?;
        Ok(folder)
    };
    let engine = put("engine").map_err(|error: std::io::Error| error.to_string())?;
    let by_engine = numbers(&engine.join(NAME), key);
    let ours = put("ours").map_err(|error: std::io::Error| error.to_string())?;
    let path = ours.join(NAME);
    if !key && path.metadata().is_ok_and(|m| m.len() > 1) {
        let notes = File::open(&path).and_then(|file| file.notes()).map_err(told)?;
        if notes.iter().any(|note| note.contains("different version")) {
            return Err(format!("a look says {notes:?}"));
        }
    }
    let drawer = options(&ours).open(&path, schema()).map_err(told)?;
    let found: Vec<u32> =
        drawer.records::<Weighing>().sort_by(|w| w.number.ascending()).only(|w| w.number).collect().map_err(told)?;
    drawer.close().map_err(told)?;
    let by_engine = by_engine.map_err(|error| format!("the engine alone refuses it: {error}"))?;
    if found != by_engine {
        return Err(format!("{} found, and {} by the engine alone", found.len(), by_engine.len()));
    }
    let count = u32::try_from(found.len()).unwrap_or_default();
    if found.iter().copied().ne(1..=count) || !(said..=said + 1).contains(&count) {
        return Err(format!("{count} found"));
    }
    let kept = files::names(&ours).into_iter().filter(|name| name.contains("set-aside")).collect::<Vec<_>>();
    if kept.is_empty() { Ok(()) } else { Err(format!("set aside: {kept:?}")) }
}

/// What the engine finds without the library.
fn numbers(path: &Path, key: bool) -> Result<Vec<u32>, rusqlite::Error> {
    let engine = Connection::open(path)?;
    if key {
        let salt: String = fs::read(path).unwrap_or_default().iter().take(16).map(|b| format!("{b:02x}")).collect();
        engine.execute_batch(&format!("PRAGMA key = \"x'{}{salt}'\"", "07".repeat(32)))?;
    }
    let has_table: i64 =
        engine.query_row("SELECT count(*) FROM sqlite_schema WHERE name = 'weighing'", [], |row| row.get(0))?;
    if has_table == 0 {
        return Ok(Vec::new());
    }
    let mut statement = engine.prepare("SELECT number FROM weighing ORDER BY number")?;
    statement.query_map([], |row| row.get(0))?.collect()
}
