//! The tour: several starts of the app on the pretend phone, each a process of its own.

use crate::app::FILE;
use crate::kilnbook::version_3;
use std::error::Error;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread;
use std::time::Duration;
use velvet_drawer::Drawer;
use velvet_drawer::inspect::{Exchange, File, Limits, import, import_sql};
use velvet_phone::{Phone, Running, Sandbox};

/// What the tour leaves to look at.
#[derive(Debug)]
pub struct Toured {
    /// The app's file, as the last start left it.
    pub drawer: PathBuf,
    /// A copy of it from before the first upgrade, to rehearse on.
    pub at_version_1: PathBuf,
    /// The file as it was pulled off the phone while the app ran, without what stood beside it.
    pub pulled_alone: PathBuf,
    /// The app's newest history file.
    pub history: PathBuf,
}

/// Runs the tour on a pretend phone below `folder`, telling it to `out`. `app` makes the command that runs the app's start
/// with a name; it must end in [`crate::run`].
///
/// # Errors
/// When the app cannot be started, or does not say what it should.
pub fn tour(folder: &Path, app: &dyn Fn(&str) -> io::Result<Command>, out: &mut dyn Write) -> io::Result<Toured> {
    let phone = Phone::at(folder.join("phone"))?;
    let sandbox = phone.sandbox("kilnbook")?;
    writeln!(out, "A pottery studio keeps its kiln log on a phone. Each start below is a process of its own.\n")?;

    tell_start(out, 1, "the first time, on a new phone")?;
    let mut running = start(&sandbox, app, "first")?;
    relay(out, &running.wait_for("stored")?)?;
    quit(out, running)?;

    tell_start(out, 2, "the next day; once it is sent to the background and comes back")?;
    let mut running = start(&sandbox, app, "second")?;
    relay(out, &running.wait_for("found")?)?;
    running.to_background()?;
    running.to_foreground()?;
    relay(out, &running.wait_for("moved")?)?;
    quit(out, running)?;

    tell_start(out, 3, "killed by the phone in the middle of a transaction")?;
    let mut running = start(&sandbox, app, "third")?;
    relay(out, &running.wait_for("acknowledged")?)?;
    relay(out, &running.wait_for("in the middle")?)?;
    running.kill()?;
    writeln!(out, "    ✗ killed\n")?;

    tell_start(out, 4, "what was acknowledged is there, the rest is not")?;
    let mut running = start(&sandbox, app, "fourth")?;
    relay(out, &running.wait_for("found")?)?;
    quit(out, running)?;
    let drawer = sandbox.durable().join(FILE);
    let at_version_1 = folder.join("kiln-at-version-1.drawer");
    fs::copy(&drawer, &at_version_1)?;

    tell_start(out, 5, "version 2 of the app is installed: pieces stand on shelves")?;
    let mut running = start(&sandbox, app, "fifth")?;
    relay_until(out, &mut running, "put")?;
    quit(out, running)?;

    tell_start(out, 6, "version 3: glazes become records of their own, weights become grams")?;
    let mut running = start(&sandbox, app, "sixth")?;
    relay_until(out, &mut running, "found")?;
    quit(out, running)?;

    let other = phone.sandbox("kilnbook-on-a-tablet")?;
    fs::copy(&at_version_1, other.durable().join(FILE))?;
    tell_start(out, 7, "a tablet that skipped version 2 takes both steps at once")?;
    let mut running = start(&other, app, "sixth")?;
    relay_until(out, &mut running, "found")?;
    quit(out, running)?;
    writeln!(out, "Now four things go wrong. Afterwards the shop asks: where are our cups, and where is K-104?\n")?;
    tell_start(out, 8, "the app keeps a trail now; it is killed while it stores a set of cups")?;
    let mut running = start(&sandbox, app, "seventh")?;
    relay(out, &running.wait_for("weighed")?)?;
    relay(out, &running.wait_for("storing the cups")?)?;
    running.kill()?;
    writeln!(out, "    ✗ killed\n")?;

    tell_start(out, 9, "two of the cups are stored again; and somebody mistypes a mark")?;
    let mut running = start(&sandbox, app, "eighth")?;
    relay(out, &running.wait_for("stored")?)?;
    relay(out, &running.wait_for("changed")?)?;
    quit(out, running)?;

    tell_start(out, 10, "one more cup, while somebody pulls the file off the phone, and only that one file")?;
    let mut running = start(&sandbox, app, "ninth")?;
    relay(out, &running.wait_for("open")?)?;
    // As somebody who takes a cup from the wheel first.
    thread::sleep(Duration::from_millis(700));
    running.tap("store")?;
    relay(out, &running.wait_for("stored")?)?;
    let pulled_alone = sandbox.pull_alone(FILE, &folder.join("pulled-alone"))?;
    writeln!(out, "    · {FILE} is pulled, and what stands beside it is not")?;
    quit(out, running)?;

    tell_start(out, 11, "version 1 of the app, installed again by mistake, meets the newer file")?;
    let mut running = start(&sandbox, app, "old")?;
    relay(out, &running.wait_for("refused")?)?;
    running.quit()?;
    writeln!(out)?;
    let history = folder.join("kilnbook.history.json");
    leave_samples(folder, &drawer, &at_version_1).map_err(io::Error::other)?;
    fs::write(&history, version_3::HISTORY)?;
    move_house(folder, out).map_err(io::Error::other)?;
    Ok(Toured { drawer, at_version_1, pulled_alone, history })
}

/// Files beside the phone to try commands on: the newest state, one from before, one of a new user's, and one that is damaged.
fn leave_samples(folder: &Path, drawer: &Path, at_version_1: &Path) -> Result<(), Box<dyn Error + Send + Sync>> {
    let kiln = folder.join(FILE);
    File::open(drawer)?.copy_to(&kiln, false)?;
    Drawer::options().without_sessions().open(folder.join("empty.drawer"), version_3::schema())?.close()?;
    let yesterday = folder.join("yesterday.drawer");
    fs::copy(at_version_1, &yesterday)?;
    // The app as it was yesterday, but for what it wrote today.
    let upgraded = Drawer::options().without_sessions().open(&yesterday, version_3::schema())?;
    let backup = upgraded.opened().upgraded.as_ref().and_then(|u| u.backup.clone());
    upgraded.close()?;
    backup.map_or(Ok(()), fs::remove_file)?;
    let mut bytes = fs::read(&kiln)?;
    let page = 4096;
    let damaged = bytes.len() / page / 2 * page;
    bytes[damaged..damaged + 3 * page].fill(0);
    fs::write(folder.join("damaged.drawer"), bytes)?;
    Ok(())
}

/// Takes everything out of the newest file and into new ones, and compares.
fn move_house(folder: &Path, out: &mut dyn Write) -> Result<(), Box<dyn Error + Send + Sync>> {
    writeln!(out, "  Everything goes out in open formats, and into new files")?;
    let kiln = File::open(folder.join(FILE))?;
    let (by_sql, by_lines) = (folder.join("moved-by-sql.drawer"), folder.join("moved-by-json.drawer"));
    let mut sql = Vec::new();
    kiln.export_all(Exchange::SqlText, &mut sql)?;
    let statements = import_sql(&by_sql, std::str::from_utf8(&sql)?, &Limits::default())?;
    relay(out, &format!("{FILE} became {statements} statements in SQL, and those became moved-by-sql.drawer"))?;
    let mut lines = Vec::new();
    kiln.export_all(Exchange::JsonLines, &mut lines)?;
    Drawer::options().without_sessions().open(&by_lines, version_3::schema())?.close()?;
    let rows = import(&by_lines, None, Exchange::JsonLines, &mut lines.as_slice(), &Limits::default())?;
    relay(out, &format!("its rows became {rows} lines of JSON, and those became moved-by-json.drawer"))?;
    for moved in [by_sql, by_lines] {
        let comparison = kiln.compare(&File::open(&moved)?, &mut |_| Ok(()))?;
        if !comparison.is_same() {
            return Err(format!("{} is not the same", moved.display()).into());
        }
        let drawer = Drawer::options().without_sessions().open(&moved, version_3::schema())?;
        let found = drawer.records::<version_3::Piece>().search("cup").count()?;
        drawer.close()?;
        let name = moved.file_name().unwrap_or_default().to_string_lossy().into_owned();
        relay(out, &format!("compared: {name} holds the same records, and “cup” is found in {found} of its pieces"))?;
    }
    Ok(writeln!(out)?)
}

fn start(sandbox: &Sandbox, app: &dyn Fn(&str) -> io::Result<Command>, name: &str) -> io::Result<Running> {
    sandbox.start(app(name)?)
}

fn tell_start(out: &mut dyn Write, number: u32, what: &str) -> io::Result<()> {
    writeln!(out, "  Start {number}: {what}")
}

fn relay(out: &mut dyn Write, line: &str) -> io::Result<()> {
    writeln!(out, "    · {line}")
}

/// Relays all that the app says, up to the line that contains `words`.
fn relay_until(out: &mut dyn Write, running: &mut Running, words: &str) -> io::Result<()> {
    loop {
        let line = running.wait_for("")?;
        relay(out, &line)?;
        if line.contains(words) {
            return Ok(());
        }
    }
}

fn quit(out: &mut dyn Write, running: Running) -> io::Result<()> {
    let (status, said) = running.quit()?;
    if !status.success() {
        return Err(io::Error::other(format!("the app ended with {status}; it said:\n{}", said.join("\n"))));
    }
    writeln!(out, "    · closed\n")
}
