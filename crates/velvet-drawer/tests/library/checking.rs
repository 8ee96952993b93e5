//! Whether a file is sound.

use crate::common;
use common::{folder, other_program};
use velvet_drawer::inspect::{Checked, File, Limits, Page, ProblemKind, TrailOf, salvage};
use velvet_drawer::{Choice, Drawer, Key, Record, Schema, Trail};

#[derive(Choice, Clone, Copy, Debug)]
enum Stage {
    Thrown,
    Fired,
}

#[derive(Record)]
struct Glaze {
    #[record(own_key, searchable)]
    name: String,
}

#[derive(Record)]
struct Piece {
    #[record(unique)]
    mark: String,
    stage: Stage,
    grams: Option<u16>,
    thrown: jiff::civil::Date,
    #[record(json)]
    tags: Vec<String>,
    glaze: Key<Glaze>,
    #[record(private)]
    price: Option<u16>,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Piece>().record::<Glaze>()
}

fn filled(path: &std::path::Path, pieces: u32) {
    let drawer = Drawer::options().trail(Trail::Before).open(path, schema()).unwrap();
    let glaze = drawer.insert(Glaze { name: "Celadon".into() }).unwrap().key();
    let piece = |n: u32| Piece {
        mark: format!("K-{n}"),
        stage: if n.is_multiple_of(2) { Stage::Thrown } else { Stage::Fired },
        grams: None,
        thrown: jiff::civil::date(2025, 3, 8),
        tags: vec![],
        glaze,
        price: None,
    };
    drawer.insert_all((1..=pieces).map(piece)).unwrap();
    drawer.close().unwrap();
}

/// How many damaged files to look into; more than by default when somebody wants to be sure.
const DAMAGES: &str = "VELVET_TEST_DAMAGES";

fn check(path: &std::path::Path) -> Checked {
    let before = std::fs::read(path).unwrap();
    let (checked, rows) = common::with_last_progress(|| File::open(path).unwrap().check().unwrap());
    assert_eq!(rows, checked.rows);
    assert!(before == std::fs::read(path).unwrap(), "a check changed the file");
    checked
}

#[test]
fn each_kind_of_trouble_is_found_and_named() {
    let (_folder, path) = folder();
    filled(&path, 30);
    let sound = check(&path);
    assert!(sound.is_sound() && sound.rows == 31, "{sound:?}");
    // What another program replaced without telling a trigger is never found, and is no trouble.
    let replace = "PRAGMA foreign_keys = OFF; INSERT OR REPLACE INTO glaze (name) VALUES ('Celadon')";
    other_program(&path).execute_batch(replace).unwrap();
    let of_index = |checked: &Checked| checked.problems.iter().filter(|p| p.kind == ProblemKind::SearchIndex).count();
    assert_eq!(of_index(&check(&path)), 0);
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    other_program(&path)
        .execute_batch(
            "PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON;
             UPDATE piece SET stage = 'boiled' WHERE key = 1; UPDATE piece SET grams = 70000 WHERE key = 2;
             UPDATE piece SET thrown = '8 March' WHERE key > 5; UPDATE piece SET tags = '{' WHERE key = 4; UPDATE piece SET glaze = 9 WHERE key = 3;
             UPDATE velvet_search_glaze SET name = 'x'; UPDATE piece SET price = 70001 WHERE key = 1;
             CREATE INDEX more ON piece (grams);
             UPDATE velvet_about SET value = 'x' WHERE name = 'fingerprint'; PRAGMA user_version = 7",
        )
        .unwrap();
    let checked = check(&path);
    let of = |kind| checked.problems.iter().filter(|p| p.kind == kind).map(|p| p.what.as_str()).collect::<Vec<_>>();
    assert_eq!(of(ProblemKind::Pages), [""; 0]);
    assert_eq!(of(ProblemKind::Structure), ["the index on `piece`(grams) is there but not declared"]);
    let bookkeeping = of(ProblemKind::Bookkeeping);
    assert!(
        bookkeeping[0].contains("fingerprint") && bookkeeping[1].contains("at version 7, but says"),
        "{bookkeeping:?}"
    );
    assert!(of(ProblemKind::Link).contains(&"piece 3 links to a glaze that does not exist"));
    let values = of(ProblemKind::Value);
    assert_eq!(values[0], "piece 1: in `stage`, \"boiled\" is none of the declared choices (thrown, fired)");
    assert_eq!(values[1], "piece 1: in `price`, the private value cannot be read as its column's type");
    assert_eq!(values[2], "piece 2: in `grams`, 70000 does not fit u16 (0 to 65535)");
    assert!(values[3].starts_with("piece 4: in `tags`, { cannot be read as"), "{}", values[3]);
    assert!(values[4].starts_with("piece 6: in `thrown`, \"8 March\""), "{}", values[4]);
    assert_eq!(values.len(), File::MOST_PROBLEMS);
    assert!(checked.more >= 25 - (File::MOST_PROBLEMS as u64 - 4), "{}", checked.more);
    assert_eq!(of_index(&checked), 1);
    assert!(checked.problems.iter().any(|p| p.table.as_deref() == Some("piece") && p.row == Some(1)));
}

#[test]
fn damage_is_found_wherever_it_is_and_nothing_panics() {
    let (folder, path) = folder();
    filled(&path, 3_000);
    let whole = std::fs::read(&path).unwrap();
    let damaged = folder.path().join("damaged.drawer");
    let rounds: usize = std::env::var(DAMAGES).ok().and_then(|n| n.parse().ok()).unwrap_or(24);
    let (mut found, mut refused, mut rows) = (0, 0, 0);
    for round in 0..rounds {
        let mut bytes = whole.clone();
        // Now and then in the header.
        let at = if round % 16 == 15 { round * 7 % 100 } else { 100 + (round * 7_919 * 13) % (bytes.len() - 4_096) };
        match round % 3 {
            0 => bytes[at..at + 2_000].fill(0),
            1 => bytes[at..at + 64].iter_mut().for_each(|b| *b ^= 0xa5),
            _ if at < 100 => bytes[at] = bytes[at].wrapping_add(1 + (round / 100) as u8),
            _ => bytes.truncate(at + 4_096),
        }
        std::fs::write(&damaged, &bytes).unwrap();
        if let Ok(file) = File::open(&damaged) {
            // These may fail, but nothing else.
            let _ = file.overview();
            let _ = file.incomplete();
            let _ = file.sessions(10);
            let _ = file.trail(&TrailOf::default());
            let _ = file.search("k-7 thrown", &[], &mut |_| Ok(true));
            let _ = file.table("piece").and_then(|table| file.one(&table, "#7"));
            let _ = file.table("piece").map(|table| file.rows(&table, &Page::default(), &mut |_| Ok(())));
        }
        match File::open(&damaged).and_then(|file| file.check()) {
            Ok(checked) => found += usize::from(!checked.is_sound()),
            Err(error) => {
                let is_told = error.is_damaged() || error.is_not_a_database();
                assert!(is_told || at < 100, "{error:?}");
                refused += 1;
            }
        }
        // Where the header is there, whatever else is not, something comes of it.
        let saved = folder.path().join("saved.drawer");
        match salvage(&damaged, &saved, &Limits::default()) {
            Ok(salvaged) => {
                std::fs::remove_file(&saved).unwrap();
                rows += salvaged.tables.iter().map(|t| t.rows).sum::<u64>();
            }
            Err(error) => assert!(at < 100 && error.is_not_a_database() && !saved.exists(), "{error}"),
        }
        assert!(bytes == std::fs::read(&damaged).unwrap(), "a look changed the file");
    }
    assert!(rows > rounds as u64 * 3_000 / 2, "{rows} rows saved");
    assert!(found + refused > rounds * 5 / 6, "{found} found, {refused} refused of {rounds}");
}

#[test]
fn a_file_of_another_program_is_checked_as_far_as_it_can_be() {
    let (_folder, path) = folder();
    let other = other_program(&path);
    other
        .execute_batch(
            "CREATE TABLE a (id INTEGER PRIMARY KEY); CREATE TABLE b (a REFERENCES a, x UNIQUE); PRAGMA foreign_keys = OFF;
             INSERT INTO b VALUES (4, 1)",
        )
        .unwrap();
    drop(other);
    let checked = check(&path);
    assert_eq!(
        checked.problems.iter().map(|p| p.what.as_str()).collect::<Vec<_>>(),
        ["b 1 links to a a that does not exist"]
    );
}
