//! Starts whose clock is ahead or behind: no reading of a clock makes anything old.

use crate::devices::shim;
use crate::trial::Trial;
use crate::versions;
use rusqlite::Connection;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};
use velvet_drawer::{Drawer, Error, Trail};

const DAY: i64 = 24 * 60 * 60;

/// How long trails are kept, in days. Between two starts at most seven days count, so this many starts make nothing older.
const KEPT: u32 = 30;
const STARTS: u32 = 4;

/// How many records each start inserts. Age is looked at every 256 writes.
const WRITES: u32 = 300;

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let shim = shim(folder.path()).expect("a C compiler for what puts the clock ahead");
    while let Some(mut chance) = trial.next() {
        let path = folder.path().join("fire.drawer");
        let _ = Drawer::remove_from_device(&path);
        if let Err(what) = round(trial, &shim, &path, &mut chance) {
            trial.found(what);
        }
    }
}

fn round(trial: &mut Trial, shim: &Path, path: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let told = |error: Error| error.to_string();
    let old = Drawer::open(path, versions::schema(1)).map_err(told)?;
    let piece =
        |n: u32| versions::v1::Piece { mark: format!("K-{n}"), wt: None, glaze: String::new(), sketch: vec![1] };
    old.insert_all((0..5).map(piece)).map_err(told)?;
    old.close().map_err(told)?;
    let mut days = Vec::new();
    for start in 0..STARTS {
        days.push(chance.choice([0, 1, 100, 200, 5_000, -1, -100, -3_000]).unwrap_or(0));
        let mut process = Command::new(std::env::current_exe().map_err(|e| e.to_string())?);
        process.args(["app", "clock"]).arg(path.parent().unwrap_or(path)).args([start.to_string(), "0".to_owned()]);
        process.env("LD_PRELOAD", shim).env("FIRE_AHEAD", (days[start as usize] * DAY).to_string());
        let output = process.output().map_err(|e| e.to_string())?;
        if !output.status.success() {
            return Err(format!("after clocks {days:?} days ahead: {}", String::from_utf8_lossy(&output.stdout)));
        }
        let copies = Drawer::kept_copies(path).map_err(told)?.len();
        let file = Connection::open(path).map_err(|e| e.to_string())?;
        let count = "SELECT count(*) FROM velvet_trail WHERE table_name = 'shelf'";
        let entries: u32 = file.query_row(count, [], |row| row.get(0)).map_err(|e| e.to_string())?;
        trial.count("starts", 1);
        let written = (start + 1) * WRITES;
        if copies != 1 || entries != written {
            return Err(format!(
                "after clocks {days:?} days ahead there are {copies} copies, and {entries} of {written} entries"
            ));
        }
    }
    Ok(())
}

/// One start.
pub(crate) fn work(path: &Path, start: u64) -> Result<(), Error> {
    let options = Drawer::options().trail(Trail::Keys).trail_kept(100_000, Duration::from_secs(86_400) * KEPT);
    let drawer = options.open(path, versions::schema(3))?;
    for n in 0..WRITES {
        drawer.insert(versions::v2::Shelf { name: format!("{start}-{n}") })?;
    }
    counted(path);
    drawer.close()
}

/// Waits until the library has counted the time of this start next to the app, where it does.
fn counted(path: &Path) {
    let text = "SELECT value FROM velvet_about WHERE name = 'counted_time'";
    let read = || Connection::open(path).ok()?.query_row(text, [], |row| row.get::<_, String>(0)).ok();
    let (begun, today) = (Instant::now(), jiff::Timestamp::now().as_second() / DAY);
    let is_of_today = |counted: String| {
        counted.split(' ').next().and_then(|at| at.parse::<i64>().ok()).is_some_and(|at| at / DAY == today)
    };
    while begun.elapsed() < Duration::from_millis(300) && !read().is_some_and(is_of_today) {
        std::thread::yield_now();
    }
}
