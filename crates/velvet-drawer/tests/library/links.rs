//! Following links: conditions on what is linked, loading it, counting it, in both directions and several levels deep.

use crate::common;
use common::{folder, other_program};
use proptest::prelude::*;
use std::path::PathBuf;
use std::sync::Mutex;
use velvet_drawer::{Drawer, Key, Record, Schema, Stored, TextOrder};

#[derive(Record, Clone, Debug, PartialEq)]
struct Potter {
    name: String,
    #[record(link(on_delete = clear))]
    teacher: Option<Key<Potter>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Pot {
    grams: Option<u32>,
    by: Key<Potter>,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Photo {
    #[record(link(on_delete = remove))]
    pot: Option<Key<Pot>>,
    side: String,
}

/// Potters and the courses they go to: many to many.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(unique(potter, course))]
struct Place {
    potter: Key<Potter>,
    course: Key<Course>,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Course {
    title: String,
}

fn schema() -> Schema {
    Schema::new("school").record::<Potter>().record::<Pot>().record::<Photo>().record::<Place>().record::<Course>()
}

/// The same as the drawer holds, in lists.
struct School {
    drawer: Drawer,
    potters: Vec<Stored<Potter>>,
    pots: Vec<Stored<Pot>>,
    photos: Vec<Stored<Photo>>,
}

fn school(teachers: &[Option<u8>], pots: &[(u8, Option<u32>)], photos: &[Option<u8>]) -> School {
    let drawer = Drawer::in_memory(schema()).unwrap();
    let mut potters: Vec<Stored<Potter>> = Vec::new();
    for (n, teacher) in teachers.iter().enumerate() {
        let teacher = teacher.and_then(|t| potters.get(usize::from(t)).map(Stored::key));
        let name = ["Ada", "ben", "Cleo", "dan"][n % 4].to_owned();
        potters.push(drawer.insert(Potter { name, teacher }).unwrap());
    }
    let made =
        |(by, grams): &(u8, Option<u32>)| Pot { grams: *grams, by: potters[usize::from(*by) % potters.len()].key() };
    let pots = drawer.insert_all(pots.iter().map(made)).unwrap();
    let taken = |(n, pot): (usize, &Option<u8>)| Photo {
        pot: pot.and_then(|p| pots.get(usize::from(p)).map(Stored::key)),
        side: ["front", "foot"][n % 2].to_owned(),
    };
    let photos = drawer.insert_all(photos.iter().enumerate().map(taken)).unwrap();
    School { drawer, potters, pots, photos }
}

fn keys<T: Record>(list: &[Stored<T>]) -> Vec<Key<T>> {
    list.iter().map(Stored::key).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn links_are_followed_as_rust_follows_them_through_lists(
        teachers in prop::collection::vec(prop::option::of(0..4_u8), 1..6),
        pots in prop::collection::vec((0..6_u8, prop::option::of(0..5_u32)), 0..8),
        photos in prop::collection::vec(prop::option::of(0..8_u8), 0..10),
        least in 0..5_u32,
    ) {
        let School { drawer, potters, pots, photos } = school(&teachers, &pots, &photos);
        let potter = |key: Key<Potter>| potters.iter().find(|p| p.key() == key).unwrap();
        let pots_of = |p: &Stored<Potter>| pots.iter().filter(|pot| pot.by == p.key()).cloned().collect::<Vec<_>>();
        let photos_of = |p: &Stored<Pot>| photos.iter().filter(|ph| ph.pot == Some(p.key())).cloned().collect::<Vec<_>>();

        // Conditions: forward, backward, on itself, three levels deep.
        let adas = drawer.records::<Pot>().filter(|p| p.by.which(|b| b.name.is("Ada"))).collect().unwrap();
        let expected: Vec<_> = pots.iter().filter(|p| potter(p.by).name == "Ada").cloned().collect();
        prop_assert_eq!(adas, expected);
        let heavy = drawer.records::<Potter>()
            .filter(|p| p.linked_from::<Pot>(|pot| pot.by).filter(|pot| pot.grams.at_least(least)).any());
        let is_heavy = |p: &&Stored<Potter>| pots_of(p).iter().any(|pot| pot.grams.is_some_and(|g| g >= least));
        let expected: Vec<_> = potters.iter().filter(is_heavy).cloned().collect();
        prop_assert_eq!(heavy.collect().unwrap(), expected);
        let without_pupils = drawer.records::<Potter>().filter(|p| !p.linked_from::<Potter>(|pupil| pupil.teacher).any());
        let expected: Vec<_> =
            potters.iter().filter(|p| potters.iter().all(|q| q.teacher != Some(p.key()))).cloned().collect();
        prop_assert_eq!(without_pupils.collect().unwrap(), expected);
        let of_adas_pupils = drawer.records::<Photo>()
            .filter(|ph| ph.pot.which(|p| p.by.which(|b| b.teacher.which(|t| t.name.is("Ada")))));
        let is_theirs = |ph: &&Stored<Photo>| {
            let maker = ph.pot.map(|key| potter(pots.iter().find(|p| p.key() == key).unwrap().by));
            maker.and_then(|m| m.teacher).is_some_and(|t| potter(t).name == "Ada")
        };
        prop_assert_eq!(of_adas_pupils.collect().unwrap(), photos.iter().filter(is_theirs).cloned().collect::<Vec<_>>());

        // Computed of links: a column two links away, a count on itself, a sum; as values, as order, as condition.
        let rows = drawer.records::<Potter>().only(|p| (
            p.key(),
            p.teacher.its(|t| t.teacher.its(|t| t.name)),
            p.linked_from::<Potter>(|pupil| pupil.teacher).count(),
            p.linked_from::<Pot>(|pot| pot.by).make(|all| all.sum(|pot| pot.grams)),
        )).collect().unwrap();
        for (row, p) in rows.iter().zip(&potters) {
            let grand = p.teacher.and_then(|t| potter(t).teacher).map(|t| potter(t).name.clone());
            let pupils = potters.iter().filter(|q| q.teacher == Some(p.key())).count() as u64;
            let grams = pots_of(p).iter().filter_map(|pot| pot.grams).map(i64::from).sum::<i64>();
            prop_assert_eq!(row, &(p.key(), grand, pupils, grams));
        }
        let sorted = drawer.records::<Potter>()
            .filter(|p| p.linked_from::<Pot>(|pot| pot.by).count().at_least(1))
            .sort_by(|p| p.linked_from::<Pot>(|pot| pot.by).count().descending()).collect().unwrap();
        let mut expected: Vec<_> = potters.iter().filter(|p| !pots_of(p).is_empty()).cloned().collect();
        expected.sort_by_key(|p| std::cmp::Reverse((pots_of(p).len(), p.key())));
        prop_assert_eq!(keys(&sorted), keys(&expected));

        // Loaded with the records: the maker and their teacher; the photos by side; how many fellow pots there are.
        let loaded = drawer.records::<Pot>().sort_by(|p| p.grams.descending()).with(|p| (
            p.by.with(|b| b.teacher),
            p.linked_from::<Photo>(|ph| ph.pot).sort_by(|ph| ph.side.ascending()),
            p.by.its(|b| b.linked_from::<Pot>(|pot| pot.by).count()),
        )).collect().unwrap();
        prop_assert_eq!(loaded.len(), pots.len());
        for (pot, ((maker, teacher), shots, fellows)) in &loaded {
            prop_assert_eq!(maker, potter(pot.by));
            prop_assert_eq!(teacher.as_ref().map(Stored::key), maker.teacher);
            let mut expected = photos_of(pot);
            expected.sort_by_key(|ph| (ph.side.clone(), ph.key()));
            prop_assert_eq!(shots, &expected);
            prop_assert_eq!(*fellows, Some(pots_of(maker).len() as u64));
        }
        let deep = drawer.records::<Potter>()
            .with(|p| p.linked_from::<Pot>(|pot| pot.by).filter(|pot| pot.grams.is_some())
                .with(|pot| pot.linked_from::<Photo>(|ph| ph.pot)))
            .collect().unwrap();
        for (p, theirs) in &deep {
            let expected: Vec<_> = pots_of(p).into_iter().filter(|pot| pot.grams.is_some()).collect();
            let expected: Vec<_> = expected.into_iter().map(|pot| { let shots = photos_of(&pot); (pot, shots) }).collect();
            prop_assert_eq!(theirs, &expected);
        }

        // The first few of each, also of itself, and with more.
        let few = drawer.records::<Potter>().with(|p| (
            p.linked_from::<Pot>(|pot| pot.by).sort_by(|pot| pot.grams.descending()).limit(u64::from(least))
                .filter(|pot| pot.grams.at_least(1) | pot.grams.is_none())
                .with(|pot| pot.linked_from::<Photo>(|ph| ph.pot).limit(1)),
            p.linked_from::<Potter>(|pupil| pupil.teacher).limit(2),
        )).collect().unwrap();
        for (p, (theirs, pupils)) in &few {
            let mut expected: Vec<_> = pots_of(p).into_iter().filter(|pot| pot.grams != Some(0)).collect();
            expected.sort_by_key(|pot| std::cmp::Reverse((pot.grams, pot.key())));
            let first = |pot: Stored<Pot>| { let shots = photos_of(&pot); (pot, shots.into_iter().take(1).collect()) };
            let expected: Vec<(_, Vec<_>)> = expected.into_iter().take(least as usize).map(first).collect();
            prop_assert_eq!(theirs, &expected);
            let expected = potters.iter().filter(|q| q.teacher == Some(p.key())).take(2).cloned().collect::<Vec<_>>();
            prop_assert_eq!(pupils, &expected);
        }
    }
}

#[test]
fn many_to_many_is_two_links_through_a_record_between() {
    let drawer = Drawer::in_memory(schema()).unwrap();
    let potters = drawer.insert_all(["Ada", "Ben"].map(|n| Potter { name: n.into(), teacher: None })).unwrap();
    let courses = drawer.insert_all(["Throwing", "Glazing"].map(|t| Course { title: t.into() })).unwrap();
    for (p, c) in [(0, 0), (0, 1), (1, 1)] {
        drawer.insert(Place { potter: potters[p].key(), course: courses[c].key() }).unwrap();
    }
    let lists =
        drawer.records::<Course>().with(|c| c.linked_from::<Place>(|p| p.course).with(|p| p.potter)).collect().unwrap();
    let names = |at: usize| lists[at].1.iter().map(|(_, potter)| potter.name.as_str()).collect::<Vec<_>>();
    assert_eq!((names(0), names(1)), (vec!["Ada"], vec!["Ada", "Ben"]));
    let bens = drawer
        .records::<Course>()
        .filter(|c| c.linked_from::<Place>(|p| p.course).filter(|p| p.potter.which(|p| p.name.is("Ben"))).any());
    assert_eq!(bens.only(|c| c.title).collect().unwrap(), ["Glazing"]);
}

#[test]
fn everything_loaded_together_is_of_one_state_and_one_statement_a_kind() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let ada = drawer.insert(Potter { name: "Ada".into(), teacher: None }).unwrap();
    drawer.insert_all((0..3_000).map(|n| Pot { grams: Some(n), by: ada.key() })).unwrap();
    let pots = drawer.records::<Pot>().with(|p| p.by).collect().unwrap();
    assert!(pots.len() == 3_000 && pots.iter().all(|(pot, by)| *by == ada && pot.by == ada.key()));
    // Also through a view and a transaction, where what was just written counts.
    let in_view = drawer.read(|view| view.records::<Potter>().with(|p| p.linked_from::<Pot>(|pot| pot.by)).first());
    assert_eq!(in_view.unwrap().unwrap().1.len(), 3_000);
    let in_tx = drawer.write(|tx| {
        tx.insert(Pot { grams: None, by: ada.key() })?;
        tx.records::<Potter>().with(|p| p.linked_from::<Pot>(|pot| pot.by)).first()
    });
    assert_eq!(in_tx.unwrap().unwrap().1.len(), 3_001);
    assert_eq!(drawer.records::<Course>().with(|c| c.linked_from::<Place>(|p| p.course)).first().unwrap(), None);
}

#[test]
fn a_link_that_another_program_broke_is_named() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let ada = drawer.insert(Potter { name: "Ada".into(), teacher: None }).unwrap();
    drawer.insert(Pot { grams: None, by: ada.key() }).unwrap();
    other_program(&path).execute_batch("PRAGMA foreign_keys = OFF; DELETE FROM potter").unwrap();
    let error = drawer.records::<Pot>().with(|p| p.by).collect().unwrap_err();
    assert!(error.is_broken_link(), "{error:?}");
    assert!(error.to_string().starts_with("cannot read what pot 1 links to: potter 1 does not exist. "), "{error}");
}

/// An order that lets another program write between the statements that load records and those that load what they link to.
struct InBetween;

static WRITE_IN_BETWEEN: Mutex<Option<PathBuf>> = Mutex::new(None);

impl TextOrder for InBetween {
    fn compare(a: &str, b: &str) -> std::cmp::Ordering {
        if let Some(path) = WRITE_IN_BETWEEN.lock().unwrap().take() {
            other_program(&path)
                .execute_batch("UPDATE potter SET teacher = NULL; DELETE FROM potter WHERE name = 'Ada'")
                .unwrap();
        }
        a.cmp(b)
    }
}

#[test]
fn records_and_what_they_link_to_are_read_from_one_state() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let ada = drawer.insert(Potter { name: "Ada".into(), teacher: None }).unwrap();
    for name in ["Bo", "Cy"] {
        drawer.insert(Potter { name: name.into(), teacher: Some(ada.key()) }).unwrap();
    }
    let pupils =
        || drawer.records::<Potter>().filter(|p| p.teacher.is_some()).sort_by(|p| p.name.ascending_by::<InBetween>());
    *WRITE_IN_BETWEEN.lock().unwrap() = Some(path.clone());
    let loaded = pupils().with(|p| p.teacher).collect().unwrap();
    assert!(WRITE_IN_BETWEEN.lock().unwrap().is_none(), "nothing was written in between");
    assert!(loaded.len() == 2 && loaded.iter().all(|(_, teacher)| teacher.as_ref().unwrap().name == "Ada"));
    assert_eq!(pupils().count().unwrap(), 0);
}
