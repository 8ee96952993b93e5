//! The history file is what the types say, or the test that asks fails.

use crate::schema::{Declared, Schema};
use std::fs;
use std::io;
use std::io::Write as _;
use std::path::Path;
use velvet_core::evolve::{Draft, History, Step, draft};

/// Which way to take: nothing to check, `record` to write a version, `release` to close the newest one.
const MODE: &str = "VELVET_HISTORY";

/// The command that runs the test at hand so that it records. Others would fail: they were built with the history as it was.
pub(super) fn record_command() -> String {
    let thread = std::thread::current();
    // The runner names the thread of a test after it.
    match thread.name() {
        Some(test) if test != "main" => format!("{MODE}=record cargo test {test}"),
        _ => format!("{MODE}=record cargo test"),
    }
}

/// Whether this run records.
pub(super) fn is_recording() -> bool {
    std::env::var(MODE).is_ok_and(|mode| mode == "record")
}

/// Says it also where the runner keeps back what a test that passes prints.
pub(super) fn say(words: &str) {
    // Where nobody listens there is nobody to tell.
    let _ = writeln!(io::stderr(), "\n{words}");
}

/// Sees that the history file at `path` leads to the structure that `schema` declares. Call it in a test.
///
/// The path is relative to the package, as `include_str!` in its `src` sees it one folder up.
///
/// - Run with `VELVET_HISTORY=record`, it writes the drafted changes as a new version, or as the newest one again while that
///   is not released, for review in the diff. What was written there by hand stays.
/// - Run with `VELVET_HISTORY=release`, it marks the newest version as released: it is never changed again.
///
/// # Panics
/// When they differ: with the difference in words, what would be written, and the command to accept it; or with what cannot
/// be known, and the attribute that says it.
#[track_caller]
pub fn history_is_current(schema: &Schema, path: impl AsRef<Path>) {
    let path = path.as_ref();
    let mode = std::env::var(MODE).unwrap_or_default();
    match check(schema, path, &mode) {
        Ok(Some(said)) => say(&said),
        Ok(None) => {}
        Err(why) => panic!("\n\n{why}\n"),
    }
}

/// What to say, or why it fails.
fn check(schema: &Schema, path: &Path, mode: &str) -> Result<Option<String>, String> {
    let declared = schema.clone().sound().map_err(|e| e.to_string())?;
    let recording = match mode {
        "" => false,
        "record" => true,
        "release" => return release(&declared, path).map(Some),
        other => return Err(format!("{MODE}={other} is not known: write `record` or `release`")),
    };
    let text = match fs::read_to_string(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return start(&declared, path, recording).map(Some),
        Err(error) => return Err(format!("{} cannot be read: {error}", path.display())),
    };
    let history = parsed(&declared, path, &text)?;
    is_carried(&declared, &history, path)?;
    let codes: Vec<String> = declared.codes.iter().map(|(name, _)| name.clone()).collect();
    if let Some(name) = history.codes().find(|name| !codes.iter().any(|code| code == name)) {
        return Err(format!(
            "{} runs the code `{name}`, which is not in the schema. Register it with `.code(\"{name}\", …)`",
            path.display()
        ));
    }
    let is_new = |code: &&String| !history.codes().any(|name| name == *code);
    let new_codes: Vec<&String> = codes.iter().filter(is_new).collect();
    let (base, version) = history.base().map_err(|p| p.to_string())?;
    let is_same = history.fingerprint == declared.fingerprint && new_codes.is_empty();
    // While a version is not released, what the fields say of its changes may still be corrected.
    if is_same && (base.is_none() || version > history.newest) {
        return Ok(None);
    }
    let drafted = match &base {
        Some(base) => draft(base, &declared.structure, schema.hints(), history.unreleased(), &history.earlier()),
        None => Draft::default(),
    };
    let unmentioned: Vec<String> = new_codes.iter().map(|name| (*name).clone()).collect();
    let recorded = history.recorded(&declared.structure, drafted.clone(), &unmentioned);
    if drafted.questions.is_empty() && recorded == history {
        return Ok(None);
    }
    let mut said = vec![difference(&history, &declared, &drafted, &recorded, version, path)?];
    said.extend(outdated(&history, &recorded));
    if !drafted.warnings.is_empty() {
        said.push(format!("Mind that:\n{}", listed(&drafted.warnings)));
    }
    if !drafted.questions.is_empty() {
        said.push(format!("Before it can be recorded, say:\n{}", listed(&drafted.questions)));
        return Err(said.join("\n"));
    }
    if recording {
        write(path, &recorded)?;
        said.push(format!(
            "Recorded in {}. Read the diff before you check it in. Tests that were built with the history as it was fail in this run: \
             run cargo test again.",
            path.display()
        ));
        return Ok(Some(said.join("\n")));
    }
    said.push(format!("To record it, run: {}", record_command()));
    Err(said.join("\n"))
}

fn parsed(declared: &Declared, path: &Path, text: &str) -> Result<History, String> {
    let history = History::parse(text).map_err(|problem| format!("{}: {problem}", path.display()))?;
    if history.app != declared.app {
        return Err(format!("{} is the history of {:?}, not of {:?}", path.display(), history.app, declared.app));
    }
    Ok(history)
}

/// Sees that the schema carries the history that is on disk: by another one, or none, users' files would be refused.
fn is_carried(declared: &Declared, history: &History, path: &Path) -> Result<(), String> {
    let name = format!(".history(include_str!(\"…/{}\"))", path.file_name().unwrap_or_default().to_string_lossy());
    let Some(text) = &declared.history else {
        return Err(format!(
            "The schema does not name its history, so files of earlier versions would be refused on phones. Add {name} to it"
        ));
    };
    let carried = History::parse(text).map_err(|problem| format!("the history that the schema names: {problem}"))?;
    if carried == *history {
        return Ok(());
    }
    Err(format!(
        "The schema carries another history than {}: its newest version is {}, and that of the file is {}. Name this file in the schema, {name}, and \
         remove copies of it",
        path.display(),
        carried.newest,
        history.newest
    ))
}

fn start(declared: &Declared, path: &Path, recording: bool) -> Result<String, String> {
    if recording {
        write(path, &History::start(&declared.app, &declared.structure))?;
        return Ok(format!(
            "Recorded version 1 in {0}. Name it in the schema: .history(include_str!(\"../{0}\"))",
            path.display()
        ));
    }
    Err(format!(
        "{} does not exist yet: no version was recorded. To record version 1, run: {}",
        path.display(),
        record_command()
    ))
}

fn release(declared: &Declared, path: &Path) -> Result<String, String> {
    let text = fs::read_to_string(path).map_err(|e| format!("{} cannot be read: {e}", path.display()))?;
    let mut history = parsed(declared, path, &text)?;
    is_carried(declared, &history, path)?;
    if history.fingerprint != declared.fingerprint {
        return Err(format!(
            "the types are not as version {} was recorded. First run: {}",
            history.newest,
            record_command()
        ));
    }
    if let Some(newest) = history.versions.first_mut() {
        newest.released = true;
    }
    write(path, &history)?;
    Ok(format!("Version {} is released in {}.", history.newest, path.display()))
}

/// What differs, in words, and where it would be written.
fn difference(
    history: &History,
    declared: &Declared,
    drafted: &Draft,
    recorded: &History,
    version: u32,
    path: &Path,
) -> Result<String, String> {
    let place = if version > history.newest {
        format!("version {version}, which is new")
    } else {
        format!("version {version} again, which is not released")
    };
    let is_new = |step: &&Step| matches!(step, Step::Code { .. }) && !history.unreleased().contains(step);
    let mut changes = Vec::new();
    // In the order in which they would run.
    let mut now = history.base().ok().and_then(|(base, _)| base).unwrap_or_default();
    for step in recorded.unreleased() {
        if drafted.changes.contains(step) || is_new(&step) {
            changes.push(step.in_words(&now));
        }
        let _ = step.apply(&mut now);
    }
    if drafted.changes.is_empty() {
        let recorded = history.structure(history.newest).map_err(|p| p.to_string())?;
        let differences = declared.structure.differences(&recorded);
        changes.extend(differences.into_iter().map(|d| d.replace("in the file", "in the history")));
    }
    Ok(format!("The types are not what {} says. This would be {place}:\n{}", path.display(), listed(&changes)))
}

/// What the version that is recorded again had, and will not have any more.
fn outdated(history: &History, recorded: &History) -> Option<String> {
    let outdated = history.unreleased().iter().filter(|c| !recorded.unreleased().contains(c));
    let outdated: Vec<String> = outdated.map(ToString::to_string).collect();
    (!outdated.is_empty()).then(|| format!("In their place it has until now:\n{}", listed(&outdated)))
}

fn listed(lines: &[String]) -> String {
    lines.iter().map(|line| format!("  - {line}\n")).collect::<String>().trim_end().to_owned()
}

fn write(path: &Path, history: &History) -> Result<(), String> {
    fs::write(path, history.to_json()).map_err(|e| format!("{} cannot be written: {e}", path.display()))
}
