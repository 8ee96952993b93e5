//! Results that follow what is stored, against what is read anew.

mod heard;
mod lifetime;
mod lists;

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
