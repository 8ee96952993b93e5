//! The app's first screen while a long upgrade runs: nothing is loaded yet, how far it has come, then the list. Afterwards the phone sends the app to the
//! background in the middle of its work, and kills it there.
//!
//! `cargo run -p velvet-demo --example first_screen`

use std::error::Error;
use std::io::{self, Write};
use std::path::Path;
use std::process::Command;
use std::thread;
use std::time::Duration;
use velvet_demo::kilnbook::version_3::Piece;
use velvet_demo::kilnbook::{version_1, version_3};
use velvet_demo::samples;
use velvet_drawer::inspect::{File, SessionEnd};
use velvet_drawer::{Drawer, List, State, Step, Stored};
use velvet_phone::Phone;
use velvet_phone::app::{Signal, folders, next_signal};

/// Draws one frame: the screen never waits for the file.
fn draw(live: Option<&State<List<Stored<Piece>>>>, doing: &str) -> String {
    match live {
        None | Some(State::Loading) => format!("[ kiln log ]  not loaded yet  {doing}"),
        Some(State::Loaded(pieces)) if pieces.is_empty() => "[ kiln log ]  no pieces".to_owned(),
        Some(State::Loaded(pieces)) => {
            let marks: Vec<&str> = pieces.iter().take(4).map(|p| p.mark.as_str()).collect();
            format!("[ kiln log ]  {} pieces: {}, …", pieces.len(), marks.join(", "))
        }
        Some(State::Failed { error, .. }) => format!("[ kiln log ]  cannot be read just now: {error}"),
    }
}

fn first_screen(path: &Path) -> Result<(), Box<dyn Error>> {
    let slow = Drawer::options().app_version("3.0").slow_upgrade(Duration::from_millis(150));
    let opening = slow.open_in_background(path, version_3::schema());
    let mut shown = String::new();
    let mut show = |frame: String| {
        if frame != shown {
            println!("{frame}");
            shown = frame;
        }
    };
    while !opening.is_finished() {
        let at = opening.progress();
        let doing = at.doing.split(": ").next().unwrap_or_default();
        show(draw(
            None,
            &if at.parts > 0 { format!("{doing}, {} of {} done", at.parts_done, at.parts) } else { String::new() },
        ));
        thread::sleep(Duration::from_millis(16));
    }
    let drawer = opening.wait()?;
    let mut pieces = drawer.records::<Piece>().sort_by(|p| p.mark.descending()).watch()?;
    show(draw(Some(&pieces.now()), ""));
    while !matches!(pieces.now(), State::Loaded(_)) {
        thread::sleep(Duration::from_millis(1));
    }
    show(draw(Some(&pieces.now()), ""));
    drop(pieces.news());

    let newest = drawer.records::<Piece>().sort_by(|p| p.mark.descending()).first()?.ok_or("the demo has pieces")?;
    let removed = drawer.later(move |d| d.remove(newest.key()));
    if let Some(update) = pieces.news_within(Duration::from_secs(5)) {
        let update = update.map_err(|failed| failed.to_string())?;
        assert!(matches!(update.steps()[..], [Step::Removed { at: 0, .. }]));
    }
    removed.wait()?;
    show(draw(Some(&pieces.now()), ""));
    drawer.close()?;
    Ok(())
}

/// The app on the phone: it is in the middle of its work when it is sent to the background.
fn app() -> Result<(), Box<dyn Error>> {
    let folders = folders().ok_or("the phone starts this")?;
    let drawer = Drawer::options().app_version("3.0").open(folders.durable.join("kiln.drawer"), version_3::schema())?;
    let weigh = |n: u32| {
        drawer.later(move |d| {
            thread::sleep(Duration::from_millis(20));
            let first = d.records::<Piece>().first()?;
            first.map(|p| d.change(p.key(), |p| p.remarks = format!("weighed {n} times"))).transpose()
        })
    };
    let works: Vec<_> = (1..=40).map(weigh).collect();
    thread::sleep(Duration::from_millis(130));
    say("works")?;
    while let Signal::Background = next_signal() {
        let resting = drawer.going_to_background(Duration::from_millis(500))?;
        let (done, wal) = (works.len() - resting.waiting, resting.wal);
        say(&format!("rests: {done} works are done, {} wait, the log has {wal} bytes", resting.waiting))?;
    }
    Ok(())
}

fn say(line: &str) -> io::Result<()> {
    println!("{line}");
    io::stdout().flush()
}

fn main() -> Result<(), Box<dyn Error>> {
    if std::env::args().any(|argument| argument == "app") {
        return app();
    }
    let phone = Phone::temporary()?;
    let sandbox = phone.sandbox("kilnbook")?;
    let path = sandbox.durable().join("kiln.drawer");
    let old = Drawer::open(&path, version_1::schema())?;
    let firings = old.insert_all(samples::firings())?;
    old.insert_all(samples::pieces(&firings))?;
    old.close()?;

    println!("Version 3 of the app starts with the file of version 1:");
    first_screen(&path)?;

    println!("\nThe phone sends the app to the background in the middle of its work, and kills it there:");
    let mut command = Command::new(std::env::current_exe()?);
    command.arg("app");
    let mut running = sandbox.start(command)?;
    running.wait_for("works")?;
    running.to_background()?;
    println!("  {}", running.wait_for("rests")?);
    running.kill()?;
    let log = path.with_file_name("kiln.drawer-wal");
    println!("  killed; {} write-ahead log is beside the file", if log.exists() { "a" } else { "no" });
    let drawer = Drawer::options().app_version("3.0").open(&path, version_3::schema())?;
    let first = drawer.records::<Piece>().first()?.ok_or("the demo has pieces")?;
    println!("  the next start finds: {}, {}", first.mark, first.remarks);
    drawer.close()?;
    match &File::open(&path)?.sessions(2)?[0].end {
        SessionEnd::Killed { in_background: true, .. } => println!("  the start before was killed in the background"),
        other => println!("  the start before: {other:?}"),
    }
    Ok(())
}
