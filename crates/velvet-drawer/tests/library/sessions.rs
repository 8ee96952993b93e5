//! What each start of the app did, across real processes, and whether a pulled file is all there.
//!
//! The processes are this test program again, started by the pretend phone for the test called `app`.

use crate::common;
use common::{Photo, Piece, folder, other_program, piece, schema};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};
use velvet_drawer::inspect::{File, Session, SessionEnd};
use velvet_drawer::{Drawer, Error, Trail};
use velvet_phone::app::{Signal, next_signal};
use velvet_phone::{Phone, Running, Sandbox};

const ROLE: &str = "VELVET_TEST_ROLE";

/// What the processes do; nothing where this is run as an ordinary test.
#[test]
fn app() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let path = velvet_phone::app::folders().unwrap().durable.join("kiln.drawer");
    // A start that keeps a trail says so by its version.
    let trail = if role == "with a trail" { Trail::Keys } else { Trail::Off };
    let drawer = Drawer::options().app_version(role).trail(trail).open(path, schema()).unwrap();
    let say = |line: &str| {
        println!("{line}");
        std::io::stdout().flush().unwrap();
    };
    say("opened");
    loop {
        match next_signal() {
            Signal::Background => drop(drawer.going_to_background(Duration::from_secs(5)).unwrap()),
            Signal::Foreground => drawer.back_in_foreground().unwrap(),
            Signal::Tap(mark) => drop(drawer.insert(piece(&mark)).unwrap()),
            Signal::Quit => break,
        }
        say("done");
    }
}

fn start(sandbox: &Sandbox, version: &str) -> Running {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "sessions::app", "--nocapture"]).env(ROLE, version);
    let mut running = sandbox.start(command).unwrap();
    running.wait_for("opened").unwrap();
    running
}

fn phone() -> (Phone, Sandbox, PathBuf) {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    (phone, sandbox, path)
}

fn sessions(path: &Path) -> Vec<Session> {
    File::open(path).unwrap().sessions(100).unwrap()
}

/// Waits until the file says what is expected of its sessions; they are written beside the app.
#[track_caller]
fn eventually(path: &Path, is_so: impl Fn(&[Session]) -> bool) -> Vec<Session> {
    let begun = Instant::now();
    loop {
        // An app that opens or closes the file while it is read is told as an error, which says to try again.
        let sessions = match File::open(path).and_then(|file| file.sessions(100)) {
            Err(error) if error.is_locked() => Vec::new(),
            other => other.unwrap(),
        };
        if is_so(&sessions) {
            return sessions;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "{sessions:#?}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn each_start_is_kept_with_what_it_wrote_and_how_it_ended() {
    let (_phone, sandbox, path) = phone();
    let mut first = start(&sandbox, "1.0");
    first.tap("K-1").unwrap();
    first.wait_for("done").unwrap();
    first.quit().unwrap();
    let mut second = start(&sandbox, "1.1");
    second.to_background().unwrap();
    second.wait_for("done").unwrap();
    second.to_foreground().unwrap();
    second.wait_for("done").unwrap();
    second.tap("K-2").unwrap();
    eventually(&path, |all| all.len() == 2 && !all[1].wrote.is_empty());
    assert_eq!(sessions(&path)[1].end, SessionEnd::Running { in_background: false });
    second.kill().unwrap();
    assert_eq!(sessions(&path)[1].end, SessionEnd::Open { in_background: false });
    let mut third = start(&sandbox, "1.2");
    third.to_background().unwrap();
    third.wait_for("done").unwrap();
    third.kill().unwrap();
    start(&sandbox, "1.3").quit().unwrap();

    let all = sessions(&path);
    let told: Vec<_> = all.iter().map(|s| (s.number, s.app_version.as_deref().unwrap(), s.end)).collect();
    let killed = |found_by, in_background| SessionEnd::Killed { found_by, in_background };
    let expected = [
        (1, "1.0", SessionEnd::Closed),
        (2, "1.1", killed(3, false)),
        (3, "1.2", killed(4, true)),
        (4, "1.3", SessionEnd::Closed),
    ];
    assert_eq!(told, expected);
    assert_eq!(all[0].opened.as_deref(), Some("created"));
    assert_eq!(all[0].wrote.len(), 1);
    assert_eq!((all[1].wrote[0].table.as_str(), all[1].wrote[0].inserted), ("piece", 1));
    assert!(matches!(&all[1].background[..], [(from, Some(to))] if from < to), "{:?}", all[1].background);
    assert!(matches!(&all[2].background[..], [(_, None)]), "{:?}", all[2].background);
    assert!(all.windows(2).all(|pair| pair[0].noted_at < pair[1].began_at && pair[0].process != pair[1].process));
}

#[test]
fn a_process_that_still_runs_is_not_taken_for_killed_by_another() {
    let (_phone, sandbox, path) = phone();
    let mut first = start(&sandbox, "1.0");
    eventually(&path, |all| all.len() == 1);
    let second = start(&sandbox, "share");
    eventually(&path, |all| all.len() == 2);
    second.quit().unwrap();
    first.tap("K-1").unwrap();
    first.wait_for("done").unwrap();
    first.quit().unwrap();
    assert_eq!(sessions(&path).iter().map(|s| s.end).collect::<Vec<_>>(), [SessionEnd::Closed; 2]);
}

#[test]
fn rows_are_counted_when_they_are_kept_and_not_when_they_are_rolled_back() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let pieces = drawer.insert_all(["K-1", "K-2", "K-3"].map(piece)).unwrap();
    let photo = |at: usize, side: &str| Photo { piece: pieces[at].key(), side: side.into() };
    drawer.insert_all([photo(0, "left"), photo(0, "right"), photo(1, "left")]).unwrap();
    drawer.insert(piece("K-1")).unwrap_err();
    drawer.write(|tx| tx.insert(piece("K-4")).and(Err::<(), _>(Error::own("no")))).unwrap_err();
    drawer
        .write(|tx| {
            let part = tx.part(|tx| tx.insert(piece("K-5")).and(Err::<(), _>(Error::own("no"))));
            assert!(part.is_err());
            // The first is changed before the second clashes.
            assert!(tx.sql("update piece set mark = 'same'").run().is_err());
            tx.change(pieces[2].key(), |p| p.grams = None)
        })
        .unwrap();
    // What goes with a record is counted too.
    drawer.remove(pieces[0].key()).unwrap();
    // Here the engine removes all rows at once.
    drawer.records::<Photo>().remove().unwrap();
    drawer.insert(photo(1, "left")).unwrap();
    drawer.remove_all::<Photo>().unwrap();
    drawer.insert(photo(1, "left")).unwrap();
    drawer.write(|tx| tx.sql("delete from photo").run()).unwrap();
    drawer.close().unwrap();
    let wrote = sessions(&path).remove(0).wrote;
    let told: Vec<_> = wrote.iter().map(|w| (w.table.as_str(), w.inserted, w.changed, w.removed)).collect();
    assert_eq!(told, [("photo", 5, 0, 5), ("piece", 3, 1, 1)]);
}

#[test]
fn sessions_are_kept_within_their_bound_and_not_at_all_where_they_are_off() {
    let (_folder, path) = folder();
    for _ in 0..5 {
        Drawer::options().sessions_kept(2).open(&path, schema()).unwrap().close().unwrap();
    }
    assert_eq!(sessions(&path).iter().map(|s| s.number).collect::<Vec<_>>(), [4, 5]);
    let before = std::fs::read(&path).unwrap();
    let drawer = Drawer::options().without_sessions().open(&path, schema()).unwrap();
    drawer.going_to_background(Duration::from_secs(5)).unwrap();
    drawer.close().unwrap();
    assert!(std::fs::read(&path).unwrap() == before);
}

/// What is said of a file before any of its rows is shown.
fn notes(path: &Path) -> String {
    match File::open(path).and_then(|file| file.notes()) {
        Ok(notes) => notes.join(" | "),
        Err(error) => error.to_string(),
    }
}

#[test]
fn a_pulled_file_that_is_not_all_there_is_told() {
    let (phone, sandbox, path) = phone();
    let pulled = |name: &str| phone.folder().join(name);
    let fill = |from: u64| {
        let drawer = Drawer::options().without_sessions().open(&path, schema()).unwrap();
        drawer
            .insert_all((from..from + 200).map(|n| Piece { remarks: "x".repeat(900), ..piece(&n.to_string()) }))
            .unwrap();
        drawer.close().unwrap();
    };
    fill(1_000);
    let early = sandbox.pull_alone("kiln.drawer", &pulled("early")).unwrap();
    // A file that keeps no sessions does not tell whether it was in use.
    assert!(notes(&early).starts_with("the program that writes this file keeps the newest changes in kiln.drawer-wal"));
    assert!(notes(&early).contains("possibly missing"), "{}", notes(&early));

    let mut running = start(&sandbox, "1.0");
    running.tap("K-1").unwrap();
    running.wait_for("done").unwrap();
    eventually(&path, |all| all.len() == 1 && !all[0].wrote.is_empty());
    let whole = sandbox.pull("kiln.drawer", &pulled("whole")).unwrap();
    assert!(notes(&whole).starts_with("the newest changes are not in this file but in kiln.drawer-wal beside it"));
    assert!(!notes(&whole).contains(" | "), "{}", notes(&whole));
    let alone = sandbox.pull_alone("kiln.drawer", &pulled("alone")).unwrap();
    assert!(
        notes(&alone).starts_with(
            "this file was possibly copied without its write-ahead log, kiln.drawer-wal: session 1 had begun"
        ),
        "{}",
        notes(&alone)
    );
    let log = |folder: &str| pulled(folder).join("kiln.drawer-wal");
    running.quit().unwrap();
    assert_eq!(notes(&path), "");

    // The file has gone on, or not come so far.
    fill(2_000);
    let mut second = start(&sandbox, "1.1");
    second.tap("K-2").unwrap();
    eventually(&path, |all| all.len() == 2 && !all[1].wrote.is_empty());
    let later = sandbox.pull("kiln.drawer", &pulled("later")).unwrap();
    second.kill().unwrap();
    std::fs::copy(log("later"), early.with_file_name("kiln.drawer-wal")).unwrap();
    assert!(notes(&early).contains("the file is older than the log"), "{}", notes(&early));
    std::fs::copy(log("whole"), log("later")).unwrap();
    assert!(notes(&later).contains("the log is older than the file"), "{}", notes(&later));
    std::fs::write(log("later"), "something else entirely, of thirty-two bytes and more").unwrap();
    assert!(notes(&later).contains("kiln.drawer-wal is no log of this file"), "{}", notes(&later));

    // A copy that was interrupted.
    let bytes = std::fs::read(&later).unwrap();
    let cut = pulled("cut.drawer");
    std::fs::write(&cut, &bytes[..bytes.len() / 8192 * 4096]).unwrap();
    assert!(notes(&cut).contains("this file is cut: it has "), "{}", notes(&cut));

    // A database without a log of ours, in the middle of a write.
    let old = pulled("old.db");
    let other = other_program(&old);
    other.execute_batch("CREATE TABLE t (a); INSERT INTO t VALUES (1); PRAGMA cache_size = 1; BEGIN").unwrap();
    for _ in 0..2_000 {
        other.execute("INSERT INTO t VALUES (randomblob(200))", []).unwrap();
    }
    assert!(notes(&old).starts_with("a write was not finished; the way back out of it is in old.db-journal"));
}

#[test]
fn a_session_that_was_taken_for_killed_by_mistake_says_that_it_is_there() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    eventually(&path, |all| all.len() == 1);
    assert_eq!(sessions(&path)[0].end, SessionEnd::Running { in_background: false });
    // As where another process has its number now.
    other_program(&path).execute_batch("UPDATE velvet_sessions SET process_began = process_began + 1").unwrap();
    assert_eq!(sessions(&path)[0].end, SessionEnd::Open { in_background: false });
    // As where the system does not tell whether a process is still there.
    other_program(&path).execute_batch("UPDATE velvet_sessions SET found_open_by = 2, process_began = NULL").unwrap();
    assert_eq!(sessions(&path)[0].end, SessionEnd::Killed { found_by: 2, in_background: false });
    drawer.going_to_background(Duration::from_secs(5)).unwrap();
    assert_eq!(sessions(&path)[0].end, SessionEnd::Open { in_background: true });
    drawer.back_in_foreground().unwrap();
    drawer.insert(piece("K-1")).unwrap();
    drawer.close().unwrap();
    assert_eq!(sessions(&path)[0].end, SessionEnd::Closed);
}

#[test]
fn noting_a_session_never_keeps_the_app_from_reading_or_holds_up_its_end() {
    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    let other = other_program(&path);
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    let drawer = Drawer::options().lock_timeout(Duration::from_millis(50)).open(&path, schema()).unwrap();
    // Another program writes all the time, so the session cannot be noted yet.
    assert_eq!(drawer.count::<Piece>().unwrap(), 0);
    assert!(drawer.insert(piece("K-1")).unwrap_err().is_locked());
    other.execute_batch("ROLLBACK").unwrap();
    drawer.insert(piece("K-1")).unwrap();
    eventually(&path, |all| all.len() == 2 && all[1].wrote.first().is_some_and(|w| w.inserted == 1));
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    // It closes all the same; that it did is not noted.
    drawer.close().unwrap();
    other.execute_batch("ROLLBACK").unwrap();
    drop(other);
    assert_ne!(sessions(&path)[1].end, SessionEnd::Closed);
}

#[test]
fn a_main_file_that_is_pulled_right_after_the_first_write_says_that_it_may_not_be_all() {
    let (phone, sandbox, path) = phone();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    for round in 0..25 {
        let mut running = start(&sandbox, "1.0");
        running.tap(&format!("K-{round}")).unwrap();
        running.wait_for("done").unwrap();
        let alone = sandbox.pull_alone("kiln.drawer", &phone.folder().join(format!("alone-{round}"))).unwrap();
        running.kill().unwrap();
        let after = sandbox.pull_alone("kiln.drawer", &phone.folder().join(format!("after-{round}"))).unwrap();
        for pulled in [alone, after] {
            let said = notes(&pulled);
            assert!(
                said.contains(&format!(
                    "possibly copied without its write-ahead log, kiln.drawer-wal: session {} had begun",
                    round + 2
                )),
                "{round}: {said}"
            );
        }
    }
}

#[test]
fn of_a_start_that_was_killed_the_trail_counts_what_it_wrote_and_else_it_is_at_least_what_was_noted() {
    let (_phone, sandbox, path) = phone();
    for version in ["1.0", "with a trail"] {
        let mut running = start(&sandbox, version);
        for n in 0..28 {
            running.tap(&format!("{version} {n}")).unwrap();
            running.wait_for("done").unwrap();
        }
        running.kill().unwrap();
    }
    let [without, with] = &sessions(&path)[..] else { panic!("two sessions") };
    assert!(
        without.may_have_written_more() && without.wrote.iter().all(|w| w.is_at_least && w.inserted <= 28),
        "{without:?}"
    );
    assert_eq!((with.wrote[0].inserted, with.wrote[0].is_at_least, with.may_have_written_more()), (28, false, false));
    start(&sandbox, "1.2").quit().unwrap();
    let last = &sessions(&path)[2];
    assert!(!last.may_have_written_more() && last.wrote.is_empty());
}

#[test]
fn an_app_can_look_into_its_own_file_the_moment_that_it_is_open() {
    for round in 0..100 {
        let (_folder, path) = folder();
        Drawer::open(&path, schema()).unwrap().close().unwrap();
        let drawer = Drawer::open(&path, schema()).unwrap();
        let written = round % 2;
        (0..written).for_each(|_| drop(drawer.insert(piece("K-1")).unwrap()));
        let file = File::open(&path).unwrap();
        // The session is written down while it looks.
        for _ in 0..10 {
            assert_eq!(file.overview().unwrap().tables[0].rows, Some(written));
        }
        assert!(file.check().unwrap().is_sound());
        drop(file);
        drawer.close().unwrap();
    }
}
