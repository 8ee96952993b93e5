//! Changes that are kept, sent and applied: devices that exchange them come to the same end.

use crate::common;
use common::{everything, folder, other_program};
use proptest::prelude::*;
use velvet_drawer::{Applied, Changed, Choice, Drawer, Error, Key, Position, Record, Schema};

#[derive(Choice, Clone, Copy, Debug, PartialEq)]
enum Stage {
    Thrown,
    Fired,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Piece {
    #[record(own_key)]
    mark: String,
    stage: Stage,
    grams: Option<u32>,
    wood: f64,
    thrown: jiff::civil::Date,
    thumbnail: Option<Vec<u8>>,
    #[record(json)]
    tags: Vec<String>,
    #[record(link(on_delete = clear))]
    glaze: Option<Key<Glaze>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Glaze {
    #[record(own_key)]
    number: u32,
    name: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Photo {
    #[record(own_key)]
    id: u32,
    piece: Key<Piece>,
}

/// One that may follow another, or itself, and one that must.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Step {
    #[record(own_key)]
    name: String,
    after: Option<Key<Step>>,
    twin: Option<Key<Bound>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Bound {
    #[record(own_key)]
    name: String,
    to: Key<Bound>,
    step: Key<Step>,
}

/// Nobody asks what changed here.
#[derive(Record, Clone, Debug, PartialEq)]
struct Note {
    text: String,
}

fn schema() -> Schema {
    Schema::new("kilnbook")
        .record::<Piece>()
        .record::<Glaze>()
        .record::<Photo>()
        .record::<Note>()
        .record::<Step>()
        .record::<Bound>()
}

fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

fn piece(mark: &str) -> Piece {
    Piece {
        mark: mark.into(),
        stage: Stage::Thrown,
        grams: Some(640),
        wood: 0.5,
        thrown: jiff::civil::date(2025, 3, 8),
        thumbnail: Some(vec![0, 255]),
        tags: vec!["bowl".into(), "it's \"large\"".into()],
        glaze: None,
    }
}

fn lines(drawer: &Drawer, since: Position) -> (Vec<u8>, Position) {
    let mut lines = Vec::new();
    let upto = drawer.changes_since(since).write_json_lines(&mut lines).unwrap();
    (lines, upto)
}

/// Sends to `to` what changed since the last time.
fn send(from: &Drawer, from_name: &str, to: &Drawer, to_name: &str) -> Applied {
    let (lines, upto) = lines(from, from.sent(to_name).unwrap());
    let applied = to.apply_changes(lines.as_slice()).from(from_name).run().unwrap();
    from.mark_sent(to_name, upto).unwrap();
    applied
}

/// Everything that is shared, whatever its row numbers are.
fn everything(drawer: &Drawer) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for (p, glaze) in drawer.records::<Piece>().with(|p| p.glaze).collect().unwrap() {
        all.push(format!("{:?} {:?}", Piece { glaze: None, ..(*p).clone() }, glaze.map(|g| g.number)));
    }
    all.extend(drawer.records::<Glaze>().collect().unwrap().iter().map(|g| format!("{:?}", **g)));
    let photos = drawer.records::<Photo>().with(|p| p.piece).collect().unwrap();
    all.extend(photos.iter().map(|(p, piece)| format!("photo {} of {}", p.id, piece.mark)));
    for (s, (after, twin)) in drawer.records::<Step>().with(|s| (s.after, s.twin)).collect().unwrap() {
        let names = (after.map(|a| a.name.clone()), twin.map(|t| t.name.clone()));
        all.push(format!("step {} after and twin {names:?}", s.name));
    }
    for (b, (to, step)) in drawer.records::<Bound>().with(|b| (b.to, b.step)).collect().unwrap() {
        all.push(format!("bound {} to {} of {}", b.name, to.name, step.name));
    }
    all.sort();
    all
}

fn edit(drawer: &Drawer, (what, n, m): (u8, u8, u8)) {
    let mark = format!("K-{}", n % 4);
    let at = drawer.get_by_own_key::<Piece>(&mark).unwrap();
    let glaze = drawer.get_by_own_key::<Glaze>(u32::from(m % 3)).unwrap().map(|g| g.key());
    // Some of these are refused, which is as well.
    let _ = match what {
        0 => drawer.get_or_insert(Piece { grams: Some(m.into()), ..piece(&mark) }).map(drop),
        1 => at.map_or(Ok(()), |p| drawer.change(p.key(), |p| p.grams = Some(m.into())).map(drop)),
        2 => at.map_or(Ok(()), |p| drawer.remove(p.key()).map(drop)),
        3 => at.map_or(Ok(()), |p| drawer.change(p.key(), |p| p.glaze = glaze).map(drop)),
        4 => drawer.insert_or_replace(Glaze { number: (m % 3).into(), name: format!("{n}") }).map(drop),
        5 => glaze.map_or(Ok(()), |g| drawer.remove(g).map(drop)),
        6 => at.map_or(Ok(()), |p| drawer.get_or_insert(Photo { id: m.into(), piece: p.key() }).map(drop)),
        7 => drawer.get_by_own_key::<Photo>(m.into()).unwrap().map_or(Ok(()), |p| drawer.remove(p.key()).map(drop)),
        8 => at.map_or(Ok(()), |p| drawer.change(p.key(), |p| p.mark = format!("K-{}", m % 4)).map(drop)),
        _ => edit_ring(drawer, what, n % 3, m % 3),
    };
}

/// Records that may or must link to each other, or to themselves.
fn edit_ring(drawer: &Drawer, what: u8, n: u8, m: u8) -> Result<(), Error> {
    let step = |n: u8| drawer.get_by_own_key::<Step>(&format!("s{n}"));
    let bound = |n: u8| drawer.get_by_own_key::<Bound>(&format!("b{n}"));
    let Some(from) = step(n)? else {
        return drawer.insert(Step { name: format!("s{n}"), after: None, twin: None }).map(drop);
    };
    match (what, bound(n)?, bound(m)?) {
        (9, ..) => drawer.change(from.key(), |s| s.after = Some(from.key())).map(drop),
        (10, ..) => {
            let to = step(m)?.map(|to| to.key());
            drawer.change(from.key(), |s| s.after = to).map(drop)
        }
        (11, _, twin) => drawer.change(from.key(), |s| s.twin = twin.map(|twin| twin.key())).map(drop),
        (12, None, to) => {
            // To another, or to itself.
            let next = drawer
                .sql("select coalesce((select seq from sqlite_sequence where name = 'bound'), 0) + 1")
                .rows::<i64>();
            let own = Key::from_number(next.map_or(1, |rows| rows[0]));
            let to = to.map_or(own, |to| to.key());
            drawer.insert(Bound { name: format!("b{n}"), to, step: from.key() }).map(drop)
        }
        (12, Some(own), Some(to)) => drawer.change(own.key(), |b| b.to = to.key()).map(drop),
        (13, Some(own), _) => drawer.remove(own.key()).map(drop),
        _ => drawer.remove(from.key()).map(drop),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn two_phones_that_exchange_changes_end_with_the_same_records(
        rounds in prop::collection::vec(prop::collection::vec((any::<bool>(), (0..15_u8, any::<u8>(), 0..6_u8)), 0..8), 1..4),
    ) {
        let (a, b) = (memory(), memory());
        for edits in rounds {
            for (on_a, e) in edits {
                edit(if on_a { &a } else { &b }, e);
            }
            send(&a, "a", &b, "b");
            send(&b, "b", &a, "a");
        }
        // What was kept in spite of the other is told back and forth until both agree.
        for _ in 0..4 {
            send(&a, "a", &b, "b");
            send(&b, "b", &a, "a");
        }
        prop_assert_eq!(everything(&a), everything(&b));
        let last = send(&a, "a", &b, "b");
        prop_assert_eq!((last.written, last.removed), (0, 0), "nothing goes round for ever");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    /// What a server does: it joins what one device exported, and hands all of it to the next one, in any order.
    #[test]
    fn exports_of_one_device_joined_come_to_what_each_of_them_alone_comes_to(
        rounds in prop::collection::vec(prop::collection::vec((0..15_u8, any::<u8>(), 0..6_u8), 0..6), 1..6),
        before in prop::collection::vec((0..15_u8, any::<u8>(), 0..6_u8), 0..4),
        seed in any::<u64>(),
    ) {
        let (from, alone, joined, mixed) = (memory(), memory(), memory(), memory());
        for to in [&alone, &joined, &mixed] {
            before.iter().for_each(|e| edit(to, *e));
        }
        let mut same = lines(&alone, Position::START).0;
        for to in [&joined, &mixed] {
            // The three were written at different moments: they begin with the same changes.
            to.apply_changes(same.as_slice()).theirs_win().run().unwrap();
            same = lines(to, Position::START).0;
        }
        let (mut log, mut position) = (Vec::new(), Position::START);
        for edits in rounds {
            edits.into_iter().for_each(|e| edit(&from, e));
            let (lines, upto) = lines(&from, position);
            position = upto;
            // Each alone may be refused where the other device has removed, or made, what it needs.
            prop_assume!(alone.apply_changes(lines.as_slice()).run().is_ok());
            log.extend(lines);
        }
        joined.apply_changes(log.as_slice()).run().unwrap();
        let mut all: Vec<&str> = std::str::from_utf8(&log).unwrap().lines().collect();
        all.sort_by_key(|line| std::hash::BuildHasher::hash_one(&std::hash::BuildHasherDefault::<std::hash::DefaultHasher>::default(), (seed, line)));
        mixed.apply_changes(all.join("\n").as_bytes()).run().unwrap();
        prop_assert_eq!(everything(&alone), everything(&joined));
        prop_assert_eq!(everything(&alone), everything(&mixed));
        let again = joined.apply_changes(log.as_slice()).run().unwrap();
        prop_assert_eq!((again.written, again.removed), (0, 0), "applied again, nothing is written");
    }
}

/// Makes the file say another time: that in a table of the test's, which the triggers ask.
fn with_a_clock_of_the_tests(path: &std::path::Path) {
    let file = other_program(path);
    let real = "strftime('%Y-%m-%dT%H:%M:%f', 'now') || '000000Z'";
    let triggers: Vec<(String, String)> = file
        .prepare("SELECT name, sql FROM sqlite_schema WHERE name LIKE 'velvet_changes%' AND type = 'trigger'")
        .unwrap()
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    assert!(triggers.iter().all(|(_, text)| text.contains(real)));
    file.execute_batch("CREATE TABLE clock (at TEXT); INSERT INTO clock VALUES ('')").unwrap();
    for (name, text) in triggers {
        file.execute_batch(&format!("DROP TRIGGER \"{name}\"; {}", text.replace(real, "(SELECT at FROM clock)")))
            .unwrap();
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn clocks_that_stand_still_or_go_backwards_do_not_part_two_phones(
        rounds in prop::collection::vec(prop::collection::vec((any::<bool>(), 0..3_u8, (0..15_u8, any::<u8>(), 0..6_u8)), 0..8), 1..5),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let phones = ["a", "b"].map(|name| {
            let path = folder.path().join(name);
            let drawer = Drawer::options().relaxed().without_sessions().open(&path, schema()).unwrap();
            with_a_clock_of_the_tests(&path);
            (drawer, other_program(&path))
        });
        let [(a, _), (b, _)] = &phones;
        for edits in rounds {
            for (on_a, clock, e) in edits {
                let (drawer, file) = &phones[usize::from(on_a)];
                // Three moments: one before, one after a second begins, and one just before a second ends.
                let at = ["2025-03-08T10:00:00.000000000Z", "2025-03-08T10:00:00.001000000Z", "2025-03-08T09:59:59.999999999Z"][usize::from(clock)];
                file.execute("UPDATE clock SET at = ?1", [at]).unwrap();
                edit(drawer, e);
            }
            send(a, "a", b, "b");
            send(b, "b", a, "a");
        }
        for _ in 0..4 {
            send(a, "a", b, "b");
            send(b, "b", a, "a");
        }
        prop_assert_eq!(everything(a), everything(b));
        let last = send(a, "a", b, "b");
        prop_assert_eq!((last.written, last.removed), (0, 0), "nothing goes round for ever");
        for (drawer, _) in &phones {
            let entries = drawer.sql("select count(*), count(distinct table_name || own_key) from velvet_changes").rows::<(u64, u64)>().unwrap();
            prop_assert_eq!(entries[0].0, entries[0].1, "each record has one entry");
        }
    }
}

#[test]
fn a_change_upon_another_is_later_than_that_whatever_the_clock_says() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    with_a_clock_of_the_tests(&path);
    let file = other_program(&path);
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let mut moments = Vec::new();
    for (grams, clock) in
        [".005000000Z", ".005000000Z", ".001000000Z", ".999999999Z", ".999999999Z", ".002000000Z"].iter().enumerate()
    {
        file.execute("UPDATE clock SET at = ?1", [format!("2025-12-31T23:59:59{clock}")]).unwrap();
        drawer.change(bowl.key(), |p| p.grams = Some(grams as u32)).unwrap();
        moments.extend(drawer.sql("select at from velvet_changes where own_key = 'K-1'").rows::<String>().unwrap());
    }
    assert_eq!(
        moments,
        [
            "2025-12-31T23:59:59.005000000Z",
            "2025-12-31T23:59:59.005000001Z",
            "2025-12-31T23:59:59.005000002Z",
            "2025-12-31T23:59:59.999999999Z",
            "2026-01-01T00:00:00.000000000Z",
            "2026-01-01T00:00:00.000000001Z"
        ]
    );
}

#[test]
fn a_record_made_anew_is_later_than_a_removal_that_was_only_heard_of() {
    let (folder, path) = folder();
    let (a, b) = (memory(), Drawer::open(&path, schema()).unwrap());
    with_a_clock_of_the_tests(&path);
    other_program(&path).execute("UPDATE clock SET at = '2000-01-01T00:00:00.000000000Z'", []).unwrap();
    let celadon = || Glaze { number: 1, name: "Celadon".into() };
    let key = a.insert(celadon()).unwrap().key();
    a.remove(key).unwrap();
    assert_eq!(send(&a, "a", &b, "b").unchanged, 1);
    b.insert(celadon()).unwrap();
    assert_eq!(send(&b, "b", &a, "a").written, 1);
    assert_eq!(everything(&a), everything(&b));
    drop(folder);
}

#[test]
fn records_that_link_to_themselves_or_to_each_other_are_exchanged() {
    let (a, b) = (memory(), memory());
    let steps =
        a.insert_all(["one", "two", "three"].map(|n| Step { name: n.into(), after: None, twin: None })).unwrap();
    for (from, to) in [(0, 1), (1, 0), (2, 2)] {
        a.change(steps[from].key(), |s| s.after = Some(steps[to].key())).unwrap();
    }
    // Links that must be there: to themselves, to each other, and in a ring over two tables.
    let key = velvet_drawer::Key::from_number;
    let bound = |name: &str, to: Key<Bound>| Bound { name: name.into(), to, step: steps[0].key() };
    let own = a.insert(bound("own", key(1))).unwrap();
    let first = a.insert(bound("first", own.key())).unwrap();
    let second = a.insert(bound("second", first.key())).unwrap();
    a.change(first.key(), |b| b.to = second.key()).unwrap();
    a.change(steps[0].key(), |s| s.twin = Some(second.key())).unwrap();
    let told = |d: &Drawer| {
        let steps = d.records::<Step>().with(|s| (s.after, s.twin)).collect().unwrap();
        let bounds = d.records::<Bound>().with(|b| (b.to, b.step)).collect().unwrap();
        let mut all: Vec<String> = steps
            .iter()
            .map(|(s, (after, twin))| {
                format!(
                    "{} after {:?} twin {:?}",
                    s.name,
                    after.as_ref().map(|a| &a.name),
                    twin.as_ref().map(|t| &t.name)
                )
            })
            .chain(bounds.iter().map(|(b, (to, step))| format!("{} to {} of {}", b.name, to.name, step.name)))
            .collect();
        all.sort();
        all
    };
    let applied = send(&a, "a", &b, "b");
    assert_eq!((applied.written, applied.conflicts.len()), (6, 0), "{applied:?}");
    assert_eq!(told(&a), told(&b));
    assert_eq!(send(&b, "b", &a, "a").written, 0);
    // A ring that hangs on a record that is nowhere is refused, and nothing of it is written.
    let (lines, _) = lines(&a, Position::START);
    let ring: Vec<&str> =
        std::str::from_utf8(&lines).unwrap().lines().filter(|l| !l.contains("\"own_key\":\"one\"")).collect();
    let c = memory();
    let error = c.apply_changes(ring.join("\n").as_bytes()).run().unwrap_err();
    assert!(error.to_string().contains("to \"one\", which is neither here nor comes"), "{error}");
    assert_eq!((c.count::<Bound>().unwrap(), c.count::<Step>().unwrap()), (0, 0));
}

#[test]
fn records_that_swapped_their_unique_values_are_exchanged() {
    let [a, b] = [(); 2].map(|()| Drawer::in_memory(everything::schema()).unwrap());
    let all = a.insert_all((0..4).map(everything::plain)).unwrap();
    send(&a, "a", &b, "b");
    let values = all.iter().map(|e| (e.uuid, e.order)).collect::<Vec<_>>();
    // Two swap; two pass theirs on, and a new one takes what is free.
    let set =
        |at: usize, (uuid, order)| a.change(all[at].key(), |e| (e.uuid, e.order) = (uuid, order)).map(drop).unwrap();
    set(0, (None, 99));
    set(1, values[0]);
    set(0, values[1]);
    set(3, (None, 98));
    set(2, values[3]);
    a.insert(everything::Everything { uuid: values[2].0, order: values[2].1, ..everything::plain(9) }).unwrap();
    let applied = send(&a, "a", &b, "b");
    assert_eq!((applied.written, applied.conflicts.len()), (5, 0));
    let told = |d: &Drawer| {
        let all = d.records::<everything::Everything>().sort_by(|e| e.mark.ascending()).collect().unwrap();
        all.into_iter().map(|e| e.into_record()).collect::<Vec<_>>()
    };
    assert_eq!(told(&a), told(&b));
    assert_eq!(send(&b, "b", &a, "a"), Applied { unchanged: 5, ..Applied::default() });
}

#[test]
fn what_is_kept_is_told_as_newer_than_its_removal_by_a_clock_that_is_ahead() {
    let b = memory();
    let bowl = b.insert(piece("K-1")).unwrap();
    b.insert(Photo { id: 1, piece: bowl.key() }).unwrap();
    let removal = r#"{"table":"piece","own_key":"K-1","at":"2999-01-01T00:00:00.000000000Z","removed":true}"#;
    assert_eq!(b.apply_changes(removal.as_bytes()).from("a").run().unwrap().kept, 1);
    let told = b.sql("select at from velvet_changes where own_key = 'K-1'").rows::<String>().unwrap();
    assert_eq!(told, ["2999-01-01T00:00:00.000000001Z"]);
}

#[test]
fn a_record_that_was_to_link_to_a_removed_one_stays_as_it_was_on_both() {
    let (a, b) = (memory(), memory());
    let pieces = a.insert_all(["K-1", "K-2"].map(piece)).unwrap();
    let photo = a.insert(Photo { id: 1, piece: pieces[0].key() }).unwrap();
    send(&a, "a", &b, "b");
    send(&b, "b", &a, "a");
    a.change(photo.key(), |p| p.piece = pieces[1].key()).unwrap();
    b.remove(b.get_by_own_key::<Piece>("K-2").unwrap().unwrap().key()).unwrap();
    assert_eq!(send(&a, "a", &b, "b").conflicts, [("photo".into(), "1".into(), true)]);
    let removed = b.sql("select removed from velvet_changes where table_name = 'photo'").rows::<bool>().unwrap();
    assert_eq!(removed, [false], "it is here, as it was");
    for _ in 0..2 {
        send(&b, "b", &a, "a");
        send(&a, "a", &b, "b");
    }
    assert_eq!(everything(&a), everything(&b));
    assert_eq!((a.count::<Photo>().unwrap(), b.count::<Photo>().unwrap()), (1, 1));
}

#[test]
fn values_at_their_limits_are_exchanged_as_they_are() {
    let [a, b] = [(); 2].map(|()| Drawer::in_memory(everything::schema()).unwrap());
    let mut records = everything::at_limits().to_vec();
    records[0].json = serde_json::Value::Null;
    records.push(everything::plain(7));
    let stored = a.insert_all(records).unwrap();
    a.change(stored[1].key(), |e| e.twin = Some(stored[1].key())).unwrap();
    everything::write_the_rest(&a).unwrap();
    let applied = send(&a, "a", &b, "b");
    assert_eq!(applied.written, 12);
    everything::the_rest_is_there(&b).unwrap();
    let by_mark = |d: &Drawer| {
        let all =
            d.records::<everything::Everything>().sort_by(|e| e.mark.ascending()).with(|e| e.twin).collect().unwrap();
        all.into_iter()
            .map(|(e, twin)| (everything::Everything { twin: None, ..e.into_record() }, twin.map(|t| t.mark.clone())))
            .collect::<Vec<_>>()
    };
    assert_eq!(by_mark(&a), by_mark(&b));
    assert!(b.search_index_is_sound::<everything::Everything>().unwrap());
    assert_eq!(send(&b, "b", &a, "a"), Applied { unchanged: 12, ..Applied::default() });
    let unreadable =
        r#"{"table":"select","own_key":"E-7","at":"2999-01-01T00:00:00Z","columns":{"mark":"E-7","bearing":400}}"#;
    let error = b.apply_changes(unreadable.as_bytes()).run().unwrap_err();
    assert!(error.to_string().contains("line 1 does not fit: in `bearing`, 400 is no bearing"), "{error}");
}

#[test]
fn changes_come_in_the_order_of_commits_each_record_once_and_only_of_shared_ones() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(Note { text: "mine".into() }).unwrap();
    let celadon = drawer.insert(Glaze { number: 1, name: "Celadon".into() }).unwrap();
    let all = drawer.insert_all(["K-1", "K-2", "K-3"].map(piece)).unwrap();
    let (_, first) = lines(&drawer, Position::START);
    drawer.change(all[0].key(), |p| p.glaze = Some(celadon.key())).unwrap();
    drawer.change(all[0].key(), |p| p.stage = Stage::Fired).unwrap();
    drawer.change(all[1].key(), |_| ()).unwrap();
    drawer.remove(all[2].key()).unwrap();
    let given_up = drawer.write(|tx| tx.remove(all[1].key()).and(Err::<(), _>(Error::own("no"))));
    assert!(given_up.is_err());
    other_program(&path).execute("UPDATE glaze SET name = 'Celadon, thin'", []).unwrap();

    let (since, last) = lines(&drawer, first);
    let since: Vec<serde_json::Value> =
        since.split(|b| *b == b'\n').filter(|l| !l.is_empty()).map(|l| serde_json::from_slice(l).unwrap()).collect();
    let short: Vec<String> =
        since.iter().map(|l| format!("{} {} {}", l["table"], l["own_key"], l["removed"])).collect();
    assert_eq!(short, ["\"piece\" \"K-1\" null", "\"piece\" \"K-3\" true", "\"glaze\" 1 null"]);
    let record = &since[0]["columns"];
    assert_eq!(record["glaze"], 1, "a link is told by the linked record's own key");
    assert_eq!((&record["stage"], &record["thumbnail"]["bytes"]), (&"fired".into(), &"00ff".into()));
    assert_eq!((&record["tags"], &record["wood"]), (&serde_json::json!(["bowl", "it's \"large\""]), &0.5.into()));
    assert!(since[0]["at"].as_str().unwrap().ends_with('Z') && since[0]["at"].as_str().unwrap().len() == 30);
    let typed = drawer.changes_since(first).of::<Piece>().unwrap();
    assert!(
        matches!(&typed[..], [Changed::Written(p), Changed::Removed(mark)] if p.mark == "K-1" && mark == "K-3"),
        "{typed:?}"
    );
    assert!(drawer.changes_since(last).of::<Glaze>().unwrap().is_empty() && lines(&drawer, last).1 == last);
    drop(drawer);
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-3")).unwrap();
    assert!(lines(&drawer, last).1 > last, "a position is never given again");
}

#[test]
fn of_a_record_that_both_changed_the_rule_decides_and_the_conflict_is_told() {
    let apart = || {
        let (a, b) = (memory(), memory());
        let bowl = a.insert(piece("K-1")).unwrap();
        send(&a, "a", &b, "b");
        assert_eq!(send(&b, "b", &a, "a"), Applied { unchanged: 1, ..Applied::default() });
        a.change(bowl.key(), |p| p.grams = Some(1)).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(3));
        let on_b = b.get_by_own_key::<Piece>("K-1").unwrap().unwrap();
        b.change(on_b.key(), |p| p.grams = Some(2)).unwrap();
        (a, b)
    };
    let grams = |d: &Drawer| d.get_by_own_key::<Piece>("K-1").unwrap().unwrap().grams;
    let (a, b) = apart();
    let applied = send(&a, "a", &b, "b");
    assert_eq!((applied.kept, applied.conflicts), (1, vec![("piece".into(), "\"K-1\"".into(), true)]));
    assert_eq!(send(&b, "b", &a, "a").written, 1);
    assert_eq!((grams(&a), grams(&b)), (Some(2), Some(2)), "the newest wins");
    let (a, b) = apart();
    let (from_a, _) = lines(&a, Position::START);
    assert_eq!(b.apply_changes(from_a.as_slice()).from("a").theirs_win().run().unwrap().written, 1);
    assert_eq!(grams(&b), Some(1));
    let (a, b) = apart();
    let (from_b, _) = lines(&b, Position::START);
    assert_eq!(a.apply_changes(from_b.as_slice()).from("b").ours_win().run().unwrap().kept, 1);
    assert_eq!(grams(&a), Some(1));
}

#[test]
fn lines_that_do_not_fit_are_named_and_nothing_is_written() {
    let (a, b) = (memory(), memory());
    a.insert(Glaze { number: 1, name: "Celadon".into() }).unwrap();
    let (good, _) = lines(&a, Position::START);
    let good = String::from_utf8(good).unwrap();
    let line = |table: &str, key: &str, rest: &str| {
        format!(r#"{{"table":"{table}","own_key":{key},"at":"2025-03-08T10:00:00Z",{rest}}}"#)
    };
    let record = r#""columns":{"mark":"K-1","stage":"thrown","grams":null,"wood":1,"thrown":"2025-03-08","thumbnail":null,"tags":[],"glaze":7}"#;
    for (bad, said) in [
        ("{".into(), "line 2 is not a change in JSON"),
        (r#"{"table":"piece","at":""}"#.into(), "line 2 is not a change in JSON: missing field `own_key`"),
        (line("kiln", "1", r#""removed":true"#), "line 2 is about the table `kiln`, which is not in the schema"),
        (line("note", "1", r#""removed":true"#), "line 2 is about the table `note`, which is not shared"),
        (line("glaze", "-1", r#""removed":true"#), "line 2 does not fit: in `number`, -1 does not fit u32"),
        (
            line("glaze", "2", r#""columns":{"number":3,"name":"x"}"#),
            "line 2 is about `2` by its own_key, and about `3` by its column `number`",
        ),
        (line("glaze", "1", r#""gone":true"#), "line 2 has neither `columns` nor `removed`"),
        (
            line("glaze", "2", r#""columns":{"colour":"x"}"#),
            "line 2 has a column `glaze.colour`, which is not in the schema",
        ),
        (
            line("glaze", "2", r#""columns":{"number":2,"name":null}"#),
            "in `name`, nothing is there, where text must be",
        ),
        (line("piece", "\"K-1\"", record), "line 2 links `piece.glaze` to 7, which is neither here nor comes"),
        (
            line("piece", "\"K-1\"", &record.replace("thrown\",\"grams", "boiled\",\"grams")),
            "is none of the declared choices",
        ),
        (line("piece", "\"K-1\"", &record.replace("2025-03-08", "8 March")), "in `thrown`, \"8 March\""),
    ] {
        let error = b.apply_changes(format!("{good}{bad}\n").as_bytes()).run().unwrap_err();
        assert!(error.to_string().contains(said), "{error}\n{said}");
        assert!(error.to_string().contains("Nothing was written") && everything(&b).is_empty(), "{error}");
    }
    let error =
        Drawer::in_memory(Schema::new("notes").record::<Note>()).unwrap().apply_changes(&b""[..]).run().unwrap_err();
    assert!(error.is_schema() && error.to_string().contains("no record is shared"), "{error}");
    assert_eq!(b.apply_changes(good.as_bytes()).run().unwrap().written, 1);
}

#[test]
fn a_unique_value_that_both_devices_gave_is_an_error_that_names_it() {
    #[derive(Record)]
    #[record(shared)]
    struct Shelf {
        #[record(own_key)]
        name: String,
        #[record(unique)]
        number: u32,
    }
    let shelf = |name: &str| Shelf { name: name.into(), number: 3 };
    let [a, b] = [(); 2].map(|()| Drawer::in_memory(Schema::new("shelves").record::<Shelf>()).unwrap());
    a.insert(shelf("upper")).unwrap();
    let theirs = b.insert(shelf("lower")).unwrap();
    let (from_a, _) = lines(&a, Position::START);
    let error = b.apply_changes(from_a.as_slice()).run().unwrap_err();
    assert!(error.is_clash());
    assert_eq!(
        error.to_string(),
        "cannot apply changes: line 1 brings shelf \"upper\", but its number 3 is already that of another record here. \
         Nothing was written. Change that value on one of the devices, and exchange changes again. File: (in memory)"
    );
    b.change(theirs.key(), |s| s.number = 4).unwrap();
    assert_eq!(b.apply_changes(from_a.as_slice()).run().unwrap().written, 1);
}

/// Records that need others in every way: what each needs is unique, known by a key that ignores case, must be there, or may be missing.
mod needs {
    use velvet_drawer::{Key, Record, Schema};

    #[derive(Record, Clone)]
    #[record(shared)]
    pub(super) struct Shelf {
        #[record(own_key)]
        pub(super) name: String,
        #[record(unique)]
        pub(super) number: u32,
    }

    /// Not shared: every device has its own.
    #[derive(Record, Clone)]
    pub(super) struct Room {
        #[record(own_key, ignore_case)]
        pub(super) name: String,
    }

    #[derive(Record, Clone)]
    #[record(shared)]
    pub(super) struct Jar {
        #[record(own_key)]
        pub(super) name: String,
        #[record(link(on_delete = remove))]
        pub(super) shelf: Key<Shelf>,
        #[record(link(on_delete = clear))]
        pub(super) twin: Option<Key<Shelf>>,
        pub(super) room: Option<Key<Room>>,
    }

    pub(super) fn schema() -> Schema {
        Schema::new("shelves").record::<Shelf>().record::<Room>().record::<Jar>()
    }
}

#[test]
fn what_a_record_needs_decides_and_never_what_is_wrong_with_another() {
    use needs::{Jar, Room, Shelf, schema};
    let devices = || [(); 2].map(|()| Drawer::in_memory(schema()).unwrap());
    let shelf = |name: &str, number: u32| Shelf { name: name.into(), number };
    let jar = |name: &str, shelf, twin, room| Jar { name: name.into(), shelf, twin, room };

    // A child before its parent, which clashes: the parent is named.
    let [a, b] = devices();
    let upper = a.insert(shelf("upper", 3)).unwrap().key();
    a.insert(jar("cobalt", upper, None, None)).unwrap();
    b.insert(shelf("lower", 3)).unwrap();
    let (from_a, _) = lines(&a, Position::START);
    let mut reversed: Vec<&str> = std::str::from_utf8(&from_a).unwrap().lines().collect();
    reversed.reverse();
    let error = b.apply_changes(reversed.join("\n").as_bytes()).run().unwrap_err();
    assert!(error.is_clash() && error.to_string().contains("line 2 brings shelf \"upper\""), "{error}");

    // Links that must, and may, lead to something that was removed here: the record goes the way of that which it must have.
    let [a, b] = devices();
    let [first, second] = ["first", "second"].map(|name| a.insert(shelf(name, name.len() as u32)).unwrap().key());
    send(&a, "a", &b, "b");
    b.remove_all::<Shelf>().unwrap();
    a.insert(jar("cobalt", first, Some(second), None)).unwrap();
    a.insert(jar("iron", second, Some(first), None)).unwrap();
    let applied = send(&a, "a", &b, "b");
    assert_eq!((applied.written, applied.conflicts.len(), b.count::<Jar>().unwrap()), (0, 2, 0), "{applied:?}");
    send(&b, "b", &a, "a");
    send(&a, "a", &b, "b");
    let counts = [&a, &b].map(|d| (d.count::<Jar>().unwrap(), d.count::<Shelf>().unwrap()));
    assert_eq!(counts, [(0, 0), (0, 0)]);

    // A key of a record that is not shared, in another case here: the same record, and nothing to write again.
    let [a, b] = devices();
    let room = a.insert(Room { name: "Cellar".into() }).unwrap().key();
    b.insert(Room { name: "CELLAR".into() }).unwrap();
    let upper = a.insert(shelf("upper", 3)).unwrap().key();
    a.insert(jar("cobalt", upper, None, Some(room))).unwrap();
    let (from_a, _) = lines(&a, Position::START);
    let written = [(); 2].map(|()| b.apply_changes(from_a.as_slice()).run().unwrap().written);
    assert_eq!(written, [2, 0]);
}

#[test]
fn a_ring_is_exchanged_beside_what_cannot_be_and_nothing_of_it_is_removed() {
    let [a, b] = [memory(), memory()];
    let step = |name: &str| Step { name: name.into(), after: None, twin: None };
    let glaze = a.insert(Glaze { number: 1, name: "Celadon".into() }).unwrap().key();
    let [own, one, two] = ["own", "one", "two"].map(|name| a.insert(step(name)).unwrap().key());
    let bound = |name: &str, to| Bound { name: name.into(), to, step: own };
    let kept = a.insert(bound("kept", Key::from_number(1))).unwrap().key();
    send(&a, "a", &b, "b");
    // Removed on the one; linked to, in rings, on the other, and made again there.
    b.remove_all::<Bound>().unwrap();
    b.remove_all::<Step>().unwrap();
    b.remove_all::<Glaze>().unwrap();
    a.change(own, |s| s.after = Some(own)).unwrap();
    a.change(one, |s| s.after = Some(two)).unwrap();
    a.change(two, |s| s.after = Some(one)).unwrap();
    a.change(kept, |b| b.name = "kept again".into()).unwrap();
    a.insert(Piece { glaze: Some(glaze), ..piece("K-1") }).unwrap();
    let applied = send(&a, "a", &b, "b");
    assert!(applied.written >= 4, "{applied:?}");
    for _ in 0..3 {
        send(&b, "b", &a, "a");
        send(&a, "a", &b, "b");
    }
    assert_eq!(everything(&a), everything(&b));
    assert_eq!((b.count::<Step>().unwrap(), b.count::<Bound>().unwrap(), b.count::<Piece>().unwrap()), (3, 1, 1));
}

/// The records before an upgrade and after it: a table gets another name, one is no longer shared, a link goes, and a new table links to one
/// that is there already.
mod upgraded {
    use velvet_core::evolve::{History, draft};
    use velvet_core::schema::structure::Structure;
    use velvet_drawer::{Key, Record, Schema};

    macro_rules! version {
        ($name:ident { $($record:item)* }) => {
            pub(super) mod $name {
                use super::*;
                $(#[derive(Record)] $record)*
            }
        };
    }

    version!(v1 {
        #[record(shared)]
        pub(crate) struct Potter { #[record(own_key)] pub(crate) name: String }
        #[record(shared)]
        pub(crate) struct Glaze { #[record(own_key)] pub(crate) name: String }
        #[record(shared)]
        pub(crate) struct Piece { #[record(own_key)] pub(crate) mark: String }
        #[record(shared)]
        pub(crate) struct Photo { #[record(own_key)] pub(crate) id: u32, pub(crate) piece: Option<Key<Piece>> }
        #[record(shared)]
        pub(crate) struct Shelf { #[record(own_key)] pub(crate) name: String }
    });
    version!(v2 {
        #[record(shared)]
        pub(crate) struct Potter { #[record(own_key)] pub(crate) name: String }
        #[record(shared, was = "glaze")]
        pub(crate) struct Coat { #[record(own_key)] pub(crate) name: String }
        #[record(shared)]
        pub(crate) struct Piece { #[record(own_key)] pub(crate) mark: String }
        #[record(shared)]
        pub(crate) struct Photo { #[record(own_key)] pub(crate) id: u32 }
        pub(crate) struct Shelf { #[record(own_key)] pub(crate) name: String }
        #[record(shared)]
        pub(crate) struct Sale { #[record(own_key)] pub(crate) number: u32, pub(crate) by: Key<Potter> }
    });

    fn first() -> Schema {
        let schema = Schema::new("kilnbook").record::<v1::Glaze>().record::<v1::Piece>().record::<v1::Photo>();
        schema.record::<v1::Shelf>().record::<v1::Potter>()
    }

    pub(super) fn schema(version: u32) -> Schema {
        let one = [v1::Glaze::table(), v1::Piece::table(), v1::Photo::table(), v1::Shelf::table(), v1::Potter::table()];
        let two = [
            v2::Coat::table(),
            v2::Piece::table(),
            v2::Photo::table(),
            v2::Shelf::table(),
            v2::Potter::table(),
            v2::Sale::table(),
        ];
        let one = Structure { tables: one.map(Result::unwrap).into() };
        let two = Structure { tables: two.map(Result::unwrap).into() };
        let mut history = History::start("kilnbook", &one);
        history.versions[0].released = true;
        if version == 1 {
            return first().history(history.to_json().leak());
        }
        let drafted = draft(&one, &two, &[("coat", v2::Coat::HINTS)], &[], &[]);
        assert_eq!(drafted.questions, [""; 0]);
        let schema = Schema::new("kilnbook").record::<v2::Coat>().record::<v2::Piece>().record::<v2::Photo>();
        let schema = schema.record::<v2::Shelf>().record::<v2::Potter>().record::<v2::Sale>();
        schema.history(history.recorded(&two, drafted, &[]).to_json().leak())
    }
}

#[test]
fn an_upgrade_takes_along_what_changed_and_tells_nothing_anew() {
    use upgraded::{schema, v1, v2};
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema(1)).unwrap();
    let gone = drawer.insert(v1::Glaze { name: "tenmoku".into() }).unwrap();
    drawer.insert(v1::Glaze { name: "celadon".into() }).unwrap();
    drawer.remove(gone.key()).unwrap();
    let piece = drawer.insert(v1::Piece { mark: "K-1".into() }).unwrap();
    drawer.insert(v1::Photo { id: 1, piece: Some(piece.key()) }).unwrap();
    drawer.insert(v1::Shelf { name: "upper".into() }).unwrap();
    drawer.insert(v1::Potter { name: "Ida".into() }).unwrap();
    let (_, upto) = lines(&drawer, Position::START);
    drawer.close().unwrap();

    let drawer = Drawer::open(&path, schema(2)).unwrap();
    assert_eq!(lines(&drawer, upto), (Vec::new(), upto), "an upgrade is no change of a record");
    let told = |since| {
        let text = String::from_utf8(lines(&drawer, since).0).unwrap();
        let told = text.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
        told.map(|v| format!("{} {} {}", v["table"], v["own_key"], v["removed"])).collect::<Vec<_>>()
    };
    let before = [
        r#""coat" "celadon" null"#,
        r#""coat" "tenmoku" true"#,
        r#""piece" "K-1" null"#,
        r#""photo" 1 null"#,
        r#""potter" "Ida" null"#,
    ];
    assert_eq!(told(Position::START), before);
    let of_shelves = "SELECT count(*) FROM velvet_changes WHERE table_name IN ('shelf', 'glaze')";
    assert_eq!(other_program(&path).query_row(of_shelves, [], |r| r.get::<_, i64>(0)).unwrap(), 0);

    let potter = drawer.records::<v2::Potter>().first().unwrap().unwrap();
    drawer.insert(v2::Sale { number: 1, by: potter.key() }).unwrap();
    drawer.insert(v2::Shelf { name: "lower".into() }).unwrap();
    let (_, upto) = lines(&drawer, Position::START);
    drawer.change(potter.key(), |p| p.name = "Ada".into()).unwrap();
    let after = [r#""potter" "Ida" true"#, r#""potter" "Ada" null"#, r#""sale" 1 null"#];
    assert_eq!(told(upto), after, "the sale is told by its potter's own key, which is another one now");
}
