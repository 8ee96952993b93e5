//! Processes that are killed: nothing acknowledged is lost, nothing is half done.

use crate::files;
use crate::model::{self, Model};
use crate::trial::Trial;
use crate::versions::{self, v1};
use rusqlite::Connection;
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::File;
use velvet_drawer::{Drawer, Error};

/// What is killed. Writing is tried as often as all others together.
const ROLES: [&str; 10] =
    ["upgrade", "compact", "copy", "restore", "import", "rows", "salvage", "ship", "aside", "write"];

/// How many changes a file takes before another is begun.
const CHANGES: u64 = 300;

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let mut writing = Writing::new(folder.path());
    while let Some(mut chance) = trial.next() {
        let role = if chance.bool() { "write" } else { chance.choice(ROLES).unwrap_or("write") };
        let held = if role == "write" { writing.round(&mut chance) } else { other(role, folder.path(), &mut chance) };
        trial.count("kills", 1);
        match held {
            Ok(times) => trial.count("times acknowledged before", times),
            Err(what) => {
                trial.found(format!("{role}: {what}"));
                writing = Writing::new(folder.path());
            }
        }
    }
}

/// Starts this program in a role.
pub(crate) fn start(role: &str, folder: &Path, seed: u64, from: u64) -> Child {
    let program = std::env::current_exe().expect("this program");
    let mut command = Command::new(program);
    command.arg("app").arg(role).arg(folder).arg(seed.to_string()).arg(from.to_string());
    command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("a process")
}

/// Kills a process after a while, and returns the lines that it had said.
pub(crate) fn killed(mut child: Child, after: Duration) -> Vec<String> {
    thread::sleep(after);
    let _ = child.kill();
    let mut said = String::new();
    if let Some(mut out) = child.stdout.take() {
        let _ = out.read_to_string(&mut said);
    }
    let _ = child.wait();
    // A last line without an end was not said.
    said.split_inclusive('\n').filter(|l| l.ends_with('\n')).map(|l| l.trim_end().to_owned()).collect()
}

fn told(error: impl std::fmt::Display) -> String {
    error.to_string()
}

/// One file that is written, killed and looked at again and again.
struct Writing {
    folder: PathBuf,
    path: PathBuf,
    seed: u64,
    /// The changes that are known to be in it.
    done: u64,
}

impl Writing {
    fn new(folder: &Path) -> Writing {
        let folder = folder.join("write");
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).expect("a folder");
        Writing { path: folder.join("fire.drawer"), folder, seed: fastrand::u64(..), done: 0 }
    }

    fn round(&mut self, chance: &mut fastrand::Rng) -> Result<u64, String> {
        if self.done >= CHANGES {
            *self = Writing::new(self.folder.parent().unwrap_or(&self.folder));
        }
        if self.done == 0 {
            self.seed = chance.u64(..);
        }
        let child = start("write", &self.folder, self.seed, self.done);
        let said = killed(child, Duration::from_micros(chance.u64(..60_000)));
        if let Some(refused) = said.iter().find(|line| line.starts_with("refused")) {
            return Err(format!("the app was refused after a kill: {refused}"));
        }
        let acknowledged = said.last().and_then(|line| line.parse().ok()).unwrap_or(self.done);
        let before = files::names(&self.folder);
        if self.path.exists() {
            File::open(&self.path).and_then(|file| file.overview()).map_err(|e| format!("a look: {e}"))?;
        }
        if files::names(&self.folder) != before {
            return Err("a look left something".into());
        }
        let drawer = Drawer::open(&self.path, model::schema()).map_err(told)?;
        if !drawer.search_index_is_sound::<model::Piece>().map_err(told)? {
            return Err("the search index is not sound".into());
        }
        drawer.close().map_err(told)?;
        let found = Model::read(&self.path).map_err(told)?;
        let model = Model::after(self.seed, acknowledged);
        let mut next = model.clone();
        next.apply(&model.change(self.seed, acknowledged));
        let new = acknowledged - self.done;
        self.done = match found {
            found if found == model => acknowledged,
            // What was not acknowledged may be there, wholly.
            found if found == next => acknowledged + 1,
            found => {
                let (there, known) = (found.pieces.len(), model.pieces.len());
                return Err(format!("after {acknowledged} changes of seed {}: {there} pieces, not {known}", self.seed));
            }
        };
        Ok(new)
    }
}

/// What is killed beside writing: it is as before, or as after.
fn other(role: &str, root: &Path, chance: &mut fastrand::Rng) -> Result<u64, String> {
    let folder = root.join(role);
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).map_err(told)?;
    let path = folder.join("fire.drawer");
    let prepared = prepare(role, &folder, chance.u64(..1_000)).map_err(told)?;
    let child = start(role, &folder, 0, 0);
    let said = killed(child, Duration::from_micros(chance.u64(..120_000)));
    if let Some(refused) = said.iter().find(|line| line.starts_with("refused")) {
        return Err(format!("refused: {refused}"));
    }
    prepared.check(role, &folder, &path).map_err(|what| format!("after {} times: {what}", said.len()))?;
    Ok(said.len() as u64)
}

/// What a file may hold when a role was killed.
pub(crate) struct Prepared {
    /// The lists that it may hold, in a drawer of the trial's own schema.
    may_hold: Vec<Model>,
}

/// Makes what a role works on.
pub(crate) fn prepare(role: &str, folder: &Path, seed: u64) -> Result<Prepared, Error> {
    let path = folder.join("fire.drawer");
    let mut may_hold = Vec::new();
    match role {
        "upgrade" => {
            let drawer = Drawer::options().relaxed().open(&path, versions::schema(1))?;
            drawer.insert_all((0..2_000).map(|n| v1::Piece {
                mark: format!("K-{n}"),
                wt: (n % 3 > 0).then_some(0.5),
                glaze: ["Tenmoku", "Shino", "", "Celadon"][n % 4].to_owned(),
                sketch: vec![7; 60],
            }))?;
            drawer.close()?;
        }
        "restore" => {
            may_hold.push(model::make(&folder.join("one"), seed, 30)?);
            may_hold.push(model::make(&folder.join("two"), seed + 1, 40)?);
            may_hold.push(model::make(&path, seed + 2, 20)?);
        }
        "ship" => may_hold.push(model::make(&folder.join("one"), seed, 60)?),
        "aside" => fs::write(folder.join("one"), "no drawer, and long enough to be taken for one; ".repeat(400))
            .map_err(Error::own)?,
        _ => may_hold.push(model::make(&path, seed, 60)?),
    }
    Ok(Prepared { may_hold })
}

impl Prepared {
    pub(crate) fn check(&self, role: &str, folder: &Path, path: &Path) -> Result<(), String> {
        let is_one = |path: &Path| -> Result<(), String> {
            let drawer = Drawer::open(path, model::schema()).map_err(told)?;
            drawer.close().map_err(told)?;
            let found = Model::read(path).map_err(told)?;
            if self.may_hold.contains(&found) {
                Ok(())
            } else {
                Err(format!("{} holds something else", path.display()))
            }
        };
        match role {
            "upgrade" => is_wholly_at_a_version(path),
            "aside" => {
                let whole = fs::read(folder.join("one")).map_err(told)?;
                let aside = files::names(folder).into_iter().filter(|name| name.starts_with("fire.set-aside"));
                let mut kept =
                    aside.map(|name| fs::read(folder.join(name))).collect::<Result<Vec<_>, _>>().map_err(told)?;
                let main = fs::read(path).unwrap_or_default();
                if kept.iter().any(|bytes| *bytes != whole) {
                    return Err("what was set aside is not whole".into());
                }
                kept.push(main.clone());
                let was_begun = kept.len() > 1 || !main.is_empty();
                if was_begun && !kept.contains(&whole) {
                    return Err("what was to be set aside is nowhere".into());
                }
                if main == whole || main.is_empty() { Ok(()) } else { opens(path) }
            }
            "rows" => {
                let found = {
                    opens(path)?;
                    Model::read(path).map_err(told)?
                };
                let new = found.glazes.iter().filter(|name| name.starts_with("I-")).count();
                let is_whole = new.is_multiple_of(200) && self.may_hold.iter().any(|m| m.pieces == found.pieces);
                if is_whole { Ok(()) } else { Err(format!("{new} of many times 200 rows")) }
            }
            "ship" => {
                let place = folder.join("shipped.drawer");
                if place.exists() { is_one(&place) } else { Ok(()) }
            }
            _ => {
                is_one(path)?;
                let made = files::names(folder)
                    .into_iter()
                    .filter(|n| n.starts_with("made-") && !n.contains("velvet-unfinished"));
                let made: Vec<String> = made.filter(|n| !n.ends_with("-wal") && !n.ends_with("-shm")).collect();
                made.iter().try_for_each(|name| is_one(&folder.join(name)))
            }
        }
    }
}

fn opens(path: &Path) -> Result<(), String> {
    Drawer::open(path, model::schema()).and_then(Drawer::close).map_err(told)
}

fn is_wholly_at_a_version(path: &Path) -> Result<(), String> {
    let file = Connection::open(path).map_err(told)?;
    let version: i64 = file.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(told)?;
    let table = if version == 1 { "piece" } else { "pot" };
    let rows: i64 = file.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0)).map_err(told)?;
    drop(file);
    if !matches!(version, 1 | 3) || rows != 2_000 {
        return Err(format!("version {version}, {rows} rows"));
    }
    let drawer = Drawer::open(path, versions::schema(version as u32)).map_err(told)?;
    drawer.close().map_err(told)
}
