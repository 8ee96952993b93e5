//! Named values: against a map in plain Rust, at limits, through upgrades, beside everything else.

use crate::common;
use common::{folder, other_program};
use proptest::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;
use velvet_drawer::inspect::{Difference, Exchange, File, Limits, TrailOf, import};
use velvet_drawer::{Choice, Drawer, Error, Position, Record, Schema, Trail};

/// The last number on a mark, for each kind of ware.
#[derive(Record, Clone, Debug, PartialEq)]
#[record(named, shared)]
struct LastMark {
    name: String,
    value: u32,
}

#[derive(Serialize, Deserialize, Clone, Debug, Default, PartialEq)]
struct Errands {
    open: Vec<String>,
    shop: Option<String>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
struct List {
    name: i64,
    #[record(json)]
    value: Errands,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named, name = "select")]
struct Seat {
    #[record(name = "group")]
    name: Uuid,
    #[record(indexed, searchable, private)]
    value: Option<String>,
}

#[derive(Choice, Clone, Debug, PartialEq)]
enum Tint {
    Plain,
    #[choice(fallback)]
    Unknown,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
struct TintOf {
    name: String,
    value: Tint,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
struct Plan {
    #[record(ignore_case)]
    name: String,
    #[record(json, fallback)]
    value: Errands,
}

fn schema() -> Schema {
    Schema::new("names").record::<Plan>().record::<TintOf>().record::<LastMark>().record::<List>().record::<Seat>()
}

fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

#[derive(Clone, Debug)]
enum Op {
    Set(String, u32),
    Change(String),
    ChangeOr(String, u32),
    Remove(String),
    Take(String),
    Merge(Vec<(String, u32)>),
    ReplaceAll(Vec<(String, u32)>),
    Clear,
}

fn op() -> impl Strategy<Value = Op> {
    let name = || prop_oneof!["[a-c]{0,2}", Just("a'\"\0b%_".to_owned()), Just("ä\u{10ffff}".to_owned())];
    let values = || prop::collection::btree_map(name(), 0..5_u32, 0..4).prop_map(|all| all.into_iter().collect());
    prop_oneof![
        4 => (name(), 0..5_u32).prop_map(|(name, value)| Op::Set(name, value)),
        2 => name().prop_map(Op::Change),
        2 => (name(), 0..5_u32).prop_map(|(name, value)| Op::ChangeOr(name, value)),
        1 => name().prop_map(Op::Remove),
        1 => name().prop_map(Op::Take),
        1 => values().prop_map(Op::Merge),
        1 => values().prop_map(Op::ReplaceAll),
        1 => Just(Op::Clear),
    ]
}

/// A map that knows in which order its names were first set.
#[derive(Default)]
struct Model(Vec<(String, u32)>);

impl Model {
    fn at(&mut self, name: &str) -> Option<&mut u32> {
        self.0.iter_mut().find(|(other, _)| other == name).map(|(_, value)| value)
    }

    fn set(&mut self, name: &str, value: u32) {
        match self.at(name) {
            Some(there) => *there = value,
            None => self.0.push((name.to_owned(), value)),
        }
    }

    fn remove(&mut self, name: &str) -> Option<u32> {
        let at = self.0.iter().position(|(other, _)| other == name)?;
        Some(self.0.remove(at).1)
    }
}

fn pairs(records: Vec<velvet_drawer::Stored<LastMark>>) -> Vec<(String, u32)> {
    records.into_iter().map(|r| r.into_record()).map(|r| (r.name, r.value)).collect()
}

fn borrowed(all: &[(String, u32)]) -> impl Iterator<Item = (&str, u32)> {
    all.iter().map(|(name, value)| (name.as_str(), *value))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn named_values_are_a_map_that_knows_its_order(ops in prop::collection::vec(op(), 1..25)) {
        let drawer = memory();
        let marks = drawer.named::<LastMark>();
        let mut model = Model::default();
        for op in ops {
            match op {
                Op::Set(name, value) => {
                    marks.set(&name, value).unwrap();
                    model.set(&name, value);
                }
                Op::Change(name) => {
                    let changed = drawer.write(|tx| tx.named::<LastMark>().change(&name, |n| *n += 10));
                    match model.at(&name) {
                        Some(there) => { *there += 10; prop_assert_eq!(changed.unwrap(), *there); }
                        None => prop_assert!(changed.unwrap_err().is_not_found()),
                    }
                }
                Op::ChangeOr(name, default) => {
                    let value = model.at(&name).map_or(default, |there| *there) * 2;
                    model.set(&name, value);
                    prop_assert_eq!(marks.change_or(&name, default, |n| *n *= 2).unwrap(), value);
                }
                Op::Remove(name) => prop_assert_eq!(marks.remove(&name).unwrap(), model.remove(&name).is_some()),
                Op::Take(name) => prop_assert_eq!(marks.take(&name).unwrap(), model.remove(&name)),
                Op::Merge(all) => {
                    all.iter().for_each(|(name, value)| model.set(name, *value));
                    marks.merge(borrowed(&all)).unwrap();
                }
                Op::ReplaceAll(all) => {
                    model.0.retain(|(name, _)| all.iter().any(|(other, _)| other == name));
                    all.iter().for_each(|(name, value)| model.set(name, *value));
                    marks.replace_all(borrowed(&all)).unwrap();
                }
                Op::Clear => { prop_assert_eq!(marks.clear().unwrap(), model.0.len() as u64); model.0.clear(); }
            }
            prop_assert_eq!(pairs(marks.records().collect().unwrap()), model.0.clone());
            let sorted: BTreeMap<String, u32> = model.0.iter().cloned().collect();
            prop_assert_eq!(pairs(marks.by_name().collect().unwrap()), sorted.clone().into_iter().collect::<Vec<_>>());
            let begins = sorted.iter().filter(|(name, _)| name.starts_with('a')).count() as u64;
            prop_assert_eq!(marks.with_prefix("a").count().unwrap(), begins);
            let within: Vec<_> = sorted.clone().into_iter().filter(|(name, _)| ("a"..="b").contains(&name.as_str())).collect();
            prop_assert_eq!(pairs(marks.between("a", "b").collect().unwrap()), within);
            let names = ["a", "bb", "a'\"\0b%_", "a", ""];
            let one_by_one: Vec<_> = names.iter().map(|name| sorted.get(*name).copied()).collect();
            prop_assert_eq!(&marks.get_all(names).unwrap(), &one_by_one);
            let again = drawer.read(|view| names.iter().map(|name| view.named::<LastMark>().get(name)).collect::<Result<Vec<_>, _>>());
            prop_assert_eq!(again.unwrap(), one_by_one);
            prop_assert_eq!(marks.has("bb").unwrap(), sorted.contains_key("bb"));
        }
    }
}

#[test]
fn what_is_the_same_is_not_written_and_numbers_are_given_once() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Keys).open(&path, schema()).unwrap();
    let marks = drawer.named::<LastMark>();
    marks.set("bowl", 1).unwrap();
    let changes = || File::open(&path).unwrap().trail(&TrailOf::default()).unwrap().len();
    let before = changes();
    for _ in 0..50 {
        marks.set("bowl", 1).unwrap();
        marks.change("bowl", |_| ()).unwrap();
        marks.merge([("bowl", 1)]).unwrap();
    }
    assert_eq!(changes(), before, "nothing was written");
    for n in 2..50 {
        marks.set("bowl", n).unwrap();
    }
    assert_eq!(changes(), before + 48);
    marks.set("jug", 0).unwrap();
    assert_eq!(
        drawer.get_by_own_key::<LastMark>("jug").unwrap().unwrap().key().number(),
        2,
        "no row numbers are used up"
    );

    let lists = drawer.named::<List>();
    let errands = |what: &str| Errands { open: vec![what.into()], shop: None };
    assert_eq!(lists.add(errands("cones")).unwrap(), 1);
    lists.set(40, errands("wax")).unwrap();
    assert_eq!(lists.add(errands("clay")).unwrap(), 41);
    assert!(lists.remove(41).unwrap());
    assert_eq!(lists.add(errands("glaze")).unwrap(), 42, "also not that of what was removed");
    lists.replace_all([(-3, errands("a")), (7, errands("b"))]).unwrap();
    assert!(lists.add(errands("c")).unwrap() > 42);
    assert_eq!(lists.get_or_default(8).unwrap(), Errands::default());
    lists.set(i64::MAX, errands("last")).unwrap();
    let error = lists.add(errands("one more")).unwrap_err();
    assert!(error.is_misfit() && error.to_string().contains("cannot add a value to list"), "{error}");

    let seats = drawer.named::<Seat>();
    let uuid = Uuid::from_u128(7);
    seats.set(uuid, None).unwrap();
    assert_eq!((seats.get(uuid).unwrap(), seats.get(Uuid::nil()).unwrap()), (Some(None), None));
    seats.set(uuid, Some("Pia, by the window".into())).unwrap();
    assert_eq!(drawer.records::<Seat>().search("wind").limit(5).collect().unwrap().len(), 1);
}

#[test]
fn a_value_of_another_type_is_an_error_that_names_it_and_never_another_value() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.named::<LastMark>().merge([("bowl", 1), ("jug", 2)]).unwrap();
    drawer.named::<List>().set(5, Errands::default()).unwrap();
    other_program(&path)
        .execute_batch("UPDATE last_mark SET value = -1 WHERE name = 'jug'; UPDATE list SET value = '{\"open\": 3}'")
        .unwrap();
    let marks = drawer.named::<LastMark>();
    let says = |error: Error, words: &[&str]| {
        assert!(error.is_unreadable(), "{error}");
        words.iter().for_each(|word| assert!(error.to_string().contains(word), "{word}: {error}"));
    };
    let jug = ["last_mark 'jug'", "last_mark.value", "-1 does not fit u32"];
    says(marks.get("jug").unwrap_err(), &jug);
    says(marks.get_all(["bowl", "jug"]).unwrap_err(), &jug);
    says(marks.change("jug", |n| *n += 1).unwrap_err(), &["last_mark 'jug'", "does not fit u32"]);
    says(marks.take("jug").unwrap_err(), &jug);
    says(drawer.named::<List>().get(5).unwrap_err(), &["list 5", "list.value", "Errands", "{\"open\": 3}"]);
    assert_eq!(marks.get("bowl").unwrap(), Some(1));
    marks.set("jug", 3).unwrap();
    assert_eq!(marks.get("jug").unwrap(), Some(3), "it can be put right");

    // What only a newer app knows stays, unless another value is given.
    let tints = drawer.named::<TintOf>();
    tints.set("bowl", Tint::Plain).unwrap();
    other_program(&path).execute_batch("UPDATE tint_of SET value = 'matt'").unwrap();
    assert_eq!(tints.change("bowl", |tint| assert_eq!(*tint, Tint::Unknown)).unwrap(), Tint::Unknown);
    let stored =
        || other_program(&path).query_row("SELECT value FROM tint_of", [], |row| row.get::<_, String>(0)).unwrap();
    assert_eq!(stored(), "matt");
    tints.change("bowl", |tint| *tint = Tint::Plain).unwrap();
    assert_eq!(stored(), "plain");

    let error = drawer.write(|tx| {
        tx.named::<LastMark>().set("bowl", 9)?;
        tx.named::<LastMark>().merge([("vase", 1), ("vase", 2)])
    });
    assert!(error.unwrap_err().to_string().contains("last_mark"));
    assert_eq!(marks.get_all(["bowl", "vase"]).unwrap(), [Some(1), None], "all or nothing");
}

#[test]
fn named_values_are_followed_one_and_all() {
    let drawer = memory();
    let marks = drawer.named::<LastMark>();
    let mut bowl = marks.watch("bowl").unwrap();
    let mut all = marks.by_name().watch().unwrap();
    assert!(bowl.next().unwrap().unwrap().result.is_none() && all.next().unwrap().unwrap().result.is_empty());
    marks.merge([("jug", 2), ("bowl", 1)]).unwrap();
    assert_eq!(bowl.next().unwrap().unwrap().result.unwrap().value, 1);
    let shown: Vec<_> = all.next().unwrap().unwrap().result.iter().map(|m| m.name.clone()).collect();
    assert_eq!(shown, ["bowl", "jug"]);
    marks.set("jug", 5).unwrap();
    assert_eq!(all.next().unwrap().unwrap().steps().len(), 1);
    assert!(bowl.news().is_none(), "another name is none of its business");
}

#[test]
fn named_values_go_through_every_form_and_come_back() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let names = ["", "a\0b", "'; --", "日本 ไทย 🏺", &"n".repeat(5_000)];
    drawer.named::<LastMark>().merge(names.iter().zip([0, 1, 2, 3, u32::MAX]).map(|(name, n)| (*name, n))).unwrap();
    drawer
        .named::<List>()
        .merge([i64::MIN, 0, i64::MAX].map(|n| (n, Errands { open: vec!["a\"b".into()], shop: Some(String::new()) })))
        .unwrap();
    drawer.named::<Seat>().merge([(Uuid::nil(), None), (Uuid::max(), Some("x".into()))]).unwrap();
    let mut lines = Vec::new();
    drawer.changes_since(Position::START).write_json_lines(&mut lines).unwrap();
    let other = memory();
    other.apply_changes(lines.as_slice()).run().unwrap();
    assert_eq!(other.named::<LastMark>().get_all(names).unwrap(), [0, 1, 2, 3, u32::MAX].map(Some));
    drawer.close().unwrap();
    let file = File::open(&path).unwrap();
    for (form, end) in [(Exchange::JsonLines, "jsonl"), (Exchange::Csv, "csv")] {
        let copy = path.with_file_name(format!("copy-{end}.drawer"));
        Drawer::open(&copy, schema()).unwrap().close().unwrap();
        for table in ["last_mark", "list", "select"] {
            let mut rows = Vec::new();
            file.export(&file.table(table).unwrap(), form, &mut rows).unwrap();
            import(&copy, Some(table), form, &mut rows.as_slice(), &Limits::default()).unwrap();
        }
        let mut differences = Vec::new();
        file.compare(&File::open(&copy).unwrap(), &mut |d: Difference<'_>| {
            differences.push(format!("{d:?}"));
            Ok(())
        })
        .unwrap();
        assert_eq!(differences, [""; 0]);
        let drawer = Drawer::open(&copy, schema()).unwrap();
        assert_eq!(drawer.named::<LastMark>().get_all(names).unwrap(), [0, 1, 2, 3, u32::MAX].map(Some));
    }
}

#[test]
fn names_may_ignore_case_and_a_value_of_another_shape_its_fallback() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let plans = || drawer.named::<Plan>();
    let errands = Errands { open: vec!["clay".into()], shop: None };
    plans().set("Monday", errands.clone()).unwrap();
    plans().set("MONDAY", errands.clone()).unwrap();
    plans().merge([("monday", errands.clone()), ("Tuesday", Errands::default())]).unwrap();
    assert_eq!((plans().count().unwrap(), plans().get("mOnDaY").unwrap()), (2, Some(errands)));
    assert_eq!(plans().get_all(["TUESDAY", "friday", "monday"]).unwrap().iter().filter(|v| v.is_some()).count(), 2);
    assert_eq!(plans().with_prefix("MON").count().unwrap() + plans().with_prefix("tuez").count().unwrap(), 1);
    let other = other_program(&path);
    other.execute("UPDATE plan SET value = '[7]' WHERE name = 'monday'", []).unwrap();
    assert_eq!(plans().get("Monday").unwrap(), Some(Errands::default()));
    plans().change("Monday", |_| ()).unwrap();
    let there =
        |name: &str| other.query_row("SELECT value FROM plan WHERE name = ?1", [name], |r| r.get::<_, String>(0));
    assert_eq!(there("Monday").unwrap(), "[7]");
    plans().change("Monday", |plan| plan.shop = Some("Kiln & Co".into())).unwrap();
    assert!(there("Monday").unwrap().contains("Kiln & Co"));
    assert!(plans().remove("MONDAY").unwrap() && plans().count().unwrap() == 1);
}
