//! What was written to each record, by which session and in which transaction, and what stood there before.

use crate::common;
use common::versions::{self, v1, v3};
use common::{Piece, Stage, folder, glaze, other_program, piece, schema};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;
use velvet_drawer::inspect::{Did, File, Told, TrailEntry, TrailOf};
use velvet_drawer::{Drawer, Error, Key, Record, Schema, Trail, Value};

fn trail(path: &Path) -> Vec<TrailEntry> {
    File::open(path).unwrap().trail(&TrailOf::default()).unwrap()
}

fn in_words(entry: &TrailEntry) -> String {
    let told = |t: &Told| match t {
        Told::Value(value) => value.literal(),
        other => format!("{other:?}"),
    };
    let columns: Vec<String> =
        entry.columns.iter().map(|c| format!("{} {} → {}", c.name, told(&c.before), told(&c.after))).collect();
    format!("{} {} {:?}: {}", entry.table, entry.row, entry.did, columns.join(", "))
}

/// One thing that is written.
#[derive(Clone, Debug)]
enum Write {
    Insert(u32),
    Weigh(usize, Option<u32>),
    Remark(usize, String),
    Remove(usize),
    RemoveHeavy(u32),
    GivenUp(usize),
    PartGivenUp(usize),
    Many(usize),
    Refresh(Vec<u32>),
    ByPlainSql(u32),
    ByAnotherProgram(usize, u32),
}

fn writes() -> impl Strategy<Value = Vec<Write>> {
    let at = 0..6_usize;
    let write = prop_oneof![
        (0..900_u32).prop_map(Write::Insert),
        (at.clone(), proptest::option::of(0..900_u32)).prop_map(|(at, g)| Write::Weigh(at, g)),
        (at.clone(), "[a'\"\\\\ö\n]{0,4}").prop_map(|(at, text)| Write::Remark(at, text)),
        at.clone().prop_map(Write::Remove),
        (500..900_u32).prop_map(Write::RemoveHeavy),
        at.clone().prop_map(Write::GivenUp),
        at.clone().prop_map(Write::PartGivenUp),
        (1..5_usize).prop_map(Write::Many),
        proptest::collection::vec(0..900_u32, 0..5).prop_map(Write::Refresh),
        (0..900_u32).prop_map(Write::ByPlainSql),
        (at, 0..900_u32).prop_map(|(at, g)| Write::ByAnotherProgram(at, g)),
    ];
    proptest::collection::vec(write, 1..24)
}

type Rows = BTreeMap<i64, BTreeMap<String, Value>>;

/// The rows as another reader sees them.
fn rows(path: &Path) -> Rows {
    let file = other_program(path);
    let mut statement = file.prepare("SELECT key, mark, grams, remarks FROM piece").unwrap();
    let rows = statement.query_map([], |row| {
        let text = |at: usize| row.get::<_, String>(at).map(Value::Text);
        let grams = row.get::<_, Option<i64>>(2)?.map_or(Value::Missing, Value::Integer);
        let columns = [("mark".to_owned(), text(1)?), ("grams".to_owned(), grams), ("remarks".to_owned(), text(3)?)];
        Ok((row.get(0)?, BTreeMap::from(columns)))
    });
    rows.unwrap().map(Result::unwrap).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    /// Going back along the trail, from the rows as they are now, leads to an empty table; and each entry says what was done by
    /// whom, as seen from outside before and after.
    #[test]
    fn the_trail_leads_back_to_the_beginning(writes in writes()) {
        let (_folder, path) = folder();
        let drawer = Drawer::options().trail_of::<Piece>(Trail::Before).relaxed().open(&path, schema()).unwrap();
        let mut expected: Vec<(Did, i64, bool, BTreeMap<String, (Told, Told)>)> = Vec::new();
        let mut inserted = 0;
        for write in writes {
            let before = rows(&path);
            let key = |at: usize| Key::<Piece>::from_number(before.keys().copied().nth(at).unwrap_or(99));
            let mut by_us = true;
            match write {
                Write::Insert(grams) => {
                    inserted += 1;
                    drawer.insert(Piece { grams: Some(grams), ..piece(&format!("K-{inserted}")) }).unwrap();
                }
                Write::Weigh(at, grams) => drop(drawer.change(key(at), |p| p.grams = grams)),
                Write::Remark(at, text) => drop(drawer.change(key(at), |p| p.remarks = text)),
                Write::Remove(at) => drop(drawer.remove(key(at)).unwrap()),
                Write::RemoveHeavy(grams) => {
                    drawer.records::<Piece>().filter(|p| p.grams.at_least(grams)).remove().map(drop).unwrap();
                }
                Write::GivenUp(at) => {
                    let given_up = drawer.write(|tx| tx.remove(key(at)).and(Err::<(), _>(Error::own("no"))));
                    prop_assert!(given_up.is_err());
                }
                Write::PartGivenUp(at) => drawer.write(|tx| {
                    let _ = tx.part(|tx| tx.remove(key(at)).and(Err::<(), _>(Error::own("no"))));
                    tx.records::<Piece>().filter(|p| p.grams.is_none()).update(|p| p.grams.set(1)).map(drop)
                }).unwrap(),
                Write::Many(count) => {
                    inserted += count;
                    let marks = (inserted - count + 1..=inserted).map(|n| piece(&format!("K-{n}")));
                    drawer.insert_all(marks).unwrap();
                }
                Write::Refresh(grams) => {
                    let incoming = grams.iter().enumerate().map(|(n, g)| Piece { grams: Some(*g), ..piece(&format!("K-{}", n + 1)) });
                    inserted = inserted.max(grams.len());
                    drawer.refresh(incoming).remove_absent().run().unwrap();
                }
                Write::ByPlainSql(grams) => {
                    let text = "update piece set grams = :grams where grams is null";
                    drawer.write(|tx| tx.sql(text).bind("grams", grams).run()).map(drop).unwrap();
                }
                Write::ByAnotherProgram(at, grams) => {
                    by_us = false;
                    // One that changes nothing may have been the change of a row number, for all that the trail is told.
                    let text = "UPDATE piece SET grams = ?2 WHERE key = ?1 AND grams IS NOT ?2";
                    other_program(&path).execute(text, (key(at).number(), grams)).unwrap();
                }
            }
            let after = rows(&path);
            let all: std::collections::BTreeSet<i64> = before.keys().chain(after.keys()).copied().collect();
            for key in &all {
                let tell = |rows: &Rows, column: &str| {
                    rows.get(key).map_or(Told::NotThere, |row| Told::Value(row[column].clone()))
                };
                let did = match (before.contains_key(key), after.contains_key(key)) {
                    (true, false) => Did::Removed,
                    (false, _) => Did::Inserted,
                    _ => Did::Changed,
                };
                let columns = ["mark", "grams", "remarks"].map(|c| (c.to_owned(), (tell(&before, c), tell(&after, c))));
                let columns: BTreeMap<_, _> = columns.into_iter().filter(|(_, (old, new))| old != new).collect();
                if !columns.is_empty() {
                    expected.push((did, *key, by_us, columns));
                }
            }
        }
        let mut entries = trail(&path);
        entries.reverse();
        // What one write does to several records, it does in any order.
        let mut from = 0;
        while from < entries.len() {
            let same = entries[from..].iter().take_while(|e| e.write.is_some() && e.write == entries[from].write).count().max(1);
            entries[from..from + same].sort_by_key(|e| e.row);
            from += same;
        }
        let found: Vec<_> = entries.into_iter().map(|entry| {
            let known = ["mark", "grams", "remarks"];
            let columns = entry.columns.into_iter().filter(|c| known.contains(&c.name.as_str()));
            let columns: BTreeMap<_, _> = columns.map(|c| (c.name, (c.before, c.after))).collect();
            assert_eq!(entry.write.is_some(), entry.session == Some(1));
            (entry.did, entry.row, entry.write.is_some(), columns)
        }).collect();
        prop_assert_eq!(found, expected);
    }
}

/// One thing that happens to a file between two looks.
#[derive(Clone, Debug)]
enum Happening {
    /// A session in which the trail is kept so, and which weighs a piece, inserts one, or removes one.
    Session(Trail, u8, usize, u32),
    /// Another program weighs a piece, replaces it, or gives it another row number.
    Other(u8, usize, u32),
}

fn happenings() -> impl Strategy<Value = Vec<Happening>> {
    let trail = prop_oneof![Just(Trail::Before), Just(Trail::Before), Just(Trail::Keys), Just(Trail::Off)];
    let happening = prop_oneof![
        (trail, 0..3_u8, 0..4_usize, 0..900_u32).prop_map(|(t, what, at, g)| Happening::Session(t, what, at, g)),
        (0..4_u8, 0..4_usize, 0..900_u32).prop_map(|(what, at, g)| Happening::Other(what, at, g)),
    ];
    proptest::collection::vec(happening, 1..14)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]

    /// The trail is switched off and on, and another program replaces rows and their numbers. What the trail says was so, as seen from outside before and after; the rest
    /// it says is not known.
    #[test]
    fn nothing_that_a_trail_with_gaps_says_is_wrong(happenings in happenings(), copied_at in any::<prop::sample::Index>()) {
        let (_folder, path) = folder();
        let copied_at = copied_at.index(happenings.len());
        let copy = path.with_file_name("yesterday.drawer");
        let (mut truth, mut inserted, mut entries) = (BTreeMap::new(), 0, 0);
        let mut writers: BTreeMap<(i64, i64), Vec<Option<i64>>> = BTreeMap::new();
        for (at, happening) in happenings.into_iter().enumerate() {
            let before = if path.exists() { rows(&path) } else { Rows::new() };
            let key = |at: usize| before.keys().copied().nth(at).unwrap_or(99);
            let mut by = None;
            match happening {
                Happening::Session(trail, what, at, grams) => {
                    let drawer = Drawer::options().trail_of::<Piece>(trail).relaxed().open(&path, schema()).unwrap();
                    let key = Key::<Piece>::from_number(key(at));
                    match what {
                        0 => drop(drawer.change(key, |p| p.grams = Some(grams))),
                        1 => {
                            inserted += 1;
                            drawer.insert(Piece { grams: Some(grams), ..piece(&format!("K-{inserted}")) }).unwrap();
                        }
                        _ => drop(drawer.remove(key).unwrap()),
                    }
                    drawer.close().unwrap();
                    by = File::open(&path).unwrap().sessions(1).unwrap().last().map(|s| s.number);
                }
                Happening::Other(..) if !path.exists() => continue,
                Happening::Other(what, at, grams) => {
                    let program = other_program(&path);
                    program.pragma_update(None, "foreign_keys", false).unwrap();
                    let (key, grams) = (key(at), i64::from(grams));
                    let text = match what {
                        0 => "UPDATE piece SET grams = ?2 WHERE key = ?1",
                        1 => "REPLACE INTO piece (key, mark, stage, grams, glaze, remarks) SELECT key, mark, stage, ?2, glaze, remarks FROM piece WHERE key = ?1",
                        2 => "UPDATE OR REPLACE piece SET key = key + 1 + ?2 % 3 WHERE key = ?1",
                        _ => "UPDATE OR REPLACE piece SET mark = (SELECT max(mark) FROM piece), grams = ?2 WHERE key = ?1",
                    };
                    program.execute(text, [key, grams]).unwrap();
                }
            }
            let after = rows(&path);
            for key in before.keys().chain(after.keys()) {
                if before.get(key) != after.get(key) {
                    writers.entry((*key, at as i64)).or_default().push(by);
                }
            }
            let newest: i64 = other_program(&path).query_row("SELECT coalesce(max(entry), 0) FROM velvet_trail", [], |r| r.get(0)).unwrap_or(entries);
            (entries + 1..=newest).for_each(|entry| drop(truth.insert(entry, (before.clone(), after.clone(), by))));
            entries = newest;
            if at == copied_at {
                std::fs::copy(&path, &copy).unwrap();
            }
        }
        prop_assume!(path.exists() && copy.exists());
        for entry in trail(&path) {
            let (before, after, by) = &truth[&entry.number];
            prop_assert_eq!(entry.session, *by);
            for column in &entry.columns {
                let says = |told: &Told, rows: &Rows| match told {
                    Told::Value(value) => rows.get(&entry.row).and_then(|row| row.get(&column.name)).is_none_or(|stood| stood == value),
                    // Another program's REPLACE is heard of as an insertion alone.
                    Told::NotThere => !rows.contains_key(&entry.row) || (entry.did == Did::Inserted && by.is_none()),
                    _ => true,
                };
                prop_assert!(says(&column.before, before), "{:?} of {entry:?}, not of {before:?}", column.before);
                prop_assert!(says(&column.after, after), "{:?} of {entry:?}, not of {after:?}", column.after);
            }
        }
        // Who made what differs from yesterday's copy: whoever wrote that row last.
        let (earlier, later) = (File::open(&copy).unwrap(), File::open(&path).unwrap());
        let by_record = later.trail_since(&earlier).unwrap();
        let mut wrong = Vec::new();
        earlier.compare(&later, &mut |difference| {
            if let (Some(made), Some(row)) = (by_record.made(&difference), difference.row_number()) {
                let since = writers.iter().filter(|((key, at), _)| *key == row && *at > copied_at as i64);
                // Of two that wrote different columns, each is named for its own; one that was inserted may have been changed since.
                let last = if difference.did() == Did::Removed { 1 } else { usize::MAX };
                if !since.rev().take(last).flat_map(|(_, by)| by).any(|by| *by == made.session) {
                    wrong.push(format!("{row} by {:?}, of {writers:?}", made.session));
                }
            }
            Ok(())
        }).unwrap();
        prop_assert_eq!(wrong, [""; 0]);
    }
}

/// Values of every storage, and secrets.
#[derive(Record, Clone, Debug)]
struct Note {
    real: f64,
    bytes: Vec<u8>,
    #[record(private)]
    pin: Option<String>,
    long: String,
}

#[test]
fn values_are_kept_exactly_and_private_ones_not_at_all() {
    let (_folder, path) = folder();
    let schema = Schema::new("notes").record::<Note>();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema).unwrap();
    let note = Note { real: 0.1 + 0.2, bytes: vec![0, 255], pin: Some("secret-4711".into()), long: "y".repeat(70_000) };
    let stored = drawer.insert(note).unwrap();
    drawer.change(stored.key(), |n| (n.real, n.bytes) = (f64::NEG_INFINITY, vec![1])).unwrap();
    drawer.change(stored.key(), |n| (n.pin, n.long) = (Some("secret-4712".into()), "z".into())).unwrap();
    drawer.remove(stored.key()).unwrap();
    let words: Vec<String> = trail(&path).iter().map(in_words).collect();
    assert_eq!(
        words,
        [
            "note 1 Removed: real -9e999 → NotThere, bytes x'01' → NotThere, pin Private → NotThere, long 'z' → NotThere",
            "note 1 Changed: pin Private → Private, long TooLong(70000) → 'z'",
            "note 1 Changed: real 0.30000000000000004 → -9e999, bytes x'00ff' → x'01'",
            "note 1 Inserted: real NotThere → 0.30000000000000004, bytes NotThere → x'00ff', pin NotThere → Private, \
             long NotThere → TooLong(70000)",
        ]
    );
    let kept: String =
        other_program(&path).query_row("SELECT group_concat(before) FROM velvet_trail", [], |row| row.get(0)).unwrap();
    assert!(!kept.contains("secret"), "{kept}");
    assert_eq!(drawer.forget_trail().unwrap(), 4);
    drawer.close().unwrap();
    assert_eq!(trail(&path), []);
}

#[test]
fn trails_are_kept_for_what_is_asked_as_long_as_it_is_asked_and_within_their_bound() {
    let (_folder, path) = folder();
    let entries = || {
        let words =
            trail(&path).iter().map(|e| format!("{} {:?} {}", e.table, e.did, e.columns.len())).collect::<Vec<_>>();
        words.into_iter().rev().collect::<Vec<_>>()
    };
    let drawer = Drawer::options().trail(Trail::Keys).trail_of::<Piece>(Trail::Off).open(&path, schema()).unwrap();
    let shino = drawer.insert(glaze("Shino")).unwrap();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    drawer.change(shino.key(), |g| g.name = "Celadon".into()).unwrap();
    drawer.close().unwrap();
    // Of what stood there before nothing was kept, so nothing is known of the insertion either.
    assert_eq!(entries(), ["glaze Inserted 0", "glaze Changed 0"]);

    let drawer = Drawer::options().trail_of::<Piece>(Trail::Before).open(&path, schema()).unwrap();
    drawer.insert(glaze("Tenmoku")).unwrap();
    drawer.change(bowl.key(), |p| p.stage = Stage::Bisque).unwrap();
    drawer.close().unwrap();
    assert_eq!(entries(), ["glaze Inserted 0", "glaze Changed 0", "piece Changed 1"]);
    assert_eq!(trail(&path)[0].session, Some(2));
    assert_eq!(File::open(&path).unwrap().trail(&TrailOf { session: Some(1), ..TrailOf::default() }).unwrap().len(), 2);

    Drawer::open(&path, schema()).unwrap().insert(piece("K-2")).unwrap();
    assert_eq!(entries().len(), 3);

    let options = Drawer::options().trail(Trail::Keys).trail_kept(80, Duration::from_secs(3_600));
    let drawer = options.open(&path, schema()).unwrap();
    for n in 0..200 {
        drawer.insert(glaze(&n.to_string())).unwrap();
    }
    assert!((80..=91).contains(&entries().len()), "{}", entries().len());
    let writes = other_program(&path).query_row("SELECT count(*) FROM velvet_writes", [], |r| r.get::<_, i64>(0));
    assert!((80..=91).contains(&writes.unwrap()));
    drawer.close().unwrap();

    // Age is looked at every 256 writes. A clock that is ahead for once makes nothing old; time that passes does.
    let day = Duration::from_secs(24 * 60 * 60);
    let write = |ahead: u32, from: u32| {
        let now = jiff::Timestamp::now() + ahead * day;
        let options = Drawer::options().trail(Trail::Keys).trail_kept(10_000, 30 * day).clock(move || now);
        let drawer = options.open(&path, schema()).unwrap();
        (from..from + 256).for_each(|n| drop(drawer.insert(glaze(&format!("young {n}"))).unwrap()));
        drawer.close().unwrap();
        entries().len()
    };
    let kept = entries().len();
    assert_eq!(write(100, 0), kept + 256);
    assert_eq!(write(0, 256), kept + 512);
    let counts: Vec<usize> = (1..=6).map(|n| write(7 * n, 256 * (n + 1))).collect();
    assert!(counts[2] == kept + 512 + 3 * 256 && counts[5] < counts[3], "what is too old is gone: {counts:?}");

    let error = Drawer::options().trail_of::<Photograph>(Trail::Keys).open(&path, schema()).unwrap_err();
    assert!(
        error.to_string().starts_with("cannot keep the trail of `photograph`: it is not in the schema."),
        "{error}"
    );
}

#[derive(Record)]
struct Photograph {
    #[allow(dead_code)]
    side: String,
}

#[test]
fn an_upgrade_takes_the_trail_along() {
    let (_folder, path) = folder();
    let open = |version| Drawer::options().trail(Trail::Before).open(&path, versions::schema(version)).unwrap();
    let drawer = open(1);
    let bowl = v1::Piece { mark: "K-1".into(), wt: None, glaze: "tenmoku".into(), sketch: Vec::new() };
    let stored = drawer.insert(bowl).unwrap();
    drawer.close().unwrap();
    let drawer = open(3);
    let piece = drawer.records::<v3::Piece>().first().unwrap().unwrap();
    assert_eq!(piece.key().number(), stored.key().number());
    drawer.remove(piece.key()).unwrap();
    drawer.close().unwrap();
    let told: Vec<_> = trail(&path).into_iter().map(|e| (e.table, e.did, e.session)).collect();
    let pot = |did, session| ("pot".to_owned(), did, Some(session));
    assert_eq!(told, [pot(Did::Removed, 2), pot(Did::Inserted, 1)]);
    // Another program's triggers and rows are none of its business.
    let left = "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'velvet_trail_piece%'";
    assert_eq!(other_program(&path).query_row(left, [], |r| r.get::<_, i64>(0)).unwrap(), 0);
}

/// Words that are searched, so that the index and the trail hear of the same writes.
#[derive(Record)]
struct Word {
    #[record(own_key)]
    text: String,
    #[record(searchable)]
    meaning: String,
}

#[test]
fn the_search_index_and_the_trail_hear_of_the_same_writes() {
    let (_folder, path) = folder();
    let schema = Schema::new("words").record::<Word>();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema).unwrap();
    let word = |n: u32, meaning: &str| Word { text: n.to_string(), meaning: meaning.into() };
    drawer.insert_all((0..50).map(|n| word(n, "a glaze"))).unwrap();
    drawer
        .refresh((10..60).map(|n| word(n, if n % 2 == 0 { "a glaze" } else { "a clay" })))
        .remove_absent()
        .run()
        .unwrap();
    drawer.records::<Word>().filter(|w| w.meaning.is("a clay")).remove().unwrap();
    assert!(drawer.search_index_is_sound::<Word>().unwrap());
    assert_eq!(drawer.records::<Word>().search("glaze").count().unwrap(), 25);
    let count = |did| trail(&path).iter().filter(|e| e.did == did).count();
    assert_eq!((count(Did::Inserted), count(Did::Changed), count(Did::Removed)), (60, 20, 35));
    // All of one transaction have the same number.
    let writes: std::collections::BTreeSet<_> = trail(&path).iter().map(|e| e.write).collect();
    assert_eq!(writes.len(), 3);
}

#[test]
fn what_differs_between_two_copies_is_told_with_the_session_that_made_it() {
    let (folder, path) = folder();
    let open = || Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let drawer = open();
    let stored = drawer.insert_all(["K-1", "K-2"].map(piece)).unwrap();
    drawer.close().unwrap();
    let yesterday = folder.path().join("yesterday.drawer");
    std::fs::copy(&path, &yesterday).unwrap();
    // Two sessions change different columns of one record; the second one removes the other, and adds one.
    let drawer = open();
    drawer.change(stored[0].key(), |p| p.grams = None).unwrap();
    drawer.close().unwrap();
    let drawer = open();
    drawer.change(stored[0].key(), |p| p.remarks = "cracked".into()).unwrap();
    drawer.remove(stored[1].key()).unwrap();
    drawer.insert(piece("K-3")).unwrap();
    drawer.close().unwrap();
    let (before, after) = (File::open(&yesterday).unwrap(), File::open(&path).unwrap());
    let mut made = Vec::new();
    let trail = after.trail_since(&before).unwrap();
    let mut each = |difference: velvet_drawer::inspect::Difference<'_>| {
        let entry = trail.made(&difference).unwrap();
        made.push((entry.row, entry.did, entry.session));
        Ok(())
    };
    before.compare(&after, &mut each).unwrap();
    assert_eq!(made, [(1, Did::Changed, Some(3)), (2, Did::Removed, Some(3)), (3, Did::Inserted, Some(3))]);
}
