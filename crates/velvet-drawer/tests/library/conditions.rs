//! Conditions, orders and ranges select what the same words mean in Rust.

use crate::common;
use common::{Glaze, Piece, Stage, glaze, memory, piece};
use proptest::prelude::*;
use std::collections::{BTreeMap, HashSet};
use velvet_drawer::{Condition, Drawer, Key, Record, Schema, Stored};

type Predicate = Box<dyn Fn(&Stored<Piece>) -> bool>;

/// A condition in both languages.
type Both = (Condition<Piece>, Predicate);

fn leaf() -> impl Strategy<Value = (u8, u32, String)> {
    (0..22_u8, 0..8_u32, prop_oneof!["[abÄä%_]{0,2}", Just("\u{10ffff}".to_owned()), Just("a\0b".to_owned())])
}

fn both((which, number, text): (u8, u32, String)) -> Both {
    let p = Piece::columns();
    let stage = [Stage::Thrown, Stage::Bisque, Stage::Glazed][number as usize % 3];
    let t = text.clone();
    match which {
        0 => (p.grams.is(number), Box::new(move |p| p.grams == Some(number))),
        1 => (p.grams.is_not(number), Box::new(move |p| p.grams != Some(number))),
        2 => (p.grams.at_least(number), Box::new(move |p| p.grams.is_some_and(|g| g >= number))),
        3 => (p.grams.at_most(number), Box::new(move |p| p.grams.is_some_and(|g| g <= number))),
        4 => (p.grams.more_than(number), Box::new(move |p| p.grams.is_some_and(|g| g > number))),
        5 => (p.grams.less_than(number), Box::new(move |p| p.grams.is_some_and(|g| g < number))),
        6 => (p.grams.between(number, 6), Box::new(move |p| p.grams.is_some_and(|g| (number..=6).contains(&g)))),
        7 => (p.grams.is_none(), Box::new(|p| p.grams.is_none())),
        8 => (p.stage.is(stage), Box::new(move |p| p.stage == stage)),
        9 => (p.stage.one_of([stage, Stage::Glazed]), Box::new(move |p| [stage, Stage::Glazed].contains(&p.stage))),
        10 => (p.remarks.contains(&t), Box::new(move |p| p.remarks.contains(&text))),
        11 => (p.remarks.starts_with(&t), Box::new(move |p| p.remarks.starts_with(&text))),
        12 => (p.remarks.ends_with(&t), Box::new(move |p| p.remarks.ends_with(&text))),
        13 => {
            let lower = text.to_lowercase();
            (p.remarks.contains_ignore_case(&t), Box::new(move |p| p.remarks.to_lowercase().contains(&lower)))
        }
        14 => (p.remarks.more_than(&t), Box::new(move |p| p.remarks > text)),
        15 => {
            let many: Vec<u32> = (0..=number).chain(100..3_000).collect();
            let numbers = many.clone();
            (p.grams.one_of(many), Box::new(move |p| p.grams.is_some_and(|g| numbers.contains(&g))))
        }
        16 => (p.mark.same_as(p.remarks), Box::new(|p| p.mark == p.remarks)),
        17 => (p.mark.above(p.remarks), Box::new(|p| p.mark > p.remarks)),
        18 => (p.mark.below(p.remarks), Box::new(|p| p.mark < p.remarks)),
        19 => {
            let lower = text.to_lowercase();
            (p.remarks.is_ignore_case(&t), Box::new(move |p| p.remarks.to_lowercase() == lower))
        }
        20 => {
            let lower = text.to_lowercase();
            (p.remarks.starts_with_ignore_case(&t), Box::new(move |p| p.remarks.to_lowercase().starts_with(&lower)))
        }
        _ => (p.glaze.is_some(), Box::new(|p| p.glaze.is_some())),
    }
}

fn combined(leaves: Vec<(u8, u32, String)>, joins: &[u8]) -> Both {
    let mut leaves = leaves.into_iter().map(both);
    let mut all: Both = leaves.next().unwrap_or_else(|| (Condition::always(), Box::new(|_| true)));
    for ((condition, predicate), join) in leaves.zip(joins) {
        let (before, old) = all;
        all = match join % 3 {
            0 => (before & condition, Box::new(move |p| old(p) && predicate(p))),
            1 => (before | condition, Box::new(move |p| old(p) || predicate(p))),
            _ => (!(before & condition), Box::new(move |p| !(old(p) && predicate(p)))),
        };
    }
    all
}

fn rows() -> impl Strategy<Value = Vec<(Option<u32>, u8, String, bool)>> {
    let text = prop_oneof!["[abÄä%_]{0,4}", Just("\u{10ffff}\u{10ffff}".to_owned()), Just("a\0b".to_owned())];
    prop::collection::vec((prop::option::of(0..8_u32), 0..3_u8, text, any::<bool>()), 0..12)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 192, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn a_condition_selects_what_it_says(rows in rows(), leaves in prop::collection::vec(leaf(), 1..5), joins: [u8; 4]) {
        let drawer = memory();
        let linked = drawer.insert(glaze("Celadon")).unwrap();
        for (n, (grams, stage, remarks, glazed)) in rows.into_iter().enumerate() {
            let stage = [Stage::Thrown, Stage::Bisque, Stage::Glazed][stage as usize];
            let glaze = glazed.then(|| linked.key());
            drawer.insert(Piece { mark: n.to_string(), stage, grams, glaze, remarks }).unwrap();
        }
        let (condition, predicate) = combined(leaves, &joins);
        let mut expected = drawer.records::<Piece>().collect().unwrap();
        expected.retain(predicate);
        let found = drawer.records::<Piece>().filter(|_| condition).collect().unwrap();
        prop_assert_eq!(found, expected);
    }
}

fn studio() -> Drawer {
    let drawer = memory();
    let weights = [Some(300), None, Some(100), Some(200), None, Some(200)];
    for (n, grams) in weights.into_iter().enumerate() {
        drawer.insert(Piece { grams, ..piece(&format!("K-{n}")) }).unwrap();
    }
    drawer
}

fn marks(pieces: &[Stored<Piece>]) -> String {
    pieces.iter().map(|p| p.mark.trim_start_matches("K-")).collect()
}

#[test]
fn orders_sort_by_each_term_and_then_by_insertion() {
    let drawer = studio();
    let all = || drawer.records::<Piece>();
    assert_eq!(marks(&all().collect().unwrap()), "012345");
    assert_eq!(marks(&all().sort_by(|p| p.grams.ascending()).collect().unwrap()), "142350");
    assert_eq!(marks(&all().sort_by(|p| p.grams.ascending().missing_last()).collect().unwrap()), "235014");
    assert_eq!(marks(&all().sort_by(|p| p.grams.descending()).collect().unwrap()), "053241");
    assert_eq!(marks(&all().sort_by(|p| p.grams.descending().missing_first()).collect().unwrap()), "410532");
    assert_eq!(marks(&all().sort_by(|p| (p.grams.ascending(), p.mark.descending())).collect().unwrap()), "412530");
    let chained = all().sort_by(|p| p.grams.ascending()).sort_by(|p| p.mark.descending());
    assert_eq!(marks(&chained.collect().unwrap()), "412530");
}

#[test]
fn ranges_limit_lists_and_counts() {
    let drawer = studio();
    let all = || drawer.records::<Piece>();
    assert_eq!(marks(&all().limit(2).offset(3).collect().unwrap()), "34");
    assert_eq!(marks(&all().offset(4).collect().unwrap()), "45");
    assert_eq!(all().limit(2).count().unwrap(), 2);
    assert_eq!(all().offset(4).count().unwrap(), 2);
    assert_eq!(all().limit(u64::MAX).count().unwrap(), 6);
    assert_eq!(all().sort_by(|p| p.mark.descending()).first().unwrap().unwrap().mark, "K-5");
    assert!(all().filter(|p| p.mark.is("K-9")).first().unwrap().is_none());
    assert!(!all().filter(|p| p.mark.is("K-9")).any().unwrap());
    assert!(all().filter(|p| p.key().at_least(Key::from_number(6))).any().unwrap());
}

#[test]
fn a_selection_is_collected_into_lists_sets_and_maps() {
    let drawer = memory();
    let stored = drawer.insert_all(["Celadon", "Shino"].map(glaze)).unwrap();
    let set: HashSet<Stored<Glaze>> = drawer.records().collect_into().unwrap();
    assert!(stored.iter().all(|glaze| set.contains(glaze)));
    let map: BTreeMap<Key<Glaze>, Glaze> = drawer.records().collect_into().unwrap();
    assert_eq!(map[&stored[1].key()].name, "Shino");
}

#[test]
fn two_columns_are_compared_also_where_one_may_be_missing() {
    #[derive(Record)]
    struct Shelf {
        holds: u16,
        stands: Option<u16>,
        last: Option<u16>,
        full: bool,
    }
    let drawer = Drawer::in_memory(Schema::new("shelves").record::<Shelf>()).unwrap();
    let rows = [(5, Some(5), None), (5, Some(6), None), (5, None, None), (5, Some(4), Some(4))];
    drawer
        .insert_all(rows.map(|(holds, stands, last)| Shelf { holds, stands, last, full: stands == Some(holds) }))
        .unwrap();
    let all = || drawer.records::<Shelf>();
    assert_eq!(all().filter(|s| s.full.is_true() & s.stands.is(5)).count().unwrap(), 1);
    assert_eq!(all().filter(|s| s.full.is_false()).count().unwrap(), 3);
    assert_eq!(all().filter(|s| s.stands.above(s.holds)).count().unwrap(), 1);
    assert_eq!(all().filter(|s| !s.stands.above(s.holds)).count().unwrap(), 3, "a missing value is not above anything");
    assert_eq!(all().filter(|s| s.stands.same_as(s.last)).count().unwrap(), 2, "two missing values are the same");
    assert_eq!(all().filter(|s| s.holds.below(s.stands) | s.holds.same_as(s.stands)).count().unwrap(), 2);
}

#[test]
fn an_argument_without_a_stored_form_is_an_error_that_names_its_column() {
    #[derive(Record, Debug)]
    struct Scale {
        exact: f64,
        big: u64,
    }
    let drawer = Drawer::in_memory(Schema::new("scales").record::<Scale>()).unwrap();
    let error = drawer.records::<Scale>().filter(|s| s.exact.at_least(f64::NAN)).count().unwrap_err();
    assert!(error.is_misfit());
    assert_eq!((error.table(), error.column()), (Some("scale"), Some("exact")));
    let error = drawer.records::<Scale>().filter(|s| s.big.one_of([1, u64::MAX])).collect().unwrap_err();
    assert!(
        error.to_string().contains("cannot read records of scale: in scale.big, 18446744073709551615 is above"),
        "{error}"
    );
}

#[derive(serde::Serialize, serde::Deserialize, Clone, Debug, PartialEq)]
struct Firing {
    cone: String,
    top: Option<f64>,
    hours: Vec<u32>,
    log: std::collections::BTreeMap<String, i64>,
}

#[derive(Record, Debug)]
struct Kiln {
    name: String,
    #[record(json)]
    last: Option<Firing>,
    #[record(json)]
    tags: Vec<String>,
    notes: serde_json::Value,
}

#[test]
fn values_inside_nested_ones_are_compared_sorted_and_read() {
    let drawer = Drawer::in_memory(Schema::new("kilns").record::<Kiln>()).unwrap();
    let odd = ["a b", "a.b", "a[0]", "it's", "say \"so\"", "back\\slash", "ü", "", "$", "tab\t"];
    let log = odd.iter().enumerate().map(|(n, name)| ((*name).to_owned(), n as i64)).collect();
    let firing = |top| Firing { cone: "9".into(), top, hours: vec![3, 11], log };
    let kiln = |name: &str, last, tags: &[&str], notes| Kiln {
        name: name.into(),
        last,
        tags: tags.iter().map(|t| (*t).to_owned()).collect(),
        notes,
    };
    let notes = serde_json::json!({"door": {"sealed": true, "on": "2025-03-08"}, "bricks": [1, 2.5, null]});
    drawer.insert(kiln("big", Some(firing(Some(1280.0))), &["gas", "it's \"old\""], notes)).unwrap();
    drawer.insert(kiln("small", None, &[], serde_json::json!("cold"))).unwrap();
    let big = |condition: Condition<Kiln>| {
        let names = drawer.records::<Kiln>().filter(|_| condition).only(|k| k.name).collect().unwrap();
        assert!(names.is_empty() || names == ["big"], "{names:?}");
        !names.is_empty()
    };
    let k = Kiln::columns();
    assert!(big(k.last.inside::<f64>("top").at_least(1_280.0)));
    assert!(!big(k.last.inside::<f64>("top").more_than(1_280.0)));
    assert!(big(k.last.inside::<String>("cone").starts_with("9")));
    assert!(big(k.last.inside::<u32>(("hours", 1)).is(11)));
    assert!(big(k.notes.inside::<bool>(("door", "sealed")).is_true()));
    assert!(big(k.notes.inside::<jiff::civil::Date>(("door", "on")).at_least(jiff::civil::date(2025, 3, 8))));
    assert!(big(k.notes.inside::<f64>(("bricks", 1)).between(2.0, 3.0)));
    assert!(!big(k.notes.inside::<i64>(("bricks", 2)).is_some()), "null is missing");
    assert!(!big(k.notes.inside::<i64>(("door", 0)).is_some()), "what is not there is missing");
    assert!(big(k.tags.has("gas")) && big(k.tags.has("it's \"old\"")) && !big(k.tags.has("wood")));
    assert!(big(k.tags.len().is(2)) && big(!k.tags.len().is(0)));
    for (n, name) in odd.iter().enumerate() {
        assert!(big(k.last.inside::<i64>(("log", *name)).is(n as i64)), "{name:?}");
    }
    let tops = drawer.records::<Kiln>().sort_by(|k| k.last.inside::<f64>("top").descending());
    assert_eq!(tops.only(|k| k.last.inside::<f64>("top")).collect().unwrap(), [Some(1_280.0), None]);
    let hottest = drawer.records::<Kiln>().max(|k| k.last.inside::<f64>("top")).unwrap();
    assert_eq!(hottest, Some(1_280.0));
}

#[test]
fn thousands_of_conditions_added_at_run_time_are_one() {
    let drawer = memory();
    drawer.insert_all((0..50).map(|n| piece(&format!("K-{n}")))).unwrap();
    let count = |condition| drawer.records::<Piece>().filter(|_| condition).count().unwrap();
    let p = Piece::columns();
    assert_eq!(count(Condition::any_of((0..3_000).map(|n| p.mark.is(&format!("K-{}", n * 7))))), 8);
    assert_eq!(count(Condition::all_of((0..3_000).map(|n| p.mark.is_not(&format!("K-{}", n * 7))))), 42);
    assert_eq!((count(Condition::any_of([])), count(Condition::all_of([]))), (0, 50));
    let mut wanted = Condition::always();
    wanted &= p.mark.starts_with("K-1");
    wanted |= p.mark.is("K-2");
    assert_eq!(count(wanted), 12);
}
