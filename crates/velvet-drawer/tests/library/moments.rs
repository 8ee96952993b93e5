//! Columns that the library fills with the moment of a write: every way of writing, a clock of the test's.

use crate::common;
use common::folder;
use jiff::Timestamp;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering::SeqCst};
use velvet_drawer::{Drawer, Edit, Position, Record, Schema, Stored};

#[derive(Record, Clone, Debug, PartialEq)]
#[record(shared)]
struct Note {
    #[record(own_key)]
    mark: String,
    text: String,
    #[record(created)]
    written: Timestamp,
    #[record(changed)]
    touched: Option<Timestamp>,
}

fn note(mark: &str, text: &str) -> Note {
    let never = Timestamp::MIN.max("1900-01-01T00:00:00Z".parse().unwrap());
    Note { mark: mark.into(), text: text.into(), written: never, touched: Some(never) }
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).unwrap()
}

/// A drawer whose clock ticks a second each time that it is moved on.
fn clocked() -> (Drawer, Arc<AtomicI64>) {
    let clock = Arc::new(AtomicI64::new(100));
    let seen = Arc::clone(&clock);
    let options = Drawer::options().clock(move || at(seen.load(SeqCst)));
    (options.in_memory(Schema::new("notes").record::<Note>()).unwrap(), clock)
}

/// What is stored of a note, in seconds, which is what was returned too.
fn moments(drawer: &Drawer, returned: &Stored<Note>) -> (i64, i64) {
    let stored = drawer.get(returned.key()).unwrap().unwrap();
    assert_eq!(&stored, returned, "what is returned is what is stored");
    (stored.written.as_second(), stored.touched.unwrap().as_second())
}

#[test]
fn every_way_of_writing_fills_them() {
    let (drawer, clock) = clocked();
    let one = drawer.insert(note("a", "1")).unwrap();
    assert_eq!(moments(&drawer, &one), (100, 100));
    let by_ref = drawer.insert_ref(&note("b", "1")).unwrap();
    assert_eq!(moments(&drawer, &drawer.get(by_ref).unwrap().unwrap()), (100, 100));
    let all = drawer.insert_all([note("c", "1"), note("d", "1")]).unwrap();
    assert_eq!(moments(&drawer, &all[1]), (100, 100));
    clock.store(200, SeqCst);
    let one = drawer.change(one.key(), |n| n.text = "2".into()).unwrap();
    assert_eq!(moments(&drawer, &one), (100, 200));
    clock.store(300, SeqCst);
    let same = drawer.change(one.key(), |n| n.text = "2".into()).unwrap();
    assert_eq!(moments(&drawer, &same), (100, 200), "nothing was written");
    let replaced = drawer.replace(one.key(), note("a", "3")).unwrap();
    assert_eq!(moments(&drawer, &replaced), (100, 300), "it was inserted when it was");
    clock.store(400, SeqCst);
    let put = drawer.insert_or_replace(note("a", "4")).unwrap();
    assert_eq!(moments(&drawer, &put), (100, 400));
    clock.store(500, SeqCst);
    let merged = drawer.insert_or_merge(note("a", "5"), |n| (n.text, n.written, n.touched)).unwrap();
    assert_eq!(moments(&drawer, &merged), (100, 500));
    clock.store(600, SeqCst);
    let mut edit = merged.edit();
    edit.text = "6".into();
    let saved = drawer.save(edit).unwrap();
    assert_eq!(moments(&drawer, &saved), (100, 600));
    let new = drawer.save(Edit::new(note("e", "1"))).unwrap();
    assert_eq!(moments(&drawer, &new), (600, 600));
    clock.store(700, SeqCst);
    drawer.records::<Note>().filter(|n| n.mark.is("a")).update(|n| n.text.set("7")).unwrap();
    assert_eq!(moments(&drawer, &drawer.get(one.key()).unwrap().unwrap()), (100, 700));
    clock.store(800, SeqCst);
    let refreshed = drawer.refresh([note("a", "7"), note("b", "8"), note("f", "1")]).run().unwrap();
    assert_eq!(
        refreshed.to_string(),
        "1 added, 1 changed, 1 unchanged, 0 removed",
        "what came has no moments of its own"
    );
    let of = |mark: &str| moments(&drawer, &drawer.get_by_own_key::<Note>(mark).unwrap().unwrap());
    assert_eq!([of("a"), of("b"), of("f")], [(100, 700), (100, 800), (800, 800)]);
    let kept = drawer.write(|tx| tx.insert(note("g", "1"))).unwrap();
    assert_eq!(moments(&drawer, &kept), (800, 800));

    // Another device has the moments of the one on which it was written.
    let mut lines = Vec::new();
    drawer.changes_since(Position::START).write_json_lines(&mut lines).unwrap();
    let (other, _) = clocked();
    other.apply_changes(lines.as_slice()).run().unwrap();
    let there = other.get_by_own_key::<Note>("a").unwrap().unwrap();
    assert_eq!((there.written, there.touched), (at(100), Some(at(700))));
}

#[test]
fn without_a_clock_it_is_the_system_s() {
    let (_folder, path) = folder();
    let before = Timestamp::now();
    let drawer = Drawer::open(&path, Schema::new("notes").record::<Note>()).unwrap();
    let one = drawer.insert(note("a", "1")).unwrap();
    assert!(one.written >= before && one.written <= Timestamp::now());
    assert_eq!(drawer.get(one.key()).unwrap().unwrap(), one, "to the nanosecond");
}
