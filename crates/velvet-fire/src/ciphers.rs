//! Encrypted files: processes that are killed, or whose device fails, while a file is encrypted, gets another key, goes back or is written; and encrypted
//! files in which something was changed.

use crate::devices::shim;
use crate::files::{self, mutate};
use crate::kills::{killed, start};
use crate::trial::{Trial, quietly};
use std::fs;
use std::io::Read;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;
use velvet_drawer::inspect::{self, File, Limits};
use velvet_drawer::{Attachment, Drawer, Error, FileKey, Key, Options, Record, Schema};
use velvet_phone::Phone;

/// How many records a file has at least.
const ROWS: u32 = 400;

/// How many changed files are looked at in each round.
const MUTANTS: usize = 8;

/// To which call of the device one fails; there are more than that in each role.
const CALLS: u64 = 400;

/// A word that stands in each record, and nowhere else.
const WORD: &str = "under-the-floor";

/// What is done when a process is killed.
const ROLES: [&str; 4] = ["encrypt", "rekey", "decrypt", "fill"];

#[derive(Record, Debug, Clone, PartialEq)]
struct Person {
    #[record(unique)]
    number: u32,
    #[record(searchable)]
    phone: String,
}

/// What grows.
#[derive(Record, Debug)]
#[record(named)]
struct Note {
    name: String,
    value: String,
}

fn schema() -> Schema {
    Schema::new("fire").record::<Person>().record::<Note>()
}

fn person(number: u32) -> Person {
    Person { number, phone: format!("{WORD} {number}") }
}

fn key(folder: &Path) -> FileKey {
    let sandbox = Phone::at(folder.join("phone")).and_then(|phone| phone.sandbox("fire"));
    FileKey::kept_by(sandbox.expect("a pretend phone").key_store())
}

fn options(folder: &Path) -> Options {
    Drawer::options().encrypted(key(folder)).lock_timeout(Duration::from_secs(20))
}

/// What a process does that is killed, or whose device fails.
pub(crate) fn work(role: &str, folder: &Path, path: &Path) -> Result<(), Error> {
    let (key, change) = (key(folder), Drawer::change_file_key(path));
    match role {
        "encrypt" => change.to(&key).run().map(drop),
        "rekey" => change.from(&key).to(&key).run().map(drop),
        "decrypt" => change.from(&key).run().map(drop),
        _ => {
            let drawer = options(folder).open(path, schema())?;
            for number in ROWS.. {
                drawer.insert(person(number + 1))?;
                println!("{}", number + 1);
                // Now and then the first page is written too.
                match number % 40 {
                    0 => drop(drawer.compact()?),
                    20 => drawer.named::<Note>().set("long", "x".repeat(1_000 * number as usize))?,
                    _ => {}
                }
                if number == ROWS + 120 {
                    break;
                }
            }
            drawer.close()
        }
    }
}

fn made(folder: &Path, name: &str, options: Options) -> PathBuf {
    let path = folder.join(name);
    let drawer = options.open(&path, schema()).expect("a drawer");
    drawer.insert_all((1..=ROWS).map(person)).expect("inserted");
    drawer.close().expect("closed");
    path
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let shim = shim(folder.path()).expect("a C compiler for what lets calls fail");
    let plain = made(folder.path(), "plain", Drawer::options());
    let encrypted = made(folder.path(), "encrypted", options(folder.path()));
    let place = folder.path().join("fire.drawer");
    let copy = folder.path().join("fire.at-version-1.drawer");
    while let Some(mut chance) = trial.next() {
        let role = chance.choice(ROLES).unwrap_or("rekey");
        let from = if role == "encrypt" { &plain } else { &encrypted };
        // What a kill left of another role.
        for name in files::names(folder.path()).iter().filter(|name| name.contains("velvet-unfinished")) {
            let _ = fs::remove_file(folder.path().join(name));
        }
        for place in [&place, &copy] {
            files::remove(place);
            files::copy(from, place).expect("copied");
        }
        let said = if chance.u8(..4) > 0 {
            trial.count("kills", 1);
            killed(start(&format!("cipher {role}"), folder.path(), 0, 0), Duration::from_micros(chance.u64(..60_000)))
        } else {
            trial.count("calls failed", 1);
            failed(&shim, folder.path(), role, &mut chance)
        };
        let acknowledged = said.iter().filter_map(|line| line.parse().ok()).next_back().unwrap_or(ROWS);
        let held = is_whole(folder.path(), &place, acknowledged)
            .and_then(|()| is_whole(folder.path(), &copy, ROWS))
            .and_then(|()| if matches!(role, "rekey" | "fill") { is_unseen(folder.path(), "fire") } else { Ok(()) });
        if let Err(what) = held {
            trial.found(format!("{role}: {what}; it said {:?}", said.last()));
        }
        quietly();
        for _ in 0..MUTANTS {
            let looked = mutant(folder.path(), &encrypted, &mut chance);
            trial.count("mutants", 1);
            match looked {
                Ok(read) => trial.count("records read in them", read),
                Err(what) => trial.found(format!("a mutant: {what}")),
            }
        }
        match long_values(folder.path(), &mut chance) {
            Ok((read, refused)) => {
                trial.count("long values read", read);
                trial.count("long values refused", refused);
            }
            Err(what) => trial.found(format!("a long value: {what}")),
        }
        drop(std::panic::take_hook());
    }
}

#[derive(Record)]
struct Portrait {
    bytes: Vec<u8>,
    photo: Key<Attachment>,
}

/// Damages single pages of long values and attachments: each is read, by every way, as it was written, or refused.
fn long_values(folder: &Path, chance: &mut fastrand::Rng) -> Result<(u64, u64), String> {
    let told = |error: Error| error.to_string();
    let path = folder.join("long.drawer");
    files::remove(&path);
    let schema = || Schema::new("fire").record::<Portrait>().attachments();
    let drawer = options(folder).open(&path, schema()).map_err(told)?;
    let mut written = Vec::new();
    for _ in 0..chance.usize(1..8) {
        let mut random = |most| {
            let length = chance.usize(..most);
            std::iter::repeat_with(|| chance.u8(1..)).take(length).collect::<Vec<u8>>()
        };
        let (bytes, content) = (random(30_000), random(60_000));
        let photo = drawer.attachments().add(content.as_slice()).run().map_err(told)?.key();
        let record = drawer.insert(Portrait { bytes: bytes.clone(), photo }).map_err(told)?.key();
        written.push((record, bytes, photo, content));
    }
    drawer.close().map_err(told)?;
    let whole = fs::read(&path).map_err(|error| error.to_string())?;
    let (mut read, mut refused) = (0, 0);
    for _ in 0..12 {
        let mut bytes = whole.clone();
        let page = chance.usize(1..(bytes.len() / 4_096).max(2));
        let at = (page * 4_096 + chance.usize(..4_096)).min(bytes.len() - 1);
        bytes[at] ^= 1 << chance.u8(..8);
        fs::write(&path, &bytes).map_err(|error| error.to_string())?;
        let Ok(drawer) = options(folder).read_only().open(&path, schema()) else { continue };
        let mut is_right = |what: &str, found: Result<bool, Error>| match found {
            Ok(true) => {
                read += 1;
                Ok(())
            }
            Ok(false) => Err(format!("{what} is another one after a bit of page {} was turned", page + 1)),
            Err(_) => {
                refused += 1;
                Ok(())
            }
        };
        for (record, bytes, attachment, content) in &written {
            let attachments = drawer.attachments();
            is_right("a record", drawer.get(*record).map(|found| found.is_some_and(|found| found.bytes == *bytes)))?;
            is_right("an attachment", attachments.bytes(*attachment).map(|found| found == *content))?;
            let streamed = attachments.open(*attachment).and_then(|mut stream| {
                let mut found = Vec::new();
                stream.read_to_end(&mut found).map(|_| found == *content).map_err(|error| Error::own(error.to_string()))
            });
            is_right("a stream", streamed)?;
        }
        let expected: Vec<String> = written.iter().map(|(_, bytes, ..)| hex(bytes)).collect();
        let exported = key(folder).unlock(&path).and_then(|_unlocked| {
            let mut out = Vec::new();
            let file = File::open(&path)?;
            file.export(&file.table("portrait")?, inspect::Exchange::SqlText, &mut out)?;
            Ok(String::from_utf8_lossy(&out).to_lowercase())
        });
        is_right("an export", exported.map(|text| expected.iter().all(|bytes| text.contains(bytes.as_str()))))?;
    }
    files::remove(&path);
    Ok((read, refused))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Plays a role on a device that fails once, or is full from there on, and returns what it said.
fn failed(shim: &Path, folder: &Path, role: &str, chance: &mut fastrand::Rng) -> Vec<String> {
    let program = std::env::current_exe().expect("this program");
    let mut command = Command::new(program);
    command.arg("app").arg(format!("cipher {role}")).arg(folder).args(["0", "0"]).stdin(Stdio::null());
    command.env("LD_PRELOAD", shim).env("FIRE_FAIL_AT", chance.u64(1..CALLS).to_string());
    command.env("FIRE_COUNT", folder.join("count"));
    let is_full = chance.bool();
    command.env("FIRE_ERROR", if is_full { "28" } else { "5" });
    if is_full || chance.bool() {
        command.env("FIRE_FOREVER", "1");
    }
    let output = command.output().expect("a process");
    let mut said: Vec<String> = String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect();
    if !matches!(output.status.code(), Some(0 | 3)) {
        said.push(format!("ended with {:?}: {}", output.status.code(), String::from_utf8_lossy(&output.stderr)));
    }
    said
}

/// Whether a file opens, plain or with the key that its keeper has, and has all that was acknowledged, and at most one record more.
fn is_whole(folder: &Path, path: &Path, acknowledged: u32) -> Result<(), String> {
    let told = |error: Error| format!("{}: {error}", path.display());
    let drawer = match options(folder).open(path, schema()) {
        Err(error) if error.is_not_encrypted() => Drawer::open(path, schema()),
        opened => opened,
    };
    let drawer = drawer.map_err(told)?;
    if let Some(log) = &drawer.opened().log_set_aside {
        return Err(format!("its own log was set aside, at {}", log.display()));
    }
    let found = drawer.records::<Person>().sort_by(|p| p.number.ascending()).collect().map_err(told)?;
    let indexed = drawer.records::<Person>().search(WORD).count().map_err(told)?;
    drawer.close().map_err(told)?;
    let count = u32::try_from(found.len()).unwrap_or_default();
    let is_as_written = (1..).zip(&found).all(|(number, found)| **found == person(number));
    if is_as_written && (acknowledged..=acknowledged + 1).contains(&count) && indexed == u64::from(count) {
        return Ok(());
    }
    Err(format!("{acknowledged} acknowledged, {count} there, {indexed} found, or another value"))
}

/// Nothing that was written can be read in the files whose names begin so.
fn is_unseen(folder: &Path, stem: &str) -> Result<(), String> {
    for name in files::names(folder).iter().filter(|name| name.starts_with(stem)) {
        let bytes = fs::read(folder.join(name)).unwrap_or_default();
        if memchr::memmem::find(&bytes, WORD.as_bytes()).is_some() || bytes.starts_with(b"SQLite") {
            return Err(format!("{name} can be read"));
        }
    }
    Ok(())
}

/// Changes something in an encrypted file: what is read is what was written there, by the app, by a look and by saving; nothing is written to it, and no message
/// says what is in it.
fn mutant(folder: &Path, encrypted: &Path, chance: &mut fastrand::Rng) -> Result<u64, String> {
    let (path, saved) = (folder.join("mutant.drawer"), folder.join("saved.drawer"));
    [&path, &saved].iter().for_each(|path| files::remove(path));
    let mut bytes = fs::read(encrypted).map_err(|error| error.to_string())?;
    mutate(&mut bytes, chance);
    fs::write(&path, &bytes).map_err(|error| error.to_string())?;
    let is_written = |found: &Person| *found == person(found.number);
    let look = || -> Result<u64, Error> {
        let key = key(folder);
        let drawer = Drawer::options().encrypted(key.clone()).read_only().open(&path, schema());
        let mut read = 0;
        if let Ok(drawer) = &drawer
            && let Ok(found) = drawer.records::<Person>().collect()
        {
            read = found.len() as u64;
            if !found.iter().all(|found| is_written(found)) {
                return Err(Error::own("another value is read"));
            }
        }
        let refused = drawer.map(drop);
        let unlocked = key.unlock(&path)?;
        File::open(&path).and_then(|file| file.check()).map(drop)?;
        let salvaged = inspect::salvage(&path, &saved, &Limits::default());
        drop(unlocked);
        salvaged?;
        refused.map(|()| read)
    };
    let looked = catch_unwind(AssertUnwindSafe(look)).map_err(|_| "it panicked".to_owned())?;
    if saved.exists() {
        let drawer = options(folder).open(&saved, schema());
        // What cannot be saved whole is no drawer any more.
        if let Ok(found) = drawer.and_then(|drawer| drawer.records::<Person>().collect())
            && !found.iter().all(|found| is_written(found))
        {
            return Err("another value is saved".into());
        }
    }
    if fs::read(&path).map_err(|error| error.to_string())? != bytes {
        return Err("it was written to".into());
    }
    is_unseen(folder, "mutant").and_then(|()| is_unseen(folder, "saved"))?;
    match looked {
        Err(error) if error.is_own() || error.to_string().contains(WORD) => Err(error.to_string()),
        looked => Ok(looked.unwrap_or(0)),
    }
}
