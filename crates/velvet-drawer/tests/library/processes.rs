//! Persistence across real processes: kills, several at once, the very first open.
//!
//! The processes are this test program again, started by the pretend phone for the test called `app`.

use crate::common;
use common::versions::{self, v1, v3};
use common::{Glaze, Piece, glaze, other_program, piece, schema};
use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::inspect::{Did, File, SessionEnd, TrailOf};
use velvet_drawer::{Drawer, Error, Key, Position, Record, Schema, State, Step, Trail};
use velvet_phone::{Phone, Running, Sandbox};

const ROLE: &str = "VELVET_TEST_ROLE";

/// How often to kill an upgrade; more than by default when somebody wants to be sure.
const KILLS: &str = "VELVET_TEST_KILLS";

/// How many pieces the file to be upgraded has.
const ROWS: u64 = 30_000;

fn start(sandbox: &Sandbox, role: &str) -> Running {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "processes::app", "--nocapture"]).env(ROLE, role);
    sandbox.start(command).unwrap()
}

fn say(line: &str) {
    println!("{line}");
    std::io::stdout().flush().unwrap();
}

/// Words that are searched and shared.
#[derive(Record)]
#[record(shared)]
struct Word {
    #[record(own_key)]
    number: u64,
    #[record(searchable)]
    text: String,
}

#[derive(Record)]
struct Shelf {
    room: String,
}

#[derive(Record)]
struct Jar {
    #[record(searchable)]
    label: String,
    order: u32,
    #[record(link(on_delete = remove))]
    shelf: Key<Shelf>,
}

fn shelves() -> Schema {
    Schema::new("shelves").record::<Shelf>().record::<Jar>()
}

/// How many jars stand on the shelf before each transaction.
const JARS: u32 = 20;

/// Puts two jars on the shelf, and takes two away.
fn move_jars(drawer: &Drawer, order: u32) -> Result<(), Error> {
    drawer.write(|tx| {
        let shelf = tx.records::<Shelf>().first()?.expect("a shelf").key();
        tx.insert_all([0, 1].map(|_| Jar { label: format!("jar {order}"), order, shelf }))?;
        tx.records::<Jar>().filter(|j| j.order.is(order - JARS / 2)).remove().map(drop)
    })
}

fn words() -> Schema {
    Schema::new("words").record::<Word>()
}

/// What the processes do; nothing where this is run as an ordinary test.
#[test]
fn app() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let path = velvet_phone::app::folders().unwrap().durable.join("kiln.drawer");
    let options = Drawer::options().lock_timeout(Duration::from_secs(30));
    if role == "upgrade" {
        say("begins to upgrade");
        let drawer = match options.open(path, versions::schema(3)) {
            Ok(drawer) => drawer,
            Err(error) => {
                say(&format!("refused: {error}"));
                return;
            }
        };
        say("upgraded");
        let upgraded = drawer.opened().upgraded.as_ref();
        assert!(upgraded.is_none_or(|u| !u.versions.is_empty()), "whoever came second upgraded nothing");
        assert_eq!(drawer.count::<v3::Piece>().unwrap(), ROWS);
        return;
    }
    if role == "write with a trail for ever" {
        let options = options.trail(Trail::Before).trail_kept(10_000_000, Duration::from_secs(1 << 30));
        let drawer = options.open(path, schema()).unwrap();
        let mut last = drawer
            .records::<Piece>()
            .sort_by(|p| p.key().descending())
            .first()
            .unwrap()
            .map_or(0, |p| p.key().number());
        for round in 0_u32.. {
            let stored = drawer.insert_all((0..3).map(|n| piece(&format!("{}-{n}", last + 1)))).unwrap();
            last = stored[2].key().number();
            let newest = stored[0].key();
            drawer.records::<Piece>().filter(|p| p.key().at_least(newest)).update(|p| p.grams.set(round)).unwrap();
            drawer.remove(stored[1].key()).unwrap();
            say(&format!("kept {round}"));
        }
        return;
    }
    if role == "write words for ever" {
        let drawer = options.open(path, words()).unwrap();
        for round in drawer.count::<Word>().unwrap().. {
            let word = |n: u64| Word { number: n, text: format!("glaze {n} of {round}") };
            drawer.insert_all((0..40).map(|n| word(1_000 * round + 100 + n))).unwrap();
            drawer.refresh((0..60).map(word)).run().unwrap();
            drawer.records::<Word>().filter(|w| w.number.is(round % 60)).remove().unwrap();
            say(&format!("kept {round}"));
        }
        return;
    }
    if role == "move jars for ever" {
        let drawer = options.open(path, shelves()).unwrap();
        for order in JARS / 2.. {
            move_jars(&drawer, order).unwrap();
            say("moved");
        }
        return;
    }
    if role == "restore for ever" {
        loop {
            for copy in ["one.drawer", "two.drawer"] {
                Drawer::restore(&path, path.with_file_name(copy)).unwrap();
                say("kept");
            }
            for copy in Drawer::kept_copies(&path).unwrap() {
                std::fs::remove_file(copy.path).unwrap();
            }
        }
    }
    if role == "compact for ever" {
        let drawer = options.open(path, schema()).unwrap();
        loop {
            say("kept");
            drawer.compact().unwrap();
        }
    }
    let drawer = options.open(path, schema()).unwrap();
    match role.as_str() {
        "write for ever" => {
            for n in drawer.count::<Piece>().unwrap().. {
                let pair = drawer.write(|tx| {
                    let glaze = tx.insert(glaze(&n.to_string()))?;
                    tx.insert(Piece { glaze: Some(glaze.key()), remarks: "x".repeat(3_000), ..piece(&n.to_string()) })
                });
                pair.unwrap();
                say(&format!("kept {}", n + 1));
            }
        }
        "move weight" => move_weight(&drawer, 150),
        "go on after a failed part" => {
            let result = drawer.write(|tx| {
                tx.insert(piece("first"))?;
                // Larger than what the engine holds in memory, so that it meets the full device before the commit.
                let large = (0..60).map(|n| Piece { remarks: "x".repeat(400_000), ..piece(&format!("large {n}")) });
                assert!(tx.part(|tx| tx.insert_all(large)).is_err());
                let _ = tx.insert(piece("last"));
                Ok(())
            });
            say(&format!("{} pieces after {:?}", drawer.count::<Piece>().unwrap(), result.map_err(|e| e.to_string())));
        }
        "count up" => {
            let key = Key::<Piece>::from_number(1);
            for _ in 0..50 {
                drawer.change(key, |p| p.grams = p.grams.map(|g| g + 1)).unwrap();
            }
        }
        mark => {
            drawer.insert(piece(mark)).unwrap();
        }
    }
}

/// Moves a gram from one piece to another, so that what all weigh together stays the same.
fn move_weight(drawer: &Drawer, times: u32) {
    let (one, other) = (Key::<Piece>::from_number(1), Key::<Piece>::from_number(2));
    for _ in 0..times {
        let moved = drawer.write(|tx| {
            tx.change(one, |p| p.grams = p.grams.map(|g| g - 1))?;
            tx.change(other, |p| p.grams = p.grams.map(|g| g + 1))
        });
        moved.unwrap();
    }
}

#[test]
fn what_is_found_and_what_is_linked_is_of_one_state_while_another_process_writes() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let options = Drawer::options().lock_timeout(Duration::from_secs(60));
    let drawer = options.open(sandbox.durable().join("kiln.drawer"), shelves()).unwrap();
    let shelf = drawer.insert(Shelf { room: "glazing".into() }).unwrap().key();
    let jars = (0..JARS).map(|n| Jar { label: format!("jar {}", n / 2), order: n / 2, shelf });
    drawer.insert_all(jars).unwrap();
    let mut running = start(&sandbox, "move jars for ever");
    let mut seen = std::collections::BTreeSet::new();
    while seen.len() < 30 {
        running.wait_for("moved").unwrap();
        let found = drawer.records::<Jar>().search("jar").only(|j| (j.label, j.order)).collect().unwrap();
        assert!(found.len() == JARS as usize && found.iter().all(|(label, order)| *label == format!("jar {order}")));
        let newest = drawer
            .records::<Shelf>()
            .with(|s| s.linked_from::<Jar>(|j| j.shelf).sort_by(|j| j.order.descending()).limit(5))
            .collect()
            .unwrap();
        let orders: Vec<u32> = newest[0].1.iter().map(|jar| jar.order).collect();
        let last = orders[0];
        assert_eq!(orders, [last, last, last - 1, last - 1, last - 2]);
        seen.insert(last);
    }
    running.kill().unwrap();
}

#[test]
fn many_threads_and_two_processes_lose_nothing_and_never_see_half_a_transaction() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let options = Drawer::options().lock_timeout(Duration::from_secs(60));
    let drawer = options.open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
    drawer.insert_all(["K-1", "K-2"].map(|mark| Piece { grams: Some(5_000), ..piece(mark) })).unwrap();
    let running = start(&sandbox, "move weight");
    let done = std::sync::atomic::AtomicU32::new(0);
    let reads: u32 = thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                move_weight(&drawer, 50);
                done.fetch_add(1, std::sync::atomic::Ordering::Release);
            });
        }
        let readers: Vec<_> = (0..6)
            .map(|_| {
                scope.spawn(|| {
                    let mut reads = 0;
                    while done.load(std::sync::atomic::Ordering::Acquire) < 4 {
                        assert_eq!(drawer.records::<Piece>().sum(|p| p.grams).unwrap(), 10_000);
                        let apart = drawer.read(|view| {
                            let grams = |n| {
                                Ok::<_, velvet_drawer::Error>(
                                    view.get(Key::<Piece>::from_number(n))?.and_then(|p| p.grams).unwrap_or(0),
                                )
                            };
                            Ok::<u32, velvet_drawer::Error>(grams(1)? + grams(2)?)
                        });
                        assert_eq!(apart.unwrap(), 10_000);
                        reads += 1;
                    }
                    reads
                })
            })
            .collect();
        readers.into_iter().map(|reader| reader.join().unwrap()).sum()
    });
    let (status, said) = running.quit().unwrap();
    assert!(status.success(), "{said:?}");
    assert!(reads > 0);
    assert_eq!(drawer.get(Key::<Piece>::from_number(1)).unwrap().unwrap().grams, Some(5_000 - 4 * 50 - 150));
}

#[test]
fn what_was_acknowledged_survives_a_kill_and_nothing_is_half_there() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let mut acknowledged = 0;
    for round in 0..15 {
        let mut running = start(&sandbox, "write for ever");
        running.wait_for("kept").unwrap();
        thread::sleep(Duration::from_millis(round * 7 % 40));
        for line in running.kill().unwrap() {
            if let Some((_, number)) = line.split_once("kept ") {
                acknowledged = number.parse().unwrap();
            }
        }
        let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
        let (pieces, glazes) = (drawer.count::<Piece>().unwrap(), drawer.count::<Glaze>().unwrap());
        assert!(pieces >= acknowledged, "{acknowledged} were acknowledged, {pieces} are there");
        assert_eq!(pieces, glazes, "half a transaction is there");
        assert!(pieces <= acknowledged + 1);
        drawer.close().unwrap();
    }
    assert!(acknowledged > 15);
}

#[test]
fn a_kill_leaves_the_search_index_and_what_is_kept_of_changes_as_the_records_are() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("words").unwrap();
    for round in 0..12 {
        let mut running = start(&sandbox, "write words for ever");
        running.wait_for("kept").unwrap();
        thread::sleep(Duration::from_millis(round * 11 % 60));
        running.kill().unwrap();
        let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), words()).unwrap();
        assert!(drawer.search_index_is_sound::<Word>().unwrap());
        let rows = drawer.count::<Word>().unwrap();
        assert_eq!(drawer.records::<Word>().search("glaze").count().unwrap(), rows);
        let changes = drawer.changes_since(Position::START).of::<Word>().unwrap();
        let written = changes.iter().filter(|c| matches!(c, velvet_drawer::Changed::Written(_))).count();
        assert_eq!(written as u64, rows);
        drawer.close().unwrap();
    }
}

#[test]
fn a_kill_while_the_file_is_compacted_loses_nothing() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    let open = || Drawer::open(&path, schema()).unwrap();
    let drawer = open();
    let large = |n: u32| Piece { remarks: "x".repeat(2_000), ..piece(&format!("K-{n}")) };
    drawer.insert_all((0..2_000).map(large)).unwrap();
    drawer.records::<Piece>().filter(|p| p.key().more_than(Key::from_number(1_200))).remove().unwrap();
    let before: Vec<_> = drawer.records::<Piece>().collect().unwrap();
    let space = drawer.space().unwrap();
    assert!(space.unused > space.bytes / 10 && space.needed < 2 * space.bytes, "{space:?}");
    drawer.close().unwrap();
    for round in 0..8 {
        let mut running = start(&sandbox, "compact for ever");
        running.wait_for("kept").unwrap();
        thread::sleep(Duration::from_millis(round * 13 % 70));
        running.kill().unwrap();
        assert!(open().records::<Piece>().collect().unwrap() == before);
    }
    let drawer = open();
    let after = drawer.compact().unwrap();
    assert!(after.bytes < space.bytes && after.unused == 0, "{after:?}");
    assert!(drawer.records::<Piece>().collect().unwrap() == before);
    drawer.close().unwrap();
    assert!(
        std::fs::metadata(&path).unwrap().len() == after.bytes
            && velvet_drawer::inspect::File::open(&path).unwrap().check().unwrap().is_sound()
    );
}

#[test]
fn processes_that_open_a_new_drawer_at_the_same_time_share_it() {
    for _ in 0..4 {
        let phone = Phone::temporary().unwrap();
        let sandbox = phone.sandbox("kilnbook").unwrap();
        let running: Vec<Running> = ["A", "B", "C", "D"].iter().map(|mark| start(&sandbox, mark)).collect();
        for app in running {
            let (status, said) = app.quit().unwrap();
            assert!(status.success(), "{said:?}");
        }
        let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
        assert_eq!(drawer.count::<Piece>().unwrap(), 4);
    }
}

#[test]
fn processes_that_change_one_record_lose_no_update() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
    let key = drawer.insert(piece("K-1")).unwrap().key();
    let running = [start(&sandbox, "count up"), start(&sandbox, "count up")];
    for app in running {
        assert!(app.quit().unwrap().0.success());
    }
    assert_eq!(drawer.get(key).unwrap().unwrap().grams, Some(740));
}

/// A file of version 1 with many rows.
#[test]
fn a_screen_shows_what_other_processes_wrote_also_when_they_are_killed() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let options = Drawer::options().others_noticed_within(Duration::from_millis(20));
    let drawer = options.open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.descending());
    let mut screen = sorted().watch().unwrap();
    let mut shown: Vec<i64> = Vec::new();
    for _ in 0..2 {
        let running = start(&sandbox, "write for ever");
        let seen = shown.len();
        // It sees them while they come, and they do not wait for it.
        while shown.len() < seen + 20 {
            let update = screen.news_within(Duration::from_secs(30)).expect("what the other process wrote").unwrap();
            for step in update.steps() {
                match step {
                    Step::Removed { at, .. } => drop(shown.remove(at)),
                    Step::Added { at, number } => shown.insert(at, number),
                    Step::Moved { .. } | Step::Changed { .. } => panic!("nobody changes any: {step:?}"),
                }
            }
            assert!(shown.iter().copied().eq(update.result.numbers()));
        }
        running.kill().unwrap();
        let expected: Vec<i64> = sorted().collect().unwrap().iter().map(|p| p.key().number()).collect();
        let begun = Instant::now();
        while !matches!(screen.now(), State::Loaded(now) if now.numbers().eq(expected.iter().copied())) {
            assert!(begun.elapsed() < Duration::from_secs(30));
            thread::sleep(Duration::from_millis(5));
        }
    }
    // The file is that of this process, too.
    let own = drawer.insert(piece("own")).unwrap();
    while !matches!(screen.now(), State::Loaded(now) if now.iter().any(|p| p.key() == own.key())) {
        screen.news_within(Duration::from_secs(30)).expect("what this process wrote").unwrap();
    }
}

fn many_rows(path: &Path) {
    let drawer = Drawer::options().relaxed().open(path, versions::schema(1)).unwrap();
    let piece = |n| {
        let glaze = ["Tenmoku", "Shino", "", "Celadon"][n as usize % 4].to_owned();
        v1::Piece { mark: format!("K-{n}"), wt: (n % 3 > 0).then_some(0.5), glaze, sketch: vec![7; 60] }
    };
    let stored = drawer.insert_all((0..ROWS).map(piece)).unwrap();
    let photos = stored.iter().step_by(3).map(|p| v1::Photo { piece: p.key(), side: "front".into() });
    drawer.insert_all(photos).unwrap();
    drawer.close().unwrap();
}

/// Sees that the file is wholly at version 1 or wholly at version 3, and says which.
#[track_caller]
fn whole_at_one_version(path: &Path) -> i64 {
    let file = other_program(path);
    let number = |text: &str| -> i64 { file.query_row(text, [], |row| row.get(0)).unwrap() };
    let version = number("PRAGMA user_version");
    let (table, glazes) = match version {
        1 => ("piece", "SELECT count(*) FROM piece WHERE glaze <> ''"),
        3 => ("pot", "SELECT count(*) FROM pot JOIN glaze ON pot.glaze = glaze.key"),
        other => panic!("the file is at version {other}"),
    };
    assert_eq!(number(&format!("SELECT count(*) FROM {table}")), ROWS as i64);
    assert_eq!(
        number(&format!("SELECT count(*) FROM photo JOIN {table} ON photo.piece = {table}.key")),
        ROWS as i64 / 3
    );
    assert_eq!(number(glazes), ROWS as i64 * 3 / 4);
    assert_eq!(file.query_row("PRAGMA quick_check", [], |row| row.get::<_, String>(0)).unwrap(), "ok");
    let tables = number("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite%'");
    assert_eq!(tables, if version == 1 { 5 } else { 7 }, "something is left of an upgrade");
    version
}

#[test]
fn an_upgrade_that_is_killed_leaves_the_file_wholly_old_or_wholly_new() {
    let kills: u32 = std::env::var(KILLS).ok().and_then(|n| n.parse().ok()).unwrap_or(10);
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let (base, path) = (phone.folder().join("base.drawer"), sandbox.durable().join("kiln.drawer"));
    many_rows(&base);
    let fresh = || {
        std::fs::remove_dir_all(sandbox.durable()).unwrap();
        std::fs::create_dir_all(sandbox.durable()).unwrap();
        std::fs::copy(&base, &path).unwrap();
    };
    fresh();
    let begun = Instant::now();
    let mut running = start(&sandbox, "upgrade");
    running.wait_for("upgraded").unwrap();
    running.quit().unwrap();
    assert_eq!(whole_at_one_version(&path), 3);
    let whole = begun.elapsed();

    let mut ends = [0; 4];
    let mut version = 3;
    for kill in 0..kills {
        // Some kills hit a file on which an earlier upgrade was killed already.
        if kill % 3 == 0 || version == 3 {
            fresh();
        }
        let mut running = start(&sandbox, "upgrade");
        running.wait_for("begins to upgrade").unwrap();
        thread::sleep(whole * (kill * 37 % 140) / 100);
        running.kill().unwrap();
        version = whole_at_one_version(&path);
        ends[version as usize] += 1;
    }
    println!("{kills} kills: {} left the file old, {} new", ends[1], ends[3]);
    let drawer = Drawer::open(&path, versions::schema(3)).unwrap();
    assert_eq!(drawer.count::<v3::Piece>().unwrap(), ROWS);
    drawer.close().unwrap();
    let left: Vec<_> = std::fs::read_dir(sandbox.durable()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert!(left.len() <= 2, "the file, and what it was before: {left:?}");
}

#[test]
fn processes_that_upgrade_one_file_at_the_same_time_do_it_once() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    many_rows(&path);
    let running: Vec<Running> = (0..4).map(|_| start(&sandbox, "upgrade")).collect();
    for app in running {
        let (status, said) = app.quit().unwrap();
        assert!(status.success(), "{said:?}");
    }
    assert_eq!(whole_at_one_version(&path), 3);
}

/// Starts the app on a device where no file can grow beyond this many bytes.
fn start_with_space_for(bytes: u64, sandbox: &Sandbox, role: &str) -> Running {
    let mut command = Command::new("bash");
    let script = format!("trap '' XFSZ; ulimit -f {}; exec \"$0\" --exact processes::app --nocapture", bytes / 1024);
    command.args(["-c", &script]).arg(std::env::current_exe().unwrap()).env(ROLE, role);
    sandbox.start(command).unwrap()
}

#[test]
fn an_upgrade_without_space_leaves_the_file_old_and_says_so() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    many_rows(&path);
    let size = std::fs::metadata(&path).unwrap().len();
    let mut refused = 0;
    // From too little for the copy of the file as it was, over too little for the log, to enough.
    for percent in [30, 90, 110, 130, 160, 400] {
        let (status, said) = start_with_space_for(size * percent / 100, &sandbox, "upgrade").quit().unwrap();
        assert!(status.success(), "{said:?}");
        let version = whole_at_one_version(&path);
        match said.iter().find(|line| line.contains("refused: ")) {
            Some(line) => {
                refused += 1;
                assert_eq!(version, 1);
                assert!(line.contains("The file is as it was, at version 1"), "{line}");
                assert!(
                    line.contains("the device failed to read or write") || line.contains("no space left"),
                    "{line}"
                );
            }
            None => assert_eq!(version, 3, "{percent}: {said:?}"),
        }
    }
    assert!((2..6).contains(&refused), "{refused}");
}

#[test]
fn a_kill_while_a_copy_is_restored_leaves_the_one_file_or_the_other() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    for (name, pieces) in [("one.drawer", 1), ("two.drawer", 2), ("kiln.drawer", 1)] {
        let drawer = Drawer::open(sandbox.durable().join(name), schema()).unwrap();
        drawer
            .insert_all((0..pieces).map(|n| Piece { remarks: "x".repeat(200_000), ..piece(&n.to_string()) }))
            .unwrap();
        drawer.close().unwrap();
    }
    let mut seen = [0; 3];
    for kill in 0..12 {
        let mut running = start(&sandbox, "restore for ever");
        running.wait_for("kept").unwrap();
        thread::sleep(Duration::from_millis(kill * 7 % 40));
        running.kill().unwrap();
        let other = other_program(&path);
        let pieces: i64 = other.query_row("SELECT count(*) FROM piece", [], |row| row.get(0)).unwrap();
        seen[pieces as usize] += 1;
        let sound: String = other.query_row("PRAGMA integrity_check", [], |row| row.get(0)).unwrap();
        assert_eq!(sound, "ok");
    }
    assert_eq!(seen[0], 0, "never none");
    assert!(Drawer::open(&path, schema()).is_ok());
}

#[test]
fn a_write_that_met_a_full_device_in_one_of_its_parts_keeps_all_of_the_rest_or_nothing() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    for kilobytes in [300, 1_000, 3_000] {
        let running = start_with_space_for(kilobytes * 1_024, &sandbox, "go on after a failed part");
        let (status, said) = running.quit().unwrap();
        assert!(status.success(), "{said:?}");
        let said = said.iter().find(|line| line.contains("pieces after")).unwrap();
        let left: i64 = other_program(&path).query_row("SELECT count(*) FROM piece", [], |row| row.get(0)).unwrap();
        let whole = if said.contains("Ok(()") { 2 } else { 0 };
        assert_eq!(left, whole, "{said}");
        other_program(&path).execute("DELETE FROM piece", []).unwrap();
    }
}

#[test]
fn after_any_kill_the_trail_tells_all_that_is_there_and_which_start_wrote_it() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    let kills = 6;
    for kill in 0..kills {
        let mut running = start(&sandbox, "write with a trail for ever");
        running.wait_for("kept 1").unwrap();
        thread::sleep(Duration::from_millis(37 * kill));
        running.kill().unwrap();
        let file = File::open(&path).unwrap();
        let trail = file.trail(&TrailOf::default()).unwrap();
        let mut there = std::collections::BTreeSet::new();
        for entry in trail.iter().rev() {
            match entry.did {
                Did::Inserted => assert!(there.insert(entry.row)),
                Did::Changed => assert!(there.contains(&entry.row)),
                Did::Removed => assert!(there.remove(&entry.row)),
            }
        }
        let rows: Vec<i64> = {
            let other = other_program(&path);
            let mut statement = other.prepare("SELECT key FROM piece ORDER BY key").unwrap();
            let rows = statement.query_map([], |row| row.get(0)).unwrap();
            rows.map(Result::unwrap).collect()
        };
        assert_eq!(there.into_iter().collect::<Vec<_>>(), rows);
        let sessions = file.sessions(100).unwrap();
        assert_eq!(sessions.len() as u64, kill + 1);
        assert!(trail.iter().all(|e| sessions.iter().any(|s| Some(s.number) == e.session)));
        assert!(sessions[..kill as usize].iter().all(|s| matches!(s.end, SessionEnd::Killed { .. })), "{sessions:?}");
        assert!(file.check().unwrap().is_sound());
    }
}

#[test]
fn a_widget_reads_beside_the_app_and_never_keeps_it_waiting() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    let widget = || Drawer::options().read_only().others_noticed_within(Duration::from_millis(10));
    let missing = widget().open(&path, schema()).unwrap_err();
    assert!(missing.is_file_missing() && !path.exists(), "{missing}");
    let mut running = start(&sandbox, "write for ever");
    running.wait_for("kept").unwrap();

    let drawer = widget().open(&path, schema()).unwrap();
    let seen = drawer.count::<Piece>().unwrap();
    let mut live = drawer.watch(|view| view.count::<Piece>()).unwrap();
    while !matches!(live.now(), State::Loaded(count) if count > seen + 20) {
        live.news_within(Duration::from_secs(30)).expect("what the app wrote").unwrap();
    }
    let refused = [
        drawer.insert(piece("mine")).map(drop).unwrap_err(),
        drawer.records::<Piece>().remove().map(drop).unwrap_err(),
        drawer.write(|tx| tx.sql("delete from piece").run()).map(drop).unwrap_err(),
        drawer.refresh([piece("mine")]).run().map(drop).unwrap_err(),
        drawer.compact().map(drop).unwrap_err(),
    ];
    assert!(
        refused.iter().all(|error| error.is_read_only() && error.to_string().contains("only to be read")),
        "{refused:?}"
    );
    // It reads one state for as long as it likes, and the app goes on.
    drawer
        .read(|view| {
            let before = view.count::<Piece>()?;
            let more = |count: u64| count > before + 5;
            while !matches!(live.now(), State::Loaded(count) if more(count)) {
                live.news_within(Duration::from_secs(30)).expect("what the app goes on writing").unwrap();
            }
            assert_eq!(view.count::<Piece>()?, before);
            Ok(())
        })
        .unwrap();
    let kept = running.kill().unwrap();
    let last: u64 = kept.last().unwrap().strip_prefix("kept ").unwrap().parse().unwrap();
    assert!(drawer.count::<Piece>().unwrap() >= last, "what a killed app left in its log is seen");
    let copy = path.with_file_name("copy.drawer");
    drawer.copy_to(&copy).unwrap();
    assert!(drawer.going_to_background(Duration::from_secs(1)).is_ok());
    assert!(drawer.count::<Piece>().unwrap() >= last);
    let not_shared = Drawer::open(&path, schema()).unwrap_err();
    assert!(not_shared.to_string().contains("read_only"), "{not_shared}");
    drawer.close().unwrap();
    let app = Drawer::open(&path, schema()).unwrap();
    app.insert(piece("the app")).unwrap();
    let sessions = File::open(&path).unwrap().sessions(9).unwrap();
    assert_eq!(sessions.len(), 2, "a widget is no session");
    app.close().unwrap();

    std::fs::remove_file(&path).unwrap();
    Drawer::open(&path, versions::schema(1)).unwrap().close().unwrap();
    let before = std::fs::read(&path).unwrap();
    let older = widget().open(&path, versions::schema(3)).unwrap_err();
    assert!(older.is_other_structure() && older.to_string().contains("version 1"), "{older}");
    assert!(std::fs::read(&path).unwrap() == before);
}
