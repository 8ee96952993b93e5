//! Results that follow what is stored, against what is read anew.

use crate::common;
use common::everything::{self, Everything, Form, Owner};
use common::{Glaze, Photo, Piece, Recipe, Stage, folder, glaze, memory, other_program, piece, schema};
use proptest::prelude::*;
use std::cmp::Ordering;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering::Relaxed};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::inspect::{Exchange, Limits, import};
use velvet_drawer::{Drawer, Error, Key, List, Live, Position, Records, Schema, State, Step, TextOrder, Trail, Update};

/// Long enough for anything: nothing here is measured, but a result that never comes must fail a test.
const FOR_EVER: Duration = Duration::from_secs(30);

/// So long that what should not come would have come.
const A_MOMENT: Duration = Duration::from_millis(250);

/// A list on a screen, which only ever does the steps that it is told.
struct Screen<R> {
    live: Live<List<R>>,
    shown: Vec<(i64, R)>,
    updates: usize,
}

impl<R: Clone + PartialEq + std::fmt::Debug + Send + Sync + 'static> Screen<R> {
    fn of(live: Result<Live<List<R>>, Error>) -> Screen<R> {
        Screen { live: live.unwrap(), shown: Vec::new(), updates: 0 }
    }

    fn take(&mut self, update: &Update<List<R>>) {
        let steps = update.steps();
        assert!(!steps.is_empty() || self.updates == 0 || update.is_back, "an update that changes nothing");
        for step in steps {
            match step {
                Step::Removed { at, number } => assert_eq!(self.shown.remove(at).0, number),
                Step::Added { at, number } => self.shown.insert(at, (number, update.result[at].clone())),
                Step::Moved { from, to, number } => {
                    let moved = self.shown.remove(from);
                    assert_eq!(moved.0, number);
                    self.shown.insert(to, moved);
                }
                Step::Changed { at, number } => {
                    assert!(self.shown[at].0 == number && self.shown[at].1 != update.result[at], "nothing changed");
                    self.shown[at].1 = update.result[at].clone();
                }
            }
        }
        let now: Vec<(i64, R)> = values_in_order(&update.result);
        assert_eq!(self.shown, now, "the steps lead to the result");
        self.updates += 1;
    }

    /// Waits until it shows what is read anew.
    fn until(&mut self, expected: &[R]) {
        let begun = Instant::now();
        while self.updates == 0 || self.shown.iter().map(|(_, r)| r).ne(expected) {
            assert!(
                begun.elapsed() < FOR_EVER,
                "{}: shown {:?}\nexpected {expected:?}\n{:?}",
                std::any::type_name::<R>(),
                self.shown,
                self.live.now()
            );
            if let Some(update) = self.live.news_within(Duration::from_millis(50)) {
                self.take(&update.unwrap());
            }
        }
    }
}

fn values_in_order<R: Clone>(list: &List<R>) -> Vec<(i64, R)> {
    list.numbers().zip(list.iter().cloned()).collect()
}

fn loaded<R: Clone + Send + Sync + 'static>(live: &mut Live<R>) -> Update<R> {
    live.news_within(FOR_EVER).expect("something new").unwrap()
}

#[derive(Clone, Debug)]
enum Do {
    Insert(u8, Option<u32>),
    Change(u8, Option<u32>, u8),
    Rename(u8, u8),
    Remove(u8),
    RemoveGlaze(u8),
    RemoveAll,
    Sql(u8),
    Update(u32),
    Refresh(Vec<u8>),
    RolledBack(u8),
    Nothing(u8),
    Many(u8),
}

fn doing() -> impl Strategy<Value = Do> {
    let grams = || prop::option::weighted(0.7, 0..6_u32);
    prop_oneof![
        6 => (0..30_u8, grams()).prop_map(|(n, g)| Do::Insert(n, g)),
        6 => (0..30_u8, grams(), 0..4_u8).prop_map(|(n, g, s)| Do::Change(n, g, s)),
        2 => (0..30_u8, 0..30_u8).prop_map(|(a, b)| Do::Rename(a, b)),
        4 => (0..30_u8).prop_map(Do::Remove),
        1 => (0..3_u8).prop_map(Do::RemoveGlaze),
        1 => Just(Do::RemoveAll),
        3 => (0..7_u8).prop_map(Do::Sql),
        1 => (0..6_u32).prop_map(Do::Update),
        1 => prop::collection::vec(0..30_u8, 0..8).prop_map(Do::Refresh),
        1 => (0..30_u8).prop_map(Do::RolledBack),
        1 => (0..30_u8).prop_map(Do::Nothing),
        1 => (0..3_u8).prop_map(Do::Many),
    ]
}

fn mark(n: u8) -> String {
    format!("K-{n:02}")
}

fn find(drawer: &Drawer, n: u8) -> Option<Key<Piece>> {
    drawer.get_by_own_key::<Piece>(&mark(n)).unwrap().map(|p| p.key())
}

/// What clashes is left as it is.
fn act(drawer: &Drawer, doing: &Do) {
    let stages = [Stage::Thrown, Stage::Bisque, Stage::Glazed, Stage::Unsure];
    match doing {
        Do::Insert(n, grams) => {
            let glaze = drawer.records::<Glaze>().offset((n % 3).into()).first().unwrap().map(|g| g.key());
            drop(drawer.insert(Piece { grams: *grams, glaze, ..piece(&mark(*n)) }));
        }
        Do::Change(n, grams, stage) => {
            if let Some(key) = find(drawer, *n) {
                drawer.change(key, |p| (p.grams, p.stage) = (*grams, stages[usize::from(*stage)])).unwrap();
            }
        }
        Do::Rename(n, to) => {
            if let Some(key) = find(drawer, *n) {
                drop(drawer.change(key, |p| p.mark = mark(*to)));
            }
        }
        Do::Remove(n) => {
            if let Some(key) = find(drawer, *n) {
                drawer.remove(key).unwrap();
            }
        }
        Do::RemoveGlaze(n) => {
            let glaze = drawer.records::<Glaze>().offset((*n).into()).first().unwrap();
            if let Some(glaze) = glaze {
                drawer.remove(glaze.key()).unwrap();
            }
            drop(drawer.insert(glaze_of(*n)));
        }
        Do::RemoveAll => drop(drawer.records::<Piece>().remove().unwrap()),
        Do::Sql(which) => {
            let text = [
                "delete from piece where grams is null",
                "update piece set grams = grams + 1 where grams < 3",
                "delete from piece",
                "replace into piece (mark, stage, grams, remarks) select mark, 'glazed', grams, 'anew' from piece where grams = 2",
                "update piece set key = key + 1000 where mark > 'K-20'",
                "insert or ignore into piece (mark, stage, remarks) values ('K-07', 'thrown', ''), ('K-08', 'odd', '')",
                "update glaze set name = name || '*' where key % 2",
            ][usize::from(*which)];
            drop(drawer.write(|tx| tx.sql(text).run()));
        }
        Do::Update(grams) => {
            drawer.records::<Piece>().filter(|p| p.grams.at_least(*grams)).update(|p| p.remarks.set("heavy")).unwrap();
        }
        Do::Refresh(numbers) => {
            let mut numbers = numbers.clone();
            numbers.sort_unstable();
            numbers.dedup();
            let coming = numbers.into_iter().map(|n| Piece { grams: Some(n.into()), ..piece(&mark(n)) });
            drawer.refresh(coming).remove_absent().run().unwrap();
        }
        Do::RolledBack(n) => {
            let given_up: Result<(), Error> = drawer.write(|tx| {
                tx.records::<Piece>().remove()?;
                tx.insert(piece(&mark(*n)))?;
                Err(Error::own("given up"))
            });
            assert!(given_up.is_err());
        }
        Do::Nothing(n) => {
            drawer.records::<Piece>().filter(|p| p.mark.is(&mark(*n))).update(|p| p.mark.set(&mark(*n))).unwrap();
        }
        Do::Many(n) => {
            let many = (0..1_500).map(|i| Piece { remarks: format!("{n}"), ..piece(&format!("M-{n}-{i:04}")) });
            drop(drawer.insert_all(many));
        }
    }
}

fn glaze_of(n: u8) -> Glaze {
    glaze(["Celadon", "Shino", "Tenmoku"][usize::from(n)])
}

struct LastLetterFirst;

impl TextOrder for LastLetterFirst {
    fn compare(a: &str, b: &str) -> Ordering {
        a.chars().rev().cmp(b.chars().rev())
    }
}

type Selected = fn(&Drawer) -> Records<Piece>;

/// Selections of every kind: on the record alone, with a range, with conditions and orders on linked records.
const SELECTIONS: [Selected; 12] = [
    |d| d.records::<Piece>(),
    |d| {
        d.records::<Piece>()
            .filter(|p| p.grams.at_least(2) | p.stage.is(Stage::Glazed))
            .sort_by(|p| p.grams.descending())
    },
    |d| d.records::<Piece>().sort_by(|p| (p.grams.ascending().missing_last(), p.mark.descending())),
    |d| {
        d.records::<Piece>()
            .filter(|p| !p.mark.starts_with("M"))
            .sort_by(|p| (p.stage.as_declared(), p.grams.ascending()))
    },
    |d| d.records::<Piece>().sort_by(|p| (p.remarks.ascending_ignore_case(), p.mark.ascending_by::<LastLetterFirst>())),
    |d| d.records::<Piece>().sort_by(|p| p.grams.descending()).limit(5),
    |d| d.records::<Piece>().sort_by(|p| p.mark.ascending()).offset(3).limit(4),
    |d| d.records::<Piece>().sort_by(|p| p.mark.descending()).offset(2),
    |d| d.records::<Piece>().sort_by(|p| (p.mark.ascending_by::<LastLetterFirst>(), p.grams.ascending())).limit(3),
    |d| d.records::<Piece>().filter(|p| p.glaze.which(|g| g.name.starts_with("S"))),
    |d| d.records::<Piece>().sort_by(|p| p.glaze.its(|x| x.name).descending()).limit(6),
    |d| {
        d.records::<Piece>()
            .sort_by(|p| p.mark.ascending())
            .after(&AFTER.with(|after| after.borrow().clone().unwrap()))
            .limit(4)
    },
];

thread_local! {
    static AFTER: std::cell::RefCell<Option<velvet_drawer::Stored<Piece>>> = const { std::cell::RefCell::new(None) };
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 0, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn every_screen_shows_what_is_stored_after_whatever_was_done(
        batches in prop::collection::vec(prop::collection::vec(doing(), 1..6), 1..8),
        ranges in prop::collection::vec((0..9_u64, prop::option::of(0..7_u64)), SELECTIONS.len()),
        in_memory in any::<bool>(),
    ) {
        let (_folder, path) = folder();
        let drawer = if in_memory { memory() } else { Drawer::open(&path, schema()).unwrap() };
        drawer.insert_all((0..3).map(glaze_of)).unwrap();
        drawer.insert_all((0..12).map(|n| Piece { grams: Some(u32::from(n) % 5), ..piece(&mark(n)) })).unwrap();
        AFTER.set(drawer.records::<Piece>().offset(4).first().unwrap());
        // Each as it is, in a range, and in one that ends at the same row.
        let selected = |at: usize| {
            let (selected, (offset, limit)) = (SELECTIONS[at / 3](&drawer), ranges[at / 3]);
            match (at % 3, limit) {
                (0, _) => selected,
                (1, Some(limit)) => selected.offset(offset).limit(limit),
                (1, None) => selected.offset(offset),
                (_, Some(limit)) => selected.offset(offset / 2).limit(offset - offset / 2 + limit),
                (_, None) => selected.offset(offset / 2),
            }
        };
        let mut screens: Vec<Screen<_>> = (0..3 * SELECTIONS.len()).map(|at| Screen::of(selected(at).watch())).collect();
        let marks = |d: &Drawer| d.records::<Piece>().filter(|p| p.grams.is_some()).sort_by(|p| p.mark.descending()).only(|p| (p.mark, p.grams));
        let weights = |d: &Drawer| d.records::<Piece>().sort_by(|p| p.grams.ascending()).only(|p| p.grams).distinct();
        let names = |d: &Drawer| d.records::<Piece>().offset(ranges[0].0).limit(4).only(|p| (p.mark, p.glaze.its(|x| x.name)));
        let (mut by_mark, mut by_weight) = (Screen::of(marks(&drawer).watch()), Screen::of(weights(&drawer).watch()));
        let mut linked = Screen::of(names(&drawer).watch());
        let mut groups = Screen::of(drawer.records::<Piece>().group_by(|p| p.stage).watch(|g| (g.count(), g.max(|p| p.grams))));
        let mut count = drawer.watch(|view| Ok((view.count::<Piece>()?, view.records::<Piece>().sum(|p| p.grams)?))).unwrap();
        for batch in &batches {
            batch.iter().for_each(|doing| act(&drawer, doing));
            for (at, screen) in screens.iter_mut().enumerate() {
                screen.until(&selected(at).collect().unwrap());
            }
            by_mark.until(&marks(&drawer).collect().unwrap());
            by_weight.until(&weights(&drawer).collect().unwrap());
            linked.until(&names(&drawer).collect().unwrap());
            groups.until(&drawer.records::<Piece>().group_by(|p| p.stage).collect(|g| (g.count(), g.max(|p| p.grams))).unwrap());
            let expected = (drawer.count::<Piece>().unwrap(), drawer.records::<Piece>().sum(|p| p.grams).unwrap());
            while !matches!(count.now(), State::Loaded(now) if now == expected) {
                prop_assert!(count.news_within(FOR_EVER).is_some());
            }
        }
    }
}

/// One selection sorted by each kind of column.
fn sorted(drawer: &Drawer, by: usize) -> Records<Everything> {
    let all = drawer.records::<Everything>();
    match by {
        0 => all.sort_by(|e| e.title.descending()),
        1 => all.sort_by(|e| e.remarks.ascending_ignore_case().missing_last()),
        2 => all.sort_by(|e| e.i64.ascending()),
        3 => all.sort_by(|e| (e.f64.descending(), e.maybe_f64.ascending())),
        4 => all.sort_by(|e| (e.maybe_f64.descending().missing_first(), e.title.ascending())),
        5 => all.sort_by(|e| (e.bool.descending(), e.day.ascending(), e.timestamp.descending())),
        6 => all.sort_by(|e| e.form.as_declared()),
        7 => all.sort_by(|e| (e.title.ascending_by::<LastLetterFirst>(), e.maybe_f64.descending(), e.u64.ascending())),
        8 => all.sort_by(|e| (e.r#type.ascending(), e.bearing.descending(), e.i8.ascending())),
        9 => all.filter(|e| e.twin.which(|t| t.bool.is(true))),
        11 => all.sort_by(|e| e.alias.descending()),
        13 => all.sort_by(|e| (e.title.descending(), e.remarks.ascending_by::<LastLetterFirst>())),
        12 => all.sort_by(|e| (e.twin.its(|x| x.alias).ascending(), e.title.descending_by::<LastLetterFirst>())),
        10 => all.sort_by(|e| (e.twin.its(|x| x.i64).ascending(), e.uuid.ascending())),
        _ => all.filter(|e| !e.title.contains("z") & e.i64.at_most(9)).sort_by(|e| e.key().descending()).limit(3),
    }
}

fn text() -> impl Strategy<Value = String> {
    prop::collection::vec(
        prop::sample::select(vec!['a', 'Z', 'é', '\0', ' ', 'ß', 'ﬀ', '陶', '🏺', '\u{ff}', 'z']),
        0..4,
    )
    .prop_map(|all| all.into_iter().collect())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 16, max_shrink_iters: 0, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn places_are_those_of_the_engine_for_every_kind_of_column_and_values_at_their_limits(
        batches in prop::collection::vec(prop::collection::vec(
            (0..9_u8, text(), prop::option::of(text()), any::<(i64, bool, u8)>(), 0..8_usize, prop::option::of(0..9_u8)), 1..6), 1..6),
    ) {
        let drawer = Drawer::in_memory(everything::schema()).unwrap();
        let mut screens: Vec<Screen<_>> = (0..15).map(|by| Screen::of(sorted(&drawer, by).watch())).collect();
        let words = |d: &Drawer| d.records::<Everything>().search("bowl a").collect().unwrap();
        let mut search = Screen::of(drawer.records::<Everything>().search("bowl a").watch());
        let titles = || drawer.records::<Everything>().search("bowl a").only(|e| (e.mark, e.title));
        let mut found = Screen::of(titles().watch());
        for batch in batches {
            for (n, title, remarks, (number, is, small), extreme, twin) in batch {
                let float = [0.0, -0.0, f64::MAX, f64::MIN_POSITIVE, -1.5, 9_007_199_254_740_993.0, f64::INFINITY, f64::NEG_INFINITY][extreme];
                let integer = [i64::MIN, i64::MAX, 0, 9_007_199_254_740_993, -1, number, i64::from(small), 9][extreme];
                let twin = twin.and_then(|t| drawer.get_by_own_key::<Everything>(&format!("E-{t}")).unwrap()).map(|t| t.key());
                let form = [Form::Bowl, Form::Select, Form::Other("odd".into())][extreme % 3].clone();
                let new = Everything {
                    alias: Some(format!("{}{n}", title.replace('\0', ""))),
                    title: if small % 2 == 0 { format!("{title} bowl") } else { title },
                    remarks,
                    i64: integer,
                    u64: integer.unsigned_abs() / 2,
                    f64: float,
                    maybe_f64: is.then_some(-float),
                    bool: is,
                    form,
                    twin,
                    i8: small.cast_signed(),
                    r#type: small.to_string(),
                    ..everything::plain(n)
                };
                match drawer.get_by_own_key::<Everything>(&new.mark).unwrap() {
                    Some(old) if small % 5 == 0 => drop(drawer.remove(old.key()).unwrap()),
                    Some(old) => drop(drawer.change(old.key(), |e| *e = new).unwrap()),
                    None => drop(drawer.insert(new).unwrap()),
                }
            }
            for (by, screen) in screens.iter_mut().enumerate() {
                screen.until(&sorted(&drawer, by).collect().unwrap());
            }
            search.until(&words(&drawer));
            found.until(&titles().collect().unwrap());
        }
    }
}

static COMPARED: AtomicU32 = AtomicU32::new(0);

struct Counted;

impl TextOrder for Counted {
    fn compare(a: &str, b: &str) -> Ordering {
        COMPARED.fetch_add(1, Relaxed);
        a.cmp(b)
    }
}

#[test]
fn only_what_a_commit_wrote_is_looked_at_and_two_screens_share_the_work() {
    let drawer = memory();
    let many = |d: &Drawer| d.insert_all((0..3_000).map(|n| piece(&format!("K-{n:04}")))).unwrap();
    let keys: Vec<_> = many(&drawer).iter().map(|p| p.key()).collect();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.ascending_by::<Counted>());
    let (mut one, mut other) = (Screen::of(sorted().watch()), sorted().watch().unwrap());
    one.until(&sorted().collect().unwrap());
    COMPARED.store(0, Relaxed);
    for (n, key) in keys.iter().enumerate().step_by(700) {
        drawer.change(*key, |p| p.mark = format!("K-{:04}+", 2_900 - n)).unwrap();
        let update = loaded(&mut one.live);
        one.take(&update);
    }
    drawer.remove(keys[5]).unwrap();
    let update = loaded(&mut one.live);
    one.take(&update);
    let compared = COMPARED.load(Relaxed);
    assert!((1..600).contains(&compared), "sorting them anew compares some 30,000 texts: {compared}");
    one.until(&sorted().collect().unwrap());

    let (State::Loaded(a), b) = (one.live.now(), loaded(&mut other)) else { panic!("both have the list") };
    assert!(b.before.is_none() && a.iter().zip(b.result.iter()).all(|(a, b)| std::ptr::eq(a, b)));
    let mut else_sorted = drawer.records::<Piece>().sort_by(|p| p.mark.descending()).watch().unwrap();
    assert!(!std::ptr::eq(&loaded(&mut else_sorted).result[2_998], &a[0]), "something else is not shared");
}

#[test]
fn nothing_is_told_of_commits_that_change_nothing_of_the_result() {
    let drawer = memory();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let mut heavy =
        drawer.records::<Piece>().filter(|p| p.grams.at_least(600)).sort_by(|p| p.mark.ascending()).watch().unwrap();
    let mut linked = drawer.records::<Piece>().filter(|p| p.glaze.which(|g| g.name.is("Shino"))).watch().unwrap();
    let mut count = drawer.watch(|view| view.count::<Piece>()).unwrap();
    drop((loaded(&mut heavy), loaded(&mut linked), loaded(&mut count)));
    drawer.insert(glaze("Celadon")).unwrap();
    let light = drawer.insert(Piece { grams: Some(1), ..piece("K-2") }).unwrap();
    drawer.change(bowl.key(), |p| p.grams = Some(640)).unwrap();
    drawer.write(|tx| tx.sql("update piece set grams = grams, mark = mark").run()).unwrap();
    drawer.remove(light.key()).unwrap();
    assert!(heavy.news_within(A_MOMENT).is_none());
    assert!(linked.news().is_none() && count.news().is_none(), "the count is what it was before, too");

    let mut quick =
        drawer.records::<Piece>().filter(|p| p.grams.at_least(600)).sort_by(|p| p.mark.ascending()).watch().unwrap();
    loaded(&mut quick);
    for grams in [700, 640] {
        drawer.change(bowl.key(), |p| p.grams = Some(grams)).unwrap();
        assert_eq!(loaded(&mut quick).result[0].grams, Some(grams));
    }
    assert!(heavy.news().is_none(), "whoever did not look meanwhile has what there is");
}

#[test]
fn one_record_is_followed_from_before_it_is_there_until_after_it_is_gone() {
    let drawer = memory();
    let mut by_mark = drawer.watch_by_own_key::<Piece>("K-1").unwrap();
    let mut by_key = drawer.watch_record(Key::<Piece>::from_number(2)).unwrap();
    assert!(loaded(&mut by_mark).result.is_none() && loaded(&mut by_key).result.is_none());
    drawer.insert(piece("K-0")).unwrap();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    assert_eq!(loaded(&mut by_mark).result.as_deref(), Some(&bowl));
    assert_eq!(loaded(&mut by_key).result.as_deref(), Some(&bowl));
    drawer.change(bowl.key(), |p| p.mark = "K-2".into()).unwrap();
    assert!(loaded(&mut by_mark).result.is_none(), "another has that own key now, or none");
    assert_eq!(loaded(&mut by_key).result.map(|p| p.mark.clone()).as_deref(), Some("K-2"));
    // What is again as it was is no news for whoever did not look in between.
    let mut quick = drawer.watch_record(bowl.key()).unwrap();
    loaded(&mut quick);
    for grams in [1, 640] {
        drawer.change(bowl.key(), |p| p.grams = Some(grams)).unwrap();
        assert_eq!(loaded(&mut quick).result.map(|p| p.grams), Some(Some(grams)));
    }
    assert!(by_key.news().is_none());
    drawer.remove(bowl.key()).unwrap();
    assert!(loaded(&mut by_key).result.is_none());
}

#[test]
fn what_was_not_loaded_yet_is_empty_or_cannot_be_read_are_told_apart_and_it_goes_on_by_itself() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().others_noticed_within(Duration::from_millis(5)).open(&path, schema()).unwrap();
    let (begin, begun) = mpsc::channel::<()>();
    let mut slow = drawer
        .watch(move |view| {
            let _ = begun.recv_timeout(FOR_EVER);
            view.count::<Recipe>()
        })
        .unwrap();
    let mut list = drawer.records::<Recipe>().watch().unwrap();
    assert!(matches!(slow.now(), State::Loading) && slow.news().is_none());
    begin.send(()).unwrap();
    assert_eq!(loaded(&mut slow).result, 0);
    let mut first = None;
    while first.is_none() {
        let _ = begin.send(());
        first = list.news_within(Duration::from_millis(20));
    }
    assert!(
        first.unwrap().unwrap().result.is_empty() && matches!(list.now(), State::Loaded(empty) if empty.is_empty())
    );
    drop(slow);

    let shino = drawer.insert(glaze("Shino")).unwrap();
    drawer.insert(Recipe { glaze: shino.key(), text: "ash".into() }).unwrap();
    assert_eq!(loaded(&mut list).result.len(), 1);
    // Another program writes what is no text.
    let other = other_program(&path);
    other.execute_batch("PRAGMA ignore_check_constraints = ON").unwrap();
    other.execute("UPDATE recipe SET text = CAST(x'ff' AS TEXT)", []).unwrap();
    let failed = list.news_within(FOR_EVER).expect("a failure").unwrap_err();
    assert!(failed.is_unreadable() && failed.to_string().contains("recipe.text"), "{failed}");
    assert!(matches!(list.now(), State::Failed { last: Some(last), .. } if last[0].text == "ash"));
    assert!(list.news_within(A_MOMENT).is_none(), "a failure is told once");
    other.execute("UPDATE recipe SET text = 'ash'", []).unwrap();
    let back = loaded(&mut list);
    assert!(back.is_back && back.result[0].text == "ash" && back.steps().is_empty(), "the same as before");
    other.execute("UPDATE recipe SET text = 'ash and bone'", []).unwrap();
    let update = loaded(&mut list);
    assert!(!update.is_back && update.steps() == [Step::Changed { at: 0, number: 1 }]);

    let mut broken =
        drawer.watch(|view| if view.count::<Glaze>()? > 1 { panic!("no more shelves") } else { Ok(1) }).unwrap();
    assert_eq!(loaded(&mut broken).result, 1);
    let celadon = drawer.insert(glaze("Celadon")).unwrap();
    let failed = broken.news_within(FOR_EVER).unwrap().unwrap_err();
    assert!(failed.is_own() && failed.to_string().contains("no more shelves"), "{failed}");
    drawer.remove(celadon.key()).unwrap();
    assert!(loaded(&mut broken).is_back);
}

#[test]
fn it_rests_while_paused_and_while_the_app_is_in_the_background() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let mut list = drawer.records::<Piece>().watch().unwrap();
    let mut other = drawer.records::<Piece>().watch().unwrap();
    drop((loaded(&mut list), loaded(&mut other)));
    for round in 0..3_usize {
        let hide = |is: bool| match (round, is) {
            (0, true) => list.pause(),
            (0, false) => list.go_on(),
            (_, true) => drop(drawer.going_to_background(Duration::from_secs(5)).unwrap()),
            (_, false) => drawer.back_in_foreground().unwrap(),
        };
        hide(true);
        let of_others = [0, 2, 5][round];
        for n in 0..of_others {
            // Nothing of the drawer's is open then, so nothing counts it.
            let text = "INSERT INTO piece (mark, stage, remarks) VALUES (?1, 'thrown', '')";
            other_program(&path).execute(text, [format!("of another {round} {n}")]).unwrap();
        }
        for n in 0..5 - of_others {
            drawer.insert(piece(&format!("K-{round}-{n}"))).unwrap();
        }
        if round == 0 {
            while other.now_len() < 5 {
                loaded(&mut other);
            }
        }
        assert!(matches!(list.now(), State::Loaded(_)));
        assert!(other.news_within(A_MOMENT).is_none());
        hide(false);
        let update = loaded(&mut list);
        assert_eq!((update.result.len(), update.steps().len()), (5 * round + 5, 5), "one update for all of it");
        assert!(list.news_within(A_MOMENT).is_none());
        while other.now_len() < 5 * round + 5 {
            loaded(&mut other);
        }
        while other.news().is_some() {}
    }
}

trait NowLen {
    fn now_len(&self) -> usize;
}

impl<R: Send + Sync + 'static> NowLen for Live<List<R>> {
    fn now_len(&self) -> usize {
        if let State::Loaded(list) = self.now() { list.len() } else { 0 }
    }
}

#[test]
fn dropping_stopping_and_closing_end_it_at_once_also_in_the_middle_of_work() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let endless = "with recursive n (i) as (select 1 union all select i + 1 from n) select count(*) as i from n";
    #[derive(velvet_drawer::Excerpt)]
    struct Counted {
        i: i64,
    }
    let forever = || {
        let (begin, begun) = mpsc::channel();
        let live = drawer.watch(move |view| {
            begin.send(()).unwrap();
            Ok(view.sql(endless).first::<Counted>()?.map(|c| c.i))
        });
        begun.recv_timeout(FOR_EVER).unwrap();
        live.unwrap()
    };
    drop(forever());
    let stopped = forever();
    stopped.switch().stop();
    assert!(stopped.is_over());
    let mut list = drawer.records::<Piece>().watch().unwrap();
    loaded(&mut list);
    let switch = list.switch();
    let waits = thread::spawn(move || list.next().is_none() && list.is_over());
    thread::sleep(Duration::from_millis(20));
    switch.stop();
    assert!(waits.join().unwrap());

    // Threads that stop clones of one switch at once stop one list.
    let mut stays = drawer.records::<Piece>().watch().unwrap();
    loaded(&mut stays);
    for round in 0..300 {
        let list = drawer.records::<Piece>().watch().unwrap();
        let barrier = std::sync::Barrier::new(2);
        thread::scope(|scope| {
            for switch in [list.switch(), list.switch()] {
                let barrier = &barrier;
                scope.spawn(move || {
                    barrier.wait();
                    switch.stop();
                });
            }
        });
        drop(list);
        // Each update waits a little after the one before.
        if round % 50 == 49 {
            drawer.insert(piece(&format!("stays {round}"))).unwrap();
            while stays.now_len() <= round / 50 {
                assert!(stays.news_within(FOR_EVER).is_some(), "round {round}");
            }
        }
    }

    let unfinished = forever();
    let mut list = drawer.records::<Piece>().watch().unwrap();
    let waits = thread::spawn(move || list.by_ref().count());
    let (done, closed) = mpsc::channel();
    thread::spawn(move || done.send(drawer.close()));
    closed.recv_timeout(FOR_EVER).expect("closing does not wait for it").unwrap();
    assert!(waits.join().unwrap() <= 1 && unfinished.is_over());
    assert!(matches!(unfinished.now(), State::Loading));
}

#[test]
fn updates_come_as_a_stream_on_any_runtime() {
    use smol::stream::StreamExt;
    let drawer = memory();
    let follow = |drawer: Drawer, run: &dyn Fn(std::pin::Pin<Box<dyn Future<Output = Vec<usize>>>>) -> Vec<usize>| {
        drawer.records::<Piece>().remove().unwrap();
        let mut stream = drawer.records::<Piece>().watch().unwrap().stream();
        let lengths = run(Box::pin(async move {
            let mut lengths = Vec::new();
            let mut writer = None;
            while let Some(update) = stream.next().await {
                lengths.push(update.unwrap().result.len());
                if lengths.last() == Some(&20) {
                    break;
                }
                let drawer = drawer.clone();
                writer.get_or_insert_with(|| {
                    thread::spawn(move || (0..20).for_each(|n| drop(drawer.insert(piece(&format!("K-{n}"))).unwrap())))
                });
            }
            writer.unwrap().join().unwrap();
            lengths
        }));
        assert!(lengths.len() > 1 && lengths.is_sorted() && lengths[0] == 0, "{lengths:?}");
    };
    let tokio = tokio::runtime::Builder::new_current_thread().build().unwrap();
    follow(drawer.clone(), &|future| tokio.block_on(future));
    follow(drawer.clone(), &|future| smol::block_on(future));
    follow(drawer.clone(), &|future| pollster::block_on(future));
    let ended = drawer.records::<Piece>().watch().unwrap();
    let switch = ended.switch();
    let stops = thread::spawn(move || {
        thread::sleep(Duration::from_millis(50));
        switch.stop();
    });
    assert!(pollster::block_on(ended.stream().count()) <= 1);
    stops.join().unwrap();
}

#[test]
fn threads_that_write_all_the_time_never_show_a_screen_what_was_not_stored() {
    let (_folder, path) = folder();
    // Whoever writes all the time may keep others waiting for long.
    let drawer = Drawer::options().relaxed().lock_timeout(FOR_EVER).open(&path, schema()).unwrap();
    drawer.insert_all((0..40).map(|n| Piece { grams: Some(100), ..piece(&mark(n)) })).unwrap();
    let is_over = Arc::new(AtomicBool::new(false));
    let writers: Vec<_> = (0..3_u8)
        .map(|thread| {
            let (drawer, is_over) = (drawer.clone(), Arc::clone(&is_over));
            thread::spawn(move || {
                let mut n = thread;
                while !is_over.load(Relaxed) {
                    n = n.wrapping_mul(5).wrapping_add(7);
                    let (from, to) = (find(&drawer, n % 40).unwrap(), find(&drawer, (n / 3) % 40).unwrap());
                    let moved = drawer.write(|tx| {
                        tx.change(from, |p| p.grams = p.grams.map(|g| g - g.min(1)))?;
                        let had = tx.get(from)?.unwrap().grams;
                        if had == Some(0) {
                            return Err(Error::own("nothing left"));
                        }
                        tx.change(to, |p| p.grams = p.grams.map(|g| g + 1)).map(drop)
                    });
                    assert!(moved.as_ref().map_or_else(Error::is_own, |()| true), "{moved:?}");
                }
            })
        })
        .collect();
    let others = other_program(&path);
    others.busy_timeout(FOR_EVER).unwrap();
    let by_others = move |from: i64, to: i64| {
        let text = "UPDATE piece SET grams = grams + iif(key = ?1, -9, 9) WHERE key IN (?1, ?2)
            AND (SELECT grams FROM piece WHERE key = ?1) > 9";
        others.execute(text, [from, to]).unwrap();
    };
    let ends = Arc::clone(&is_over);
    let other = thread::spawn(move || {
        while !ends.load(Relaxed) {
            by_others(3, 5);
            by_others(5, 3);
            thread::yield_now();
        }
        by_others
    });
    let by_weight = || drawer.records::<Piece>().sort_by(|p| (p.grams.descending(), p.mark.ascending()));
    let mut all = Screen::of(by_weight().watch());
    let mut first = Screen::of(by_weight().limit(7).watch());
    let mut sum = drawer.watch(|view| view.records::<Piece>().sum(|p| p.grams)).unwrap();
    let mut more: Vec<_> = (40..52).map(|limit| by_weight().limit(limit).watch().unwrap()).collect();
    let is_of_one_moment = |update: &Update<List<velvet_drawer::Stored<Piece>>>| {
        let grams: Vec<_> = update.result.iter().map(|p| p.grams.unwrap()).collect();
        assert!(grams.iter().sum::<u32>() == 4_000 && grams.is_sorted_by(|a, b| a >= b), "of one moment, and in order");
    };
    for round in 0..25 {
        let update = loaded(&mut all.live);
        all.take(&update);
        is_of_one_moment(&update);
        more.iter_mut().filter_map(Live::news).for_each(|update| is_of_one_moment(&update.unwrap()));
        if let Some(update) = first.live.news() {
            first.take(&update.unwrap());
        }
        if round == 12 {
            all.live.pause();
            thread::sleep(Duration::from_millis(60));
            all.live.go_on();
        }
    }
    is_over.store(true, Relaxed);
    writers.into_iter().for_each(|writer| writer.join().unwrap());
    let by_others = other.join().unwrap();
    // The app hears of what the others wrote last when it writes.
    drawer.change(find(&drawer, 7).unwrap(), |p| p.remarks.push('!')).unwrap();
    all.until(&by_weight().collect().unwrap());
    first.until(&by_weight().limit(7).collect().unwrap());
    assert_eq!(loaded(&mut sum).result, 4_000);
    assert!(sum.news_within(A_MOMENT).is_none(), "however much was moved, it stayed the same");

    // Nobody looks at others here; what they wrote is in the state in which the app's own row is asked for.
    all.live.pause();
    drawer.change(find(&drawer, 7).unwrap(), |p| p.remarks.push('!')).unwrap();
    by_others(3, 5);
    all.live.go_on();
    let update = loaded(&mut all.live);
    is_of_one_moment(&update);
    assert!(update.result.iter().eq(&by_weight().collect().unwrap()));
}

#[test]
fn cascades_triggers_and_tables_that_were_not_read_before_are_heard_of() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (bowl, shino) = (drawer.insert(piece("K-1")).unwrap(), drawer.insert(glaze("Shino")).unwrap());
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    drawer.change(bowl.key(), |p| p.glaze = Some(shino.key())).unwrap();
    drawer.close().unwrap();
    // A trigger of somebody's that replaces rows, of which the engine does not tell.
    other_program(&path)
        .execute_batch(
            "CREATE TRIGGER of_somebody AFTER INSERT ON recipe BEGIN
                 INSERT OR REPLACE INTO glaze (key, name) VALUES (NEW.key + 50, 'Shino'); END",
        )
        .unwrap();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let mut photos = drawer.records::<Photo>().watch().unwrap();
    let mut glazes = drawer.records::<Glaze>().watch().unwrap();
    let mut unglazed = drawer.records::<Piece>().filter(|p| p.glaze.is_none()).watch().unwrap();
    let mut either = drawer
        .watch(|view| if view.records::<Glaze>().any()? { Ok(None) } else { Ok(Some(view.count::<Photo>()?)) })
        .unwrap();
    assert!(loaded(&mut unglazed).result.is_empty() && loaded(&mut either).result.is_none());
    drop((loaded(&mut photos), loaded(&mut glazes)));
    drawer.remove(shino.key()).unwrap();
    assert_eq!(loaded(&mut unglazed).result.len(), 1, "the link was cleared");
    assert_eq!(loaded(&mut either).result, Some(1));
    drawer.remove(bowl.key()).unwrap();
    assert!(loaded(&mut photos).result.is_empty() && loaded(&mut unglazed).result.is_empty());
    assert_eq!(loaded(&mut either).result, Some(0), "a table that was not read at first");

    assert!(loaded(&mut glazes).result.is_empty());
    let raku = drawer.insert(glaze("Raku")).unwrap();
    let mut screen = Screen { live: glazes, shown: Vec::new(), updates: 1 };
    for text in ["ash", "bone"] {
        drawer.insert(Recipe { glaze: raku.key(), text: text.into() }).unwrap();
        let expected = drawer.records::<Glaze>().collect().unwrap();
        assert_eq!(expected.len(), 2, "the one before was replaced");
        screen.until(&expected);
    }
}

#[test]
fn what_stands_behind_a_range_comes_into_it_in_its_turn() {
    let drawer = memory();
    let keys: Vec<_> = drawer.insert_all((0..100).map(|n| piece(&mark(n)))).unwrap().iter().map(|p| p.key()).collect();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.ascending());
    let mut first = Screen::of(sorted().limit(3).watch());
    let mut middle = Screen::of(sorted().offset(2).limit(3).watch());
    first.until(&sorted().limit(3).collect().unwrap());
    // Far behind what is held, and then all before it goes.
    drawer.change(keys[90], |p| p.grams = None).unwrap();
    drawer.insert(piece("K-50+")).unwrap();
    for key in &keys[..40] {
        drawer.remove(*key).unwrap();
        first.until(&sorted().limit(3).collect().unwrap());
    }
    middle.until(&sorted().offset(2).limit(3).collect().unwrap());
    drawer.insert_all((0..40).map(|n| piece(&format!("A-{n:02}")))).unwrap();
    drawer.records::<Piece>().filter(|p| p.mark.starts_with("A-")).remove().unwrap();
    first.until(&sorted().limit(3).collect().unwrap());
    middle.until(&sorted().offset(2).limit(3).collect().unwrap());
}

#[test]
fn changes_of_other_devices_imports_and_a_schema_with_every_kind_of_column_are_commits_like_any_other() {
    let (_folder, path) = folder();
    let one = Drawer::in_memory(everything::schema()).unwrap();
    let options = Drawer::options().others_noticed_within(Duration::from_millis(5));
    let other = options.open(&path, everything::schema()).unwrap();
    let mut all = Screen::of(other.records::<Everything>().sort_by(|e| e.title.ascending()).watch());
    let mut owners = Screen::of(other.records::<Owner>().watch());
    let owner = one.insert(Owner::named("Ada")).unwrap();
    one.insert_all([Everything { owner: Some(owner.key()), ..everything::plain(1) }, everything::plain(2)]).unwrap();
    let mut lines = Vec::new();
    let next = one.changes_since(Position::START).write_json_lines(&mut lines).unwrap();
    other.apply_changes(lines.as_slice()).from("one").run().unwrap();
    all.until(&other.records::<Everything>().collect().unwrap());
    owners.until(&other.records::<Owner>().collect().unwrap());
    assert_eq!((all.shown.len(), owners.shown.len()), (2, 1));
    one.remove(owner.key()).unwrap();
    let mut lines = Vec::new();
    one.changes_since(next).write_json_lines(&mut lines).unwrap();
    other.apply_changes(lines.as_slice()).from("one").run().unwrap();
    owners.until(&[]);
    all.until(&other.records::<Everything>().collect().unwrap());
    assert_eq!(all.shown.len(), 1, "what linked to it went with it");

    let rows = "{\"name\":\"Ida\"}\n{\"name\":\"Uma\"}\n";
    import(&path, Some("owner"), Exchange::JsonLines, &mut rows.as_bytes(), &Limits::default()).unwrap();
    owners.until(&other.records::<Owner>().collect().unwrap());
    assert_eq!(owners.shown.len(), 2);
}

#[test]
fn what_is_committed_to_a_table_while_it_is_read_for_the_first_time_is_not_missed() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (bowl, shino) = (drawer.insert(piece("K-1")).unwrap(), drawer.insert(glaze("Shino")).unwrap());
    let ((begin, begun), (go_on, wait)) = (mpsc::channel::<()>(), mpsc::channel::<()>());
    let mut photos = drawer
        .watch(move |view| {
            if view.records::<Glaze>().any()? {
                return Ok(None);
            }
            let _ = begin.send(());
            let _ = wait.recv_timeout(FOR_EVER);
            Ok(Some(view.count::<Photo>()?))
        })
        .unwrap();
    assert_eq!(loaded(&mut photos).result, None);
    drawer.remove(shino.key()).unwrap();
    begun.recv_timeout(FOR_EVER).unwrap();
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    drop(go_on);
    assert_eq!(loaded(&mut photos).result, Some(0), "the state that it was read from");
    assert_eq!(loaded(&mut photos).result, Some(1));
}

#[test]
fn a_file_whose_texts_are_written_otherwise_sorts_otherwise_and_is_followed_all_the_same() {
    let (_folder, path) = folder();
    other_program(&path)
        .execute_batch(
            "PRAGMA encoding = 'UTF-16le'; CREATE TABLE glaze (key INTEGER PRIMARY KEY, name TEXT COLLATE NOCASE);
             INSERT INTO glaze (name) VALUES ('\u{1f3fa}'), ('\u{ff61}'), ('b'), ('A')",
        )
        .unwrap();
    let drawer = Drawer::options().adopt().open(&path, Schema::new("glazes").record::<Glaze>()).unwrap();
    let encoding: String = other_program(&path).query_row("PRAGMA encoding", [], |row| row.get(0)).unwrap();
    assert_eq!(encoding, "UTF-16le");
    let sorted = || drawer.records::<Glaze>().sort_by(|g| g.name.ascending());
    let mut screen = Screen::of(sorted().watch());
    screen.until(&sorted().collect().unwrap());
    for name in ["\u{ff62}", "\u{1f3fb}", "ab", "\u{100}", "B"] {
        drawer.insert(glaze(name)).unwrap();
        screen.until(&sorted().collect().unwrap());
    }
    let by_bytes = sorted().collect().unwrap().is_sorted_by(|a, b| a.name <= b.name);
    assert!(!by_bytes, "the bytes of the texts in memory say nothing of their order there");
}

#[test]
fn trails_compacting_and_low_memory_change_nothing_of_what_is_followed() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let stored = drawer.insert_all((0..30).map(|n| piece(&mark(n)))).unwrap();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.descending());
    let mut screen = Screen::of(sorted().watch());
    screen.until(&sorted().collect().unwrap());
    drawer.compact().unwrap();
    drawer.memory_is_low();
    drawer.copy_to(path.with_file_name("copy.drawer")).unwrap();
    assert!(screen.live.news_within(A_MOMENT).is_none());
    for piece in &stored[..3] {
        drawer.remove(piece.key()).unwrap();
        drawer.compact().unwrap();
        drawer.insert(common::piece(&format!("new {}", piece.mark))).unwrap();
        screen.until(&sorted().collect().unwrap());
    }
}

#[test]
fn an_upgrade_by_another_process_is_told_to_lists_settings_and_whatever_is_watched() {
    #[derive(velvet_drawer::Settings, Clone, PartialEq, Debug)]
    struct Bench {
        top: u32,
    }
    let (_folder, path) = folder();
    let schema = || Schema::new("kilnbook").record::<Glaze>().settings::<Bench>();
    let drawer = Drawer::options().others_noticed_within(Duration::from_millis(5)).open(&path, schema()).unwrap();
    let mut list = drawer.records::<Glaze>().watch().unwrap();
    let mut settings = drawer.settings::<Bench>().watch().unwrap();
    let mut field = drawer.settings::<Bench>().watch_field(|b| b.top).unwrap();
    let mut value = drawer.watch(|view| view.count::<Glaze>()).unwrap();
    drop((loaded(&mut list), loaded(&mut settings), loaded(&mut field), loaded(&mut value)));
    assert_eq!(drawer.settings::<Bench>().get().unwrap().top, 0);
    other_program(&path).pragma_update(None, "user_version", 2).unwrap();
    assert!(list.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(value.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(field.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(settings.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    let begun = Instant::now();
    while drawer.settings::<Bench>().get().is_ok() {
        assert!(begun.elapsed() < FOR_EVER);
    }
}
