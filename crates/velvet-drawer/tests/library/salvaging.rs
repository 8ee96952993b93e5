//! Saving what can be read of a damaged file.

use crate::common;
use common::{Glaze, Photo, Piece, everything, folder, other_program, piece, schema};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;
use velvet_drawer::inspect::{File, Limits, Salvaged, salvage};
use velvet_drawer::{Drawer, Record, Schema, Trail};

fn saved(from: &Path, to: &Path) -> Salvaged {
    let before = std::fs::read(from).unwrap();
    let salvaged = salvage(from, to, &Limits::default()).unwrap();
    assert!(before == std::fs::read(from).unwrap(), "the damaged file was changed");
    salvaged
}

#[test]
fn every_kind_of_column_is_saved_also_where_a_statement_speaks_of_select() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, everything::schema()).unwrap();
    let stored = drawer.insert_all(everything::at_limits()).unwrap();
    everything::write_the_rest(&drawer).unwrap();
    drawer.close().unwrap();
    other_program(&path)
        .execute_batch(
            "CREATE TABLE foreign_one (a TEXT DEFAULT 'please select', [select] TEXT, b AS (upper(a) || 'select'));
             CREATE INDEX selected ON foreign_one (upper([select])) WHERE a <> 'select';
             INSERT INTO foreign_one ([select]) VALUES ('x')",
        )
        .unwrap();
    let to = folder.path().join("saved.drawer");
    let salvaged = saved(&path, &to);
    assert_eq!(salvaged.lost, [""; 0]);
    let rows = |name: &str| salvaged.tables.iter().find(|t| t.name == name).unwrap().rows;
    assert_eq!((rows("select"), rows("foreign_one")), (2, 1));
    let other = other_program(&to);
    let text: String =
        other.query_row("SELECT b FROM foreign_one WHERE a = 'please select'", [], |row| row.get(0)).unwrap();
    assert_eq!(text, "PLEASE SELECTselect");
    other.execute_batch("DROP TABLE foreign_one").unwrap();
    drop(other);
    let drawer = Drawer::open(&to, everything::schema()).unwrap();
    assert_eq!(drawer.records::<everything::Everything>().collect().unwrap(), stored);
    assert_eq!(drawer.records::<everything::Everything>().search("select").count().unwrap(), 1);
    everything::the_rest_is_there(&drawer).unwrap();
}

#[test]
fn a_file_whose_list_of_tables_would_do_more_than_create_them_does_nothing() {
    let (folder, path) = folder();
    let other = other_program(&path);
    other
        .execute_batch(
            "CREATE TABLE secret (a); INSERT INTO secret VALUES (1); CREATE TABLE copy (a); CREATE TABLE gone (a)",
        )
        .unwrap();
    other
        .execute_batch(
            "PRAGMA writable_schema = ON;
             UPDATE sqlite_schema SET sql = 'CREATE TABLE copy AS SELECT a FROM secret' WHERE name = 'copy';
             UPDATE sqlite_schema SET sql = 'DROP TABLE secret' WHERE name = 'gone'",
        )
        .unwrap();
    drop(other);
    let salvaged = saved(&path, &folder.path().join("saved.db"));
    assert_eq!(
        salvaged.lost,
        [
            "the table `copy` cannot be created: it computes rows of other tables",
            "the table `gone` cannot be created: it does more than create a table or index"
        ]
    );
    assert_eq!((salvaged.tables.len(), salvaged.tables[0].rows), (1, 1));
}

/// A note, some of which are long enough to go on in other pages.
#[derive(Record, Clone, Debug, PartialEq)]
struct Note {
    #[record(searchable)]
    text: String,
    weight: Option<f64>,
    sketch: Vec<u8>,
}

fn notes() -> Schema {
    Schema::new("notes").record::<Note>()
}

fn note(n: usize) -> Note {
    let text = format!("glaze {n} {}", "tenmoku ".repeat(if n.is_multiple_of(7) { 900 } else { n % 30 }));
    Note { text, weight: (!n.is_multiple_of(3)).then_some(n as f64 / 2.0), sketch: vec![n as u8; n % 50] }
}

/// A drawer with notes, of which some are removed again; and what is in it.
fn filled(path: &Path, notes_there: usize) -> BTreeMap<i64, Note> {
    let drawer = Drawer::options().trail(Trail::Keys).open(path, notes()).unwrap();
    drawer.insert_all((0..notes_there).map(note)).unwrap();
    drawer
        .records::<Note>()
        .filter(|n| n.key().at_most(velvet_drawer::Key::from_number(notes_there as i64 / 5)))
        .remove()
        .unwrap();
    let all = drawer.records::<Note>().collect().unwrap();
    drawer.close().unwrap();
    all.into_iter().map(|n| (n.key().number(), n.into_record())).collect()
}

#[test]
fn a_sound_file_is_saved_whole_with_what_stands_beside_it() {
    let (folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let bowl = drawer.insert(Piece { remarks: "ö".repeat(9_000), ..piece("K-1") }).unwrap();
    drawer.insert(Photo { piece: bowl.key(), side: "left".into() }).unwrap();
    let gone = drawer.insert(piece("K-2")).unwrap().key();
    drawer.remove(gone).unwrap();
    drawer.insert(Glaze { name: "Shino".into() }).unwrap();
    // A killed app leaves its newest records in the log.
    let pulled = folder.path().join("pulled.drawer");
    std::fs::copy(&path, &pulled).unwrap();
    std::fs::copy(folder.path().join("kiln.drawer-wal"), folder.path().join("pulled.drawer-wal")).unwrap();
    let error = salvage(&path, folder.path().join("no.drawer"), &Limits::default()).unwrap_err();
    assert!(error.is_in_use(), "{error}");
    drawer.close().unwrap();

    for from in [&path, &pulled] {
        let to = folder.path().join("saved.drawer");
        let salvaged = saved(from, &to);
        assert!(salvaged.is_whole(), "{salvaged:?}");
        assert!(salvage(from, &to, &Limits::default()).unwrap_err().is_already_there());
        let (before, after) = (File::open(from).unwrap(), File::open(&to).unwrap());
        assert!(before.compare(&after, &mut |_| Ok(())).unwrap().is_same());
        assert!(after.check().unwrap().is_sound());
        assert_eq!(after.trail(&Default::default()).unwrap(), before.trail(&Default::default()).unwrap());
        let drawer = Drawer::open(&to, schema()).unwrap();
        // A number that was given once is not given again.
        assert!(drawer.insert(piece("K-3")).unwrap().key().number() > gone.number());
        drawer.close().unwrap();
        std::fs::remove_file(&to).unwrap();
    }
}

#[test]
fn rows_below_a_damaged_page_are_found_all_the_same() {
    let (folder, path) = folder();
    let expected = filled(&path, 3_000);
    let root: i64 = other_program(&path)
        .query_row("SELECT rootpage FROM sqlite_schema WHERE name = 'note'", [], |row| row.get(0))
        .unwrap();
    let mut bytes = std::fs::read(&path).unwrap();
    let at = (root as usize - 1) * 4_096;
    assert_eq!(bytes[at], 5, "the first page of the table leads to others");
    bytes[at..at + 4_096].fill(0xff);
    std::fs::write(&path, bytes).unwrap();
    assert!(Drawer::open(&path, notes()).unwrap().records::<Note>().collect().is_err());

    let to = folder.path().join("saved.drawer");
    let salvaged = saved(&path, &to);
    assert_eq!(salvaged.tables[0].orphaned, salvaged.tables[0].rows);
    // These were removed; without what led to them, that cannot be told.
    assert_eq!(salvaged.tables[0].gaps, [(1, 600)]);
    let drawer = Drawer::open(&to, notes()).unwrap();
    let all: BTreeMap<i64, Note> =
        drawer.records::<Note>().collect().unwrap().into_iter().map(|n| (n.key().number(), n.into_record())).collect();
    assert!(all == expected, "{} of {} rows", all.len(), expected.len());
    assert!(drawer.search_index_is_sound::<Note>().unwrap());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever pages are lost: nothing is invented, the app opens what was saved unless the file's own bookkeeping went, and what
    /// is missing is told.
    #[test]
    fn lost_pages_lose_no_more_than_what_is_told(lost in proptest::collection::vec(1_usize..260, 1..6), cut in 0_usize..60) {
        let (folder, path) = folder();
        let expected = filled(&path, 1_500);
        let mut bytes = std::fs::read(&path).unwrap();
        let pages = bytes.len() / 4_096;
        for page in lost {
            let at = page % pages * 4_096;
            // The very first bytes say that this is a database at all.
            bytes[at.max(100)..at + 4_096].fill(0);
        }
        bytes.truncate((pages - cut.min(pages / 2)) * 4_096);
        std::fs::write(&path, bytes).unwrap();
        let to = folder.path().join("saved.drawer");
        let salvaged = saved(&path, &to);
        let Some(table) = salvaged.tables.iter().find(|t| t.name == "note") else {
            prop_assert!(!salvaged.lost.is_empty());
            return Ok(());
        };
        let file = other_program(&to);
        let mut statement = file.prepare("SELECT key, text, weight, sketch FROM note").unwrap();
        let rows = statement.query_map([], |row| {
            Ok((row.get(0)?, Note { text: row.get(1)?, weight: row.get(2)?, sketch: row.get(3)? }))
        });
        let found: BTreeMap<i64, Note> = rows.unwrap().map(Result::unwrap).collect();
        prop_assert_eq!(found.len() as u64, table.rows);
        for (key, note) in &found {
            // Of a row that goes on in other pages, nothing tells that one of those is not what it was.
            let there = expected.get(key).filter(|e| e.text.len() > 3_000 || *e == note);
            prop_assert!(there.is_some(), "{} was never there", key);
        }
        let missing: Vec<i64> = expected.keys().filter(|k| !found.contains_key(k)).copied().collect();
        let in_gaps = |key: &i64| table.gaps.iter().any(|(first, last)| (first..=last).contains(&key));
        let untold = missing.iter().filter(|k| !in_gaps(k)).count() as u64;
        prop_assert!(untold <= table.damaged, "{missing:?} {table:?}");
        prop_assert!(missing.is_empty() || !salvaged.is_whole());
        if salvaged.lost.is_empty() {
            prop_assert_eq!(Drawer::open(&to, notes()).unwrap().count::<Note>().unwrap(), table.rows);
        }
    }
}

#[test]
fn tables_of_other_programs_are_saved_too() {
    let (folder, path) = folder();
    let other = other_program(&path);
    other
        .execute_batch(
            "PRAGMA encoding = 'UTF-16le';
             CREATE TABLE \"odd \"\"name\"\"\" (a, \"b c\" TEXT DEFAULT 'x', up TEXT GENERATED ALWAYS AS (upper(\"b c\")) VIRTUAL, rowid TEXT);
             INSERT INTO \"odd \"\"name\"\"\" (a, \"b c\", rowid) VALUES (1, 'öä', 'r'), (2.5, x'00', NULL);
             ALTER TABLE \"odd \"\"name\"\"\" ADD COLUMN later INTEGER DEFAULT 7;
             CREATE TABLE pairs (x, y, z, PRIMARY KEY (y, x)) WITHOUT ROWID;
             INSERT INTO pairs VALUES (1, 2, 3), (4, 5, 6);
             CREATE UNIQUE INDEX pair ON pairs (z); CREATE VIEW v AS SELECT 1;",
        )
        .unwrap();
    drop(other);
    let to = folder.path().join("saved.db");
    let salvaged = saved(&path, &to);
    assert_eq!(salvaged.lost, ["not recovered, because only tables and indexes are: view v"]);
    let told: Vec<_> = salvaged.tables.iter().map(|t| (t.name.as_str(), t.rows, t.is_whole())).collect();
    assert_eq!(told, [("odd \"name\"", 2, true), ("pairs", 2, true)]);
    let (before, after) = (File::open(&path).unwrap(), File::open(&to).unwrap());
    let comparison = before.compare(&after, &mut |_| Ok(())).unwrap();
    assert!(comparison.tables.iter().all(|t| t.added + t.removed + t.changed == 0 && t.same == 2), "{comparison:?}");
}

#[derive(Record, Debug)]
struct Long {
    text: String,
    at: jiff::Timestamp,
}

#[derive(Record, Debug)]
struct Measured {
    grams: f64,
    day: jiff::civil::Date,
}

#[test]
fn pages_of_zeros_a_lost_list_of_tables_and_lost_facts_are_said_and_everything_else_is_saved() {
    use rusqlite::OptionalExtension;
    const PAGE: usize = 4_096;
    let (folder, path) = folder();
    let schema = || {
        Schema::new("kilnbook")
            .record::<Long>()
            .record::<Measured>()
            .record::<Piece>()
            .record::<Glaze>()
            .record::<Photo>()
    };
    let at: jiff::Timestamp = "2025-03-08T14:30:00Z".parse().unwrap();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    drawer.insert_all((0..30).map(|n| Long { text: "clay ".repeat(3_200 + n), at })).unwrap();
    drawer
        .insert_all((0..300).map(|n| Measured { grams: f64::from(n) + 0.5, day: jiff::civil::date(2025, 3, 8) }))
        .unwrap();
    drawer.insert_all((0..40).map(|n| piece(&format!("K-{n}")))).unwrap();
    drawer.close().unwrap();
    let whole = std::fs::read(&path).unwrap();
    let to = folder.path().join("saved.drawer");
    let again = |damage: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = whole.clone();
        damage(&mut bytes);
        std::fs::write(&path, &bytes).unwrap();
        let _ = std::fs::remove_file(&to);
        saved(&path, &to)
    };
    let rows = |salvaged: &Salvaged, name: &str| salvaged.tables.iter().find(|t| t.name == name).map_or(0, |t| t.rows);
    let pages_of = |name: &str| -> Vec<usize> {
        let other = rusqlite::Connection::open(folder.path().join("whole.db")).unwrap();
        let mut pages = other.prepare("SELECT pageno FROM dbstat WHERE name = ?1 ORDER BY path").unwrap();
        pages.query_map([name], |row| Ok(row.get::<_, u32>(0)? as usize)).unwrap().map(Result::unwrap).collect()
    };
    std::fs::write(folder.path().join("whole.db"), &whole).unwrap();
    let blank = |page: usize| move |bytes: &mut Vec<u8>| bytes[(page - 1) * PAGE..page * PAGE].fill(0);

    // The last page of a long row.
    let other = rusqlite::Connection::open(folder.path().join("whole.db")).unwrap();
    let last: usize = other
        .query_row(
            "SELECT pageno FROM dbstat WHERE name = 'long' AND pagetype = 'overflow' ORDER BY path DESC",
            [],
            |row| Ok(row.get::<_, u32>(0)? as usize),
        )
        .optional()
        .unwrap()
        .unwrap();
    drop(other);
    let salvaged = again(&blank(last));
    assert!(!salvaged.is_whole() && rows(&salvaged, "long") == 30, "{salvaged:?}");
    assert!(
        salvaged.lost[0].contains("1 row of `long` were saved that go on in pages of nothing but zeros"),
        "{:?}",
        salvaged.lost
    );
    assert!(again(&|_| ()).is_whole());

    // Each page of the list of tables but the first.
    let lists = pages_of("sqlite_schema");
    assert!(lists.len() > 2, "{lists:?}");
    for page in lists.into_iter().filter(|page| *page != 1) {
        let salvaged = again(&blank(page));
        let counts = ["long", "measured", "piece"].map(|name| rows(&salvaged, name));
        assert_eq!(counts, [30, 300, 40], "page {page}: {salvaged:?}");
        assert!(!salvaged.is_whole());
        let drawer = Drawer::open(&to, schema());
        let drawer =
            drawer.or_else(|error| Drawer::options().adopt().open(&to, schema()).map_err(|e| format!("{error}\n{e}")));
        let drawer = drawer.unwrap_or_else(|error| panic!("page {page}: {error} {:?}", salvaged.lost));
        assert!(drawer.get_by_own_key::<Piece>("K-7").unwrap().is_some());
        assert!(drawer.insert(piece("K-7")).unwrap_err().is_clash());
        drawer.insert(common::glaze("Shino")).unwrap();
        assert_eq!(drawer.records::<Measured>().sum(|m| m.grams).unwrap(), 45_000.0);
        assert_eq!(drawer.records::<Piece>().sort_by(|p| p.mark.ascending()).first().unwrap().unwrap().mark, "K-0");
    }

    // What the file says about itself.
    let about = pages_of("velvet_about");
    let salvaged = again(&|bytes| about.iter().for_each(|page| blank(*page)(bytes)));
    assert!(
        salvaged.lost.iter().any(|lost| lost.contains("takes the saved file over with Options::adopt")),
        "{:?}",
        salvaged.lost
    );
    let drawer = Drawer::options().adopt().open(&to, schema()).unwrap();
    let counts = [drawer.count::<Long>(), drawer.count::<Measured>(), drawer.count::<Piece>()].map(Result::unwrap);
    assert_eq!(counts, [30, 300, 40]);
}
