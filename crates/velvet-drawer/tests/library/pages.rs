//! Orders of every kind, and pages that continue after the last seen record.

use crate::common;
use common::{Glaze, Piece, Stage, glaze, memory, piece};
use proptest::prelude::*;
use std::cmp::{Ordering, Reverse};
use velvet_drawer::{Drawer, Order, Record, Stored, TextOrder};

/// Vowels before everything else.
struct VowelsFirst;

fn vowels_first(text: &str) -> (bool, &str) {
    (!text.starts_with(['a', 'e', 'A', 'E']), text)
}

impl TextOrder for VowelsFirst {
    fn compare(a: &str, b: &str) -> Ordering {
        vowels_first(a).cmp(&vowels_first(b))
    }
}

type Compare = fn(&Stored<Piece>, &Stored<Piece>) -> Ordering;

fn declared(stage: Stage) -> usize {
    [Stage::Thrown, Stage::Bisque, Stage::Glazed, Stage::Unsure].iter().position(|s| *s == stage).unwrap()
}

fn rank(stage: Stage) -> usize {
    [Stage::Glazed, Stage::Thrown].iter().position(|s| *s == stage).unwrap_or(2)
}

/// An order in both languages.
fn both(which: u8) -> (Order<Piece>, Compare) {
    let p = Piece::columns();
    match which {
        0 => (p.grams.ascending(), |a, b| a.grams.cmp(&b.grams)),
        1 => (p.grams.descending(), |a, b| b.grams.cmp(&a.grams)),
        2 => {
            (p.grams.ascending().missing_last(), |a, b| (a.grams.is_none(), a.grams).cmp(&(b.grams.is_none(), b.grams)))
        }
        3 => (p.grams.descending().missing_first(), |a, b| {
            (a.grams.is_some(), Reverse(a.grams)).cmp(&(b.grams.is_some(), Reverse(b.grams)))
        }),
        4 => (p.remarks.ascending_ignore_case(), |a, b| a.remarks.to_lowercase().cmp(&b.remarks.to_lowercase())),
        5 => (p.remarks.descending_ignore_case(), |a, b| b.remarks.to_lowercase().cmp(&a.remarks.to_lowercase())),
        6 => (p.remarks.ascending_by::<VowelsFirst>(), |a, b| vowels_first(&a.remarks).cmp(&vowels_first(&b.remarks))),
        7 => (p.remarks.descending_by::<VowelsFirst>(), |a, b| vowels_first(&b.remarks).cmp(&vowels_first(&a.remarks))),
        8 => (p.stage.ranked([Stage::Glazed, Stage::Thrown]), |a, b| rank(a.stage).cmp(&rank(b.stage))),
        9 => (p.stage.as_declared().reversed(), |a, b| declared(b.stage).cmp(&declared(a.stage))),
        10 => {
            (p.glaze.its(|g| g.name).descending(), |a, b| b.glaze.map(|g| g.number()).cmp(&a.glaze.map(|g| g.number())))
        }
        _ => (p.key().descending(), |a, b| b.key().cmp(&a.key())),
    }
}

fn studio(rows: &[(Option<u32>, u8, String, u8)]) -> Drawer {
    let drawer = memory();
    // Named so that the order of names is that of keys.
    let glazes: Vec<Stored<Glaze>> = ["a", "b", "c"].map(|n| drawer.insert(glaze(n)).unwrap()).into();
    let made = rows.iter().enumerate().map(|(n, (grams, stage, remarks, g))| Piece {
        grams: *grams,
        stage: [Stage::Thrown, Stage::Bisque, Stage::Glazed][usize::from(*stage) % 3],
        glaze: glazes.get(usize::from(*g)).map(Stored::key),
        remarks: remarks.clone(),
        ..piece(&format!("K-{n:03}"))
    });
    drawer.insert_all(made).unwrap();
    drawer
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn pages_join_to_the_sorted_list_whatever_happens_in_between(
        rows in prop::collection::vec((prop::option::of(0..4_u32), 0..3_u8, "[aBbÄÉe]{0,2}", 0..4_u8), 0..24),
        orders in prop::collection::vec(0..12_u8, 0..4), page in 1..6_u64, (lost, by_text) in any::<(bool, bool)>(),
    ) {
        let drawer = studio(&rows);
        let sorted = || drawer.records::<Piece>().sort_by(|_| orders.iter().map(|o| both(*o).0).collect::<Vec<_>>());
        let all = sorted().collect().unwrap();
        let mut expected = drawer.records::<Piece>().collect().unwrap();
        // Among equals, in the direction of the last order.
        let last_is_down = orders.last().is_some_and(|o| [1, 3, 5, 7, 9, 10, 11].contains(o));
        if last_is_down {
            expected.reverse();
        }
        expected.sort_by(|a, b| orders.iter().map(|o| both(*o).1(a, b)).find(|o| o.is_ne()).unwrap_or(Ordering::Equal));
        prop_assert_eq!(&all, &expected);

        let mut joined: Vec<Stored<Piece>> = sorted().limit(page).collect().unwrap();
        while let Some(last) = joined.last().cloned() {
            let place = sorted().place_of(&last).unwrap();
            let left = sorted().after(&last).count().unwrap();
            prop_assert_eq!(left, (all.len() - joined.len()) as u64);
            if lost {
                // Somebody removes the last seen record, and adds one to a page that was seen.
                drawer.remove(last.key()).unwrap();
            }
            let rest = if by_text { sorted().after_place(&place) } else { sorted().after(&last) };
            let next = rest.limit(page).collect().unwrap();
            if next.is_empty() {
                break;
            }
            joined.extend(next);
        }
        prop_assert_eq!(joined, all);
    }
}

#[test]
fn a_late_page_is_found_by_the_index() {
    let drawer = memory();
    drawer.insert_all((0..2_000).map(|n| piece(&format!("K-{n:04}")))).unwrap();
    let last = drawer.get_by_own_key::<Piece>("K-1500").unwrap().unwrap();
    for explained in [
        drawer.records::<Piece>().sort_by(|p| p.mark.ascending()).after(&last).limit(20).explain().unwrap(),
        drawer.records::<Piece>().sort_by(|p| p.mark.descending()).after(&last).limit(20).explain().unwrap(),
        drawer.records::<Piece>().after(&last).limit(20).explain().unwrap(),
    ] {
        assert!(explained.by_index && explained.hint.is_none(), "{explained}");
    }
    let page = drawer.records::<Piece>().sort_by(|p| p.mark.descending()).after(&last).limit(2);
    assert_eq!(page.only(|p| p.mark).collect().unwrap(), ["K-1499", "K-1498"]);
    let removed = drawer.records::<Piece>().after(&last).remove().unwrap();
    assert_eq!((removed, drawer.count::<Piece>().unwrap()), (499, 1_501));
}

#[test]
fn a_place_in_another_list_or_none_at_all_is_refused_and_values_at_their_limits_are_kept() {
    use common::everything::{self, Everything};
    let (_folder, path) = common::folder();
    let drawer = Drawer::open(&path, everything::schema()).unwrap();
    let all = drawer.insert_all(everything::at_limits()).unwrap();
    let sorted = || {
        drawer.records::<Everything>().sort_by(|e| (e.r#type.ascending(), e.f64.descending(), e.maybe_f64.ascending()))
    };
    let places: Vec<String> = all.iter().map(|record| sorted().place_of(record).unwrap()).collect();
    let order = sorted().collect().unwrap();
    drawer.close().unwrap();
    let drawer = Drawer::open(&path, everything::schema()).unwrap();
    let sorted = || {
        drawer.records::<Everything>().sort_by(|e| (e.r#type.ascending(), e.f64.descending(), e.maybe_f64.ascending()))
    };
    for (record, place) in all.iter().zip(&places) {
        let at = order.iter().position(|other| other.key() == record.key()).unwrap();
        assert_eq!(sorted().after_place(place).collect().unwrap(), order[at + 1..]);
    }
    for (text, says) in
        [("", "is no place in a list"), ("{\"key\":1}", "is no place"), (places[0].as_str(), "is sorted otherwise")]
    {
        let error =
            drawer.records::<Everything>().sort_by(|e| e.i8.ascending()).after_place(text).collect().unwrap_err();
        assert!(error.is_bad_query() && error.to_string().contains(says), "{error}");
    }
    // With a value too many or too few, or one of another type.
    let by_i8 = || drawer.records::<Everything>().sort_by(|e| (e.i8.ascending(), e.maybe_f64.descending()));
    let place = by_i8().place_of(&all[0]).unwrap();
    let begin = place.find("\"values\":[").unwrap() + 9;
    for values in ["[1,null,2]", "[1]", "[]", "[\"1\",null]", "[1,\"x\"]", "[null,null]", "[1.5,null]"] {
        let error = by_i8().after_place(&format!("{}{values}}}", &place[..begin])).collect().unwrap_err();
        assert!(error.is_bad_query() && error.to_string().contains("is no place in this list"), "{values}: {error}");
    }
}

#[test]
fn a_place_from_before_a_column_had_another_type_is_refused_and_a_page_that_cannot_be_read_is_passed() {
    mod before {
        #[derive(velvet_drawer::Record)]
        pub(crate) struct Pot {
            pub(crate) kilograms: f64,
        }
    }
    #[derive(velvet_drawer::Record, Debug)]
    struct Pot {
        kilograms: u32,
    }
    let old = Drawer::in_memory(velvet_drawer::Schema::new("pots").record::<before::Pot>()).unwrap();
    let pot = old.insert(before::Pot { kilograms: 2.0 }).unwrap();
    let place = old.records::<before::Pot>().sort_by(|p| p.kilograms.ascending()).place_of(&pot).unwrap();
    let (_folder, path) = common::folder();
    let drawer = Drawer::open(&path, velvet_drawer::Schema::new("pots").record::<Pot>()).unwrap();
    let sorted = || drawer.records::<Pot>().sort_by(|p| p.kilograms.ascending());
    let error = sorted().after_place(&place).collect().unwrap_err();
    assert!(error.is_bad_query() && error.to_string().contains("from before its columns had other types"), "{error}");

    drawer.insert_all((0..9).map(|n| Pot { kilograms: n / 2 })).unwrap();
    common::other_program(&path).execute("UPDATE pot SET kilograms = -1 - key WHERE key IN (3, 4, 5)", []).unwrap();
    let (mut read, mut last) = (Vec::new(), None);
    loop {
        let page = match last {
            Some(last) => sorted().after_key(last).limit(2),
            None => sorted().limit(2),
        };
        let page = page.collect_readable().unwrap();
        let keys = page.records.iter().map(|pot| pot.key()).chain(page.unreadable.iter().map(|(key, _)| *key));
        // Here what cannot be read sorts before what can.
        last = keys.max_by_key(|key| {
            (
                ![3, 4, 5].contains(&key.number()),
                if key.number() < 6 && key.number() > 2 { -key.number() } else { key.number() },
            )
        });
        if last.is_none() {
            break;
        }
        read.extend(page.records.iter().map(|pot| pot.key().number()));
    }
    assert_eq!(read, [1, 2, 6, 7, 8, 9]);
    drawer.remove(velvet_drawer::Key::<Pot>::from_number(9)).unwrap();
    assert!(sorted().after_key(velvet_drawer::Key::from_number(9)).collect().unwrap_err().is_not_found());
}
