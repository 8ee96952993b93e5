//! Devices that fail: each call once, or all from one on, as on a full device.

use crate::files;
use crate::kills::{Prepared, prepare};
use crate::model::Model;
use crate::trial::{Rounds, Trial};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// What is done on a failing device.
const ROLES: [&str; 10] =
    ["write", "upgrade", "compact", "copy", "restore", "import", "rows", "salvage", "ship", "aside"];

/// How calls fail: an error once; no space from there on; an error from there on.
const WAYS: [(&str, bool); 3] = [("5", false), ("28", true), ("5", true)];

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let Some(shim) = shim(folder.path()) else {
        trial.found("no C compiler for what lets calls fail");
        return;
    };
    let mut totals = Vec::new();
    for role in ROLES {
        match once(&shim, folder.path(), role, 0, WAYS[0]) {
            Ok(calls) => totals.push((role, calls)),
            Err(what) => trial.found(format!("{role} on a sound device: {what}")),
        }
    }
    // All of them in order, where there is time for it; else some.
    let all: Vec<(&str, u64, usize)> = totals
        .iter()
        .flat_map(|(role, calls)| (1..=*calls).flat_map(move |at| (0..WAYS.len()).map(move |way| (*role, at, way))))
        .collect();
    let mut next = 0;
    while let Some(mut chance) = trial.next() {
        let tried = match trial.rounds() {
            Rounds::Time(_) if next == all.len() => break,
            Rounds::Time(_) => Some(&all[next]),
            Rounds::Count(_) => chance.choice(&all),
        };
        next += 1;
        let Some((role, at, way)) = tried else { break };
        trial.count("calls failed", 1);
        if let Err(what) = once(&shim, folder.path(), role, *at, WAYS[*way]) {
            trial.found(format!(
                "{role}, call {at}, error {} {}: {what}",
                WAYS[*way].0,
                if WAYS[*way].1 { "from there on" } else { "once" }
            ));
        }
    }
    trial.count("calls there are, in three ways", all.len() as u64);
}

/// Compiles what lets calls fail.
pub(crate) fn shim(folder: &Path) -> Option<PathBuf> {
    let (source, made) = (folder.join("failing.c"), folder.join("failing.so"));
    fs::write(&source, include_str!("../shim/failing.c")).ok()?;
    let compiled =
        Command::new("cc").args(["-shared", "-fPIC", "-O1", "-w", "-o"]).arg(&made).arg(&source).arg("-ldl").status();
    compiled.is_ok_and(|status| status.success()).then_some(made)
}

/// Plays a role while the call at a place fails, and looks at what is left. Returns how many calls there were.
fn once(shim: &Path, root: &Path, role: &str, at: u64, (error, forever): (&str, bool)) -> Result<u64, String> {
    let folder = root.join("device");
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
    let (path, seed) = (folder.join("fire.drawer"), 7);
    let prepared: Prepared = prepare(role, &folder, seed).map_err(|e| e.to_string())?;
    let count = root.join("count");
    let mut command = Command::new(std::env::current_exe().map_err(|e| e.to_string())?);
    command.arg("app").arg(format!("once {role}")).arg(&folder).args([seed.to_string(), "60".to_owned()]);
    command
        .env("LD_PRELOAD", shim)
        .env("FIRE_FAIL_AT", at.to_string())
        .env("FIRE_ERROR", error)
        .env("FIRE_COUNT", &count);
    if forever {
        command.env("FIRE_FOREVER", "1");
    }
    let output = command.stdin(Stdio::null()).output().map_err(|e| e.to_string())?;
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let last = said.lines().last().unwrap_or_default();
    match output.status.code() {
        Some(0) if last == "done" => {}
        Some(3) if last.starts_with("refused: ") && last.contains(". ") => {}
        code => return Err(format!("ended with {code:?}: {last} {}", String::from_utf8_lossy(&output.stderr))),
    }
    // Where nothing can be removed any more, what is not finished stays, under a name that says so.
    let is_made =
        |name: &String| (name.starts_with("made-") || name == "shipped.drawer") && !name.contains("velvet-unfinished");
    let made = || files::names(&folder).into_iter().filter(is_made);
    if last.contains("Nothing was created") && made().next().is_some() {
        return Err(format!("{:?} is there; it said {last}", made().collect::<Vec<_>>()));
    }
    if role == "write" {
        let acknowledged = said.lines().filter_map(|line| line.parse().ok()).next_back().unwrap_or(60);
        let drawer = velvet_drawer::Drawer::open(&path, crate::model::schema()).map_err(|e| e.to_string())?;
        drawer.close().map_err(|e| e.to_string())?;
        let found = Model::read(&path).map_err(|e| e.to_string())?;
        let model = Model::after(seed, acknowledged);
        let mut next = model.clone();
        next.apply(&model.change(seed, acknowledged));
        if found != model && found != next {
            return Err(format!("{acknowledged} acknowledged, and something else is there; it said {last}"));
        }
    } else {
        prepared.check(role, &folder, &path).map_err(|what| format!("{what}; it said {last}"))?;
    }
    Ok(fs::read_to_string(count).ok().and_then(|text| text.trim().parse().ok()).unwrap_or_default())
}
