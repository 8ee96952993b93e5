//! The app in the background: what is given back, what goes on, and what idling costs.

use crate::common;
use common::{Glaze, Piece, folder, glaze, memory, other_program, piece, schema};
use std::path::Path;
use std::sync::mpsc;
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::{File, SessionEnd};
use velvet_drawer::{Drawer, Live, State};

const FOR_EVER: Duration = Duration::from_secs(30);

fn beside(path: &Path) -> Vec<String> {
    let all = std::fs::read_dir(path.parent().unwrap()).unwrap().flatten();
    let mut names: Vec<String> = all.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// How many of this process's open files are this one, or beside it.
fn handles(path: &Path) -> usize {
    let open =
        std::fs::read_dir("/proc/self/fd").unwrap().flatten().filter_map(|fd| std::fs::read_link(fd.path()).ok());
    open.filter(|open| open.to_string_lossy().starts_with(&*path.to_string_lossy())).count()
}

fn len<R: Clone + Send + Sync + 'static>(live: &Live<velvet_drawer::List<R>>) -> usize {
    if let State::Loaded(list) = live.now() { list.len() } else { 0 }
}

#[test]
fn in_the_background_nothing_is_held_and_all_is_merged_and_it_can_be_used_all_the_same() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let mut pieces = drawer.records::<Piece>().watch().unwrap();
    pieces.next().unwrap().unwrap();
    for n in 0..200 {
        drawer.insert(piece(&format!("K-{n}"))).unwrap();
    }
    while len(&pieces) < 200 {
        pieces.news_within(FOR_EVER).expect("what was written").unwrap();
    }
    drawer.records::<Piece>().suggest(|p| p.mark, "K", 3).unwrap();
    for round in 0..3 {
        let resting = drawer.going_to_background(FOR_EVER).unwrap();
        assert_eq!((resting.wal, resting.waiting, resting.going_on, resting.open_reads.len()), (0, 0, 0, 0));
        assert_eq!(handles(&path), 0, "no lock on the file is held");
        assert_eq!(beside(&path), ["kiln.drawer"], "all is merged");
        // What another program sees in the file alone.
        let count: i64 = other_program(&path).query_row("SELECT count(*) FROM piece", [], |row| row.get(0)).unwrap();
        assert_eq!(count, 200 + round * 2);
        if round == 0 {
            assert_eq!(drawer.count::<Piece>().unwrap(), 200, "reading opens it again");
            assert!(handles(&path) > 0);
            drawer.going_to_background(FOR_EVER).unwrap();
        }
        drawer.insert(piece(&format!("in the background {round}"))).unwrap();
        drawer.going_to_background(FOR_EVER).unwrap();
        assert_eq!((handles(&path), len(&pieces)), (0, 200 + round as usize * 2));
        drawer.back_in_foreground().unwrap();
        drawer.insert(piece(&format!("back {round}"))).unwrap();
        while len(&pieces) < 202 + round as usize * 2 {
            pieces.news_within(FOR_EVER).expect("what was written meanwhile").unwrap();
        }
    }
    drawer.going_to_background(FOR_EVER).unwrap();
    drawer.close().unwrap();
    let sessions = File::open(&path).unwrap().sessions(1).unwrap();
    assert!(matches!(sessions[0].end, SessionEnd::Closed), "{sessions:?}");
    let written = sessions[0].wrote.iter().find(|w| w.table == "piece").unwrap();
    assert_eq!((written.inserted, sessions[0].background.len()), (206, 4));
    assert!(!pieces.any(|update| update.is_err()) && pieces.is_over());

    let drawer = memory();
    drawer.insert(piece("K-1")).unwrap();
    drawer.going_to_background(FOR_EVER).unwrap();
    drawer.memory_is_low();
    assert_eq!(drawer.count::<Piece>().unwrap(), 1, "memory is all it has");
}

#[test]
fn works_are_finished_or_parked_within_the_time_that_there_is() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (go_on, wait) = mpsc::channel::<()>();
    let (begin, begun) = mpsc::channel();
    let long = drawer.later(move |d| {
        begin.send(()).unwrap();
        let _ = wait.recv_timeout(FOR_EVER);
        d.insert(piece("long"))
    });
    begun.recv_timeout(FOR_EVER).unwrap();
    let next = drawer.later(|d| d.insert(piece("next")));
    let other = drawer.clone();
    let beside_it = other.later(|d| d.insert(piece("beside it")));
    beside_it.wait().unwrap();
    let resting = drawer.going_to_background(Duration::from_millis(20)).unwrap();
    assert_eq!((resting.waiting, resting.going_on), (1, 1));
    let parked = other.later(|d| d.insert(piece("parked")));
    go_on.send(()).unwrap();
    long.wait().unwrap();
    thread::sleep(Duration::from_millis(60));
    assert!(!next.is_finished() && !parked.is_finished());
    let resting = drawer.going_to_background(FOR_EVER).unwrap();
    assert_eq!((resting.waiting, resting.going_on, handles(&path)), (2, 0, 0));
    drawer.back_in_foreground().unwrap();
    assert!(next.wait().is_ok() && parked.wait().is_ok());

    // What the app's own code holds is said, and given back when it lets go.
    drawer.insert(glaze("Celadon")).unwrap();
    drawer
        .read(|view| {
            view.count::<Piece>()?;
            other.insert_all((0..3).map(|n| glaze(&n.to_string()))).unwrap_err();
            let writes = other.clone();
            thread::spawn(move || writes.insert(glaze("while it is read")).unwrap()).join().unwrap();
            let resting = other.clone();
            let resting = thread::spawn(move || resting.going_to_background(FOR_EVER).unwrap()).join().unwrap();
            assert!(resting.open_reads.len() == 1 && resting.open_reads[0].at.file().ends_with("resting.rs"));
            assert!(resting.wal > 0, "what an older state is read beside stays in the log");
            Ok(())
        })
        .unwrap();
    assert_eq!(handles(&path), 0, "whoever has read closes what was kept open for it");
    drawer.insert(glaze("Shino")).unwrap();
    drawer
        .write(|tx| {
            tx.insert(glaze("Raku"))?;
            let busy = other.clone();
            let busy = thread::spawn(move || busy.going_to_background(Duration::from_millis(20)).unwrap_err());
            assert!(busy.join().unwrap().is_locked(), "somebody writes");
            assert!(drawer.going_to_background(FOR_EVER).unwrap_err().is_nested());
            Ok(())
        })
        .unwrap();
    assert_eq!((drawer.count::<Piece>().unwrap(), drawer.count::<Glaze>().unwrap()), (4, 4));
}

#[test]
fn a_file_that_was_replaced_while_the_app_rested_is_not_written_to() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    let copy = path.with_file_name("copy.drawer");
    drawer.copy_to(&copy).unwrap();
    drawer.going_to_background(FOR_EVER).unwrap();
    std::fs::rename(&copy, &path).unwrap();
    let before = std::fs::read(&path).unwrap();
    let error = drawer.insert(piece("K-2")).unwrap_err();
    assert!(error.is_displaced() && drawer.count::<Piece>().unwrap_err().is_displaced(), "{error}");
    drop(drawer);
    assert_eq!((std::fs::read(&path).unwrap(), beside(&path)), (before, vec!["kiln.drawer".to_owned()]));
}

#[test]
fn memory_is_given_back_and_what_is_needed_is_had_again() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..500).map(|n| Piece { remarks: "x".repeat(2_000), ..piece(&format!("K-{n}")) })).unwrap();
    thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| drawer.read(|view| view.records::<Piece>().collect().map(|all| all.len())).unwrap());
        }
    });
    drawer.records::<Piece>().suggest(|p| p.mark, "K", 3).unwrap();
    let before = handles(&path);
    drawer.memory_is_low();
    assert!(handles(&path) < before, "{before}");
    assert_eq!(drawer.records::<Piece>().suggest(|p| p.mark, "K", 3).unwrap().len(), 3);
    assert_eq!(drawer.count::<Piece>().unwrap(), 500);
    drawer.insert(piece("more")).unwrap();
}

/// How often the threads of this process that the library has started ran so far, by the system's count.
#[cfg(target_os = "linux")]
fn wake_ups() -> u64 {
    let of = |task: &Path| {
        let status = std::fs::read_to_string(task.join("status")).unwrap_or_default();
        let value = |name: &str| status.lines().find_map(|l| Some(l.strip_prefix(name)?.trim().to_owned()));
        value("Name:").filter(|name| name.starts_with("velvet-"))?;
        let count = |name| value(name).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0);
        Some(count("voluntary_ctxt_switches:") + count("nonvoluntary_ctxt_switches:"))
    };
    std::fs::read_dir("/proc/self/task").unwrap().flatten().filter_map(|t| of(&t.path())).sum()
}

const ROLE: &str = "VELVET_TEST_IDLES";

/// Idles with everything in use, in a process of its own: threads of other tests would be counted.
#[test]
#[cfg(target_os = "linux")]
fn idler() {
    if std::env::var(ROLE).is_err() {
        return;
    }
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let lists: Vec<_> = (1..20).map(|n| drawer.records::<Piece>().limit(n).watch().unwrap()).collect();
    let count = drawer.watch(|view| view.count::<Piece>()).unwrap();
    let work = drawer.later(|d| d.insert_all((0..9).map(|n| piece(&format!("K-{n}")))));
    work.wait().unwrap();
    // Notes and results of what was written may still be to come.
    let mut quiet = 0;
    for _ in 0..40 {
        let before = wake_ups();
        thread::sleep(Duration::from_millis(500));
        quiet = if wake_ups() == before { quiet + 1 } else { 0 };
        if quiet == 3 {
            println!("idle");
            break;
        }
    }
    assert!(quiet == 3 && lists.iter().all(|list| len(list) > 0) && !count.is_over());
}

#[test]
#[cfg(target_os = "linux")]
fn idling_wakes_nobody() {
    let mut command = std::process::Command::new(std::env::current_exe().unwrap());
    let out = command.args(["--exact", "resting::idler", "--nocapture"]).env(ROLE, "").output().unwrap();
    assert!(String::from_utf8_lossy(&out.stdout).contains("idle\n"), "{out:?}");
}

#[test]
fn how_a_drawer_fares_is_told_without_values() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let _list = drawer.records::<Piece>().watch().unwrap();
    drawer.insert_all((0..9).map(|n| piece(&format!("K-{n}")))).unwrap();
    drawer.insert(piece("K-1")).unwrap_err();
    drawer
        .write(|_| {
            let waits = drawer.clone();
            let waits = thread::spawn(move || waits.insert(piece("waited")).map(drop));
            thread::sleep(Duration::from_millis(30));
            Ok(waits)
        })
        .unwrap()
        .join()
        .unwrap()
        .unwrap();
    drawer.records::<Piece>().filter(|p| p.mark.is("K-2")).remove().unwrap();
    let open = drawer.read(|view| view.count::<Piece>().map(|_| drawer.clone())).unwrap();
    let health = open.health().unwrap();
    assert_eq!((health.commits, health.failed, health.rows, health.followed), (4, 1, Some([10, 0, 1]), 1));
    assert!(health.longest_wait > Duration::from_millis(20) && health.waiting >= health.longest_wait);
    assert!(health.writing > Duration::from_millis(20) && health.bytes > 4_096 && health.wal > 0);
    assert!(health.longest_read.is_none());
    let text = serde_json::to_string(&health).unwrap();
    assert!(!text.contains("K-") && !text.contains("piece") && text.contains("\"commits\":4"), "{text}");
}

#[test]
fn an_app_that_rests_as_soon_as_it_has_opened_leaves_nothing_open() {
    // What begins a session beside the app may be anywhere in its work.
    std::thread::scope(|scope| {
        for thread in 0..4 {
            scope.spawn(move || {
                for n in 0..100 {
                    let (_folder, path) = folder();
                    let drawer = Drawer::open(&path, schema()).unwrap();
                    std::thread::sleep(Duration::from_micros(40 * ((n + 25 * thread) % 100)));
                    let resting = drawer.going_to_background(Duration::from_secs(5)).unwrap();
                    assert_eq!((resting.wal, resting.going_on), (0, 0), "{n}");
                }
            });
        }
    });
}

#[test]
fn a_write_that_goes_on_in_the_background_closes_the_file_when_it_has_finished() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-0")).unwrap();
    for comes_back in [false, true] {
        let (begun, begins) = mpsc::channel();
        let (go_on, goes_on) = mpsc::channel();
        let writer = drawer.clone();
        let writing = thread::spawn(move || {
            writer.write(|tx| {
                begun.send(()).unwrap();
                goes_on.recv().unwrap();
                tx.insert(piece(if comes_back { "K-2" } else { "K-1" })).map(drop)
            })
        });
        begins.recv().unwrap();
        // Another one waits for it, as the note of a session may, and gets the file first.
        let waits = drawer.clone();
        let waiting = thread::spawn(move || waits.insert(piece(if comes_back { "K-4" } else { "K-3" })));
        let error = drawer.going_to_background(Duration::from_millis(50)).unwrap_err();
        let words = [
            "within 50ms: another thread is still writing",
            "resting.rs:",
            "is closed when that thread has finished",
            "again",
        ];
        words.iter().for_each(|word| assert!(error.is_locked() && error.to_string().contains(word), "{word}: {error}"));
        if comes_back {
            // Noting that waits for the writer.
            let back = drawer.clone();
            let is_back = thread::spawn(move || back.back_in_foreground());
            while drawer.later(|_| Ok(())).wait().is_err() {}
            go_on.send(()).unwrap();
            writing.join().unwrap().unwrap();
            is_back.join().unwrap().unwrap();
            waiting.join().unwrap().unwrap();
            assert!(handles(&path) > 0, "it is needed again");
        } else {
            go_on.send(()).unwrap();
            writing.join().unwrap().unwrap();
            waiting.join().unwrap().unwrap();
            assert_eq!((handles(&path), beside(&path)), (0, vec!["kiln.drawer".to_owned()]), "merged and closed");
        }
    }
    assert_eq!(drawer.count::<Piece>().unwrap(), 5);
}
