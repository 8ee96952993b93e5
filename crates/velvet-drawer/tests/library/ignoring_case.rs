//! Columns whose values are the same where only large and small letters differ, against plain Rust over lists.

use crate::common;
use common::{folder, other_program, versions};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use velvet_core::evolve::{History, draft};
use velvet_core::schema::structure::Structure;
use velvet_drawer::inspect::{Did, Difference, File, TrailOf};
use velvet_drawer::{Condition, Drawer, Error, Key, List, Live, Record, Records, Schema, State, Stored, Trail};

#[derive(Record, Clone, Debug, PartialEq)]
struct Member {
    #[record(own_key, ignore_case)]
    address: String,
    #[record(unique, ignore_case)]
    nickname: Option<String>,
    visits: u32,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Loan {
    member: Key<Member>,
    #[record(own_key)]
    what: String,
}

fn schema() -> Schema {
    Schema::new("library").record::<Member>().record::<Loan>()
}

fn member(address: &str, visits: u32) -> Member {
    Member { address: address.into(), nickname: None, visits }
}

/// Letters on both sides of each bound of A to Z and a to z, and letters that other rules would fold.
fn words() -> impl Strategy<Value = String> {
    prop::string::string_regex("[aAzZ@\\[`{kKéÉſ\u{212a}]{0,3}").unwrap()
}

fn low(text: &str) -> String {
    text.to_ascii_lowercase()
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn all_is_as_over_a_list_in_small_letters(mut all in prop::collection::vec(words(), 0..12), probe in words()) {
        let drawer = Drawer::in_memory(schema()).unwrap();
        let live = drawer.records::<Member>().sort_by(|m| m.address.ascending()).watch().unwrap();
        let mut kept: Vec<String> = Vec::new();
        all.dedup();
        for (visit, word) in all.iter().enumerate() {
            let is_there = kept.iter().any(|k| low(k) == low(word));
            let inserted = drawer.insert(member(word, visit as u32));
            prop_assert_eq!(inserted.as_ref().is_err_and(Error::is_clash), is_there);
            if !is_there {
                drawer.insert(Loan { member: inserted.unwrap().key(), what: word.clone() }).unwrap();
                kept.push(word.clone());
            }
        }
        kept.sort_by_key(|k| low(k));
        let found = |condition: Condition<Member>| {
            let all = drawer.records::<Member>().filter(|_| condition).sort_by(|m| m.address.ascending()).collect();
            all.unwrap().into_iter().map(|m| m.into_record().address).collect::<Vec<_>>()
        };
        let expected = |is: &dyn Fn(&str, &str) -> bool| {
            kept.iter().filter(|k| is(&low(k), &low(&probe))).cloned().collect::<Vec<_>>()
        };
        let address = Member::columns().address;
        prop_assert_eq!(found(address.is(&probe)), expected(&|k, p| k == p));
        prop_assert_eq!(found(address.is_not(&probe)), expected(&|k, p| k != p));
        prop_assert_eq!(found(address.one_of([&*probe; 12])), expected(&|k, p| k == p));
        prop_assert_eq!(found(address.at_least(&probe)), expected(&|k, p| k >= p));
        prop_assert_eq!(found(address.starts_with(&probe)), expected(&|k, p| k.starts_with(p)));
        prop_assert_eq!(found(address.ends_with(&probe)), expected(&|k, p| k.ends_with(p)));
        prop_assert_eq!(found(address.contains(&probe)), expected(&|k, p| k.contains(p)));
        let by_key = drawer.get_by_own_key::<Member>(&probe).unwrap().map(|m| m.into_record().address);
        prop_assert_eq!(by_key, expected(&|k, p| k == p).pop());

        let by_member = |loans: Records<Loan>| {
            let loans = loans.sort_by(|l| l.member.its(|m| m.address).ascending()).collect().unwrap();
            loans.into_iter().map(|l| l.into_record().what).collect::<Vec<_>>()
        };
        prop_assert_eq!(by_member(drawer.records::<Loan>()), kept.clone());
        let starts = drawer.records::<Loan>().filter(|l| l.member.its(|m| m.address).starts_with(&probe));
        prop_assert_eq!(by_member(starts), expected(&|k, p| k.starts_with(p)));
        let is = drawer.records::<Loan>().filter(|l| l.member.its(|m| m.address).is(&probe));
        prop_assert_eq!(by_member(is), expected(&|k, p| k == p));

        // A page goes on where the last one ended, and a list that follows is the list that is read.
        let first = drawer.records::<Member>().sort_by(|m| m.address.ascending()).limit(1).collect().unwrap();
        if let [first] = &first[..] {
            let rest = drawer.records::<Member>().sort_by(|m| m.address.ascending()).after(first).collect().unwrap();
            prop_assert_eq!(rest.into_iter().map(|m| m.into_record().address).collect::<Vec<_>>(), &kept[1..]);
        }
        let followed = |live: &Live<List<Stored<Member>>>| {
            let begun = std::time::Instant::now();
            loop {
                let shown: Vec<String> = match live.now() {
                    State::Loaded(list) => list.iter().map(|m| m.address.clone()).collect(),
                    _ => Vec::new(),
                };
                if shown == kept || begun.elapsed() > std::time::Duration::from_secs(30) { break shown }
                std::thread::yield_now();
            }
        };
        prop_assert_eq!(followed(&live), kept.clone());
    }

    #[test]
    fn a_refresh_and_an_upsert_take_them_for_the_same(before in prop::collection::vec(words(), 0..8), comes in prop::collection::vec(words(), 0..8)) {
        let drawer = Drawer::in_memory(schema()).unwrap();
        let distinct = |words: &[String]| {
            let mut all: Vec<&String> = Vec::new();
            for word in words {
                if !all.iter().any(|k| low(k) == low(word)) { all.push(word) }
            }
            all.into_iter().cloned().collect::<Vec<_>>()
        };
        let (before, comes) = (distinct(&before), distinct(&comes));
        let first: Vec<_> = before.iter().map(|word| drawer.insert(member(word, 1)).unwrap()).collect();
        let report = drawer.refresh(comes.iter().map(|word| member(word, 1))).remove_absent().run().unwrap();
        let same = |word: &String| comes.iter().any(|c| c == word);
        let known = |word: &String| comes.iter().any(|c| low(c) == low(word));
        prop_assert_eq!(report.unchanged, before.iter().filter(|w| same(w)).count() as u64);
        prop_assert_eq!(report.changed, before.iter().filter(|w| known(w) && !same(w)).count() as u64);
        prop_assert_eq!(report.removed, before.iter().filter(|w| !known(w)).count() as u64);
        let there: Vec<String> = drawer.records::<Member>().sort_by(|m| m.address.ascending()).collect().unwrap().into_iter().map(|m| m.into_record().address).collect();
        let mut expected = comes.clone();
        expected.sort_by_key(|k| low(k));
        prop_assert_eq!(there, expected);
        for stored in first.iter().filter(|s| known(&s.address)) {
            let merged = drawer.insert_or_replace(member(&stored.address.to_ascii_uppercase(), 2)).unwrap();
            prop_assert_eq!((merged.key(), merged.visits), (stored.key(), 2));
        }
        let twice = ["k", "K"].map(|word| member(word, 1));
        prop_assert!(drawer.refresh(twice).run().unwrap_err().to_string().contains("both have address"));
    }
}

#[test]
fn a_text_with_a_nul_is_never_taken_for_another() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let kept = drawer.insert(member("a\0one", 1)).unwrap();
    assert!(drawer.insert(member("a\0two", 2)).unwrap_err().is_clash(), "the engine takes them for the same");
    let refusals = [
        drawer.insert_or_replace(member("a\0two", 2)).map(drop),
        drawer.get_or_insert(member("a\0two", 2)).map(drop),
        drawer.insert_or_merge(member("a\0two", 2), |m| m.visits).map(drop),
        drawer
            .insert_or_replace_by(Member { nickname: Some("b\0".into()), ..member("b", 2) }, |m| m.nickname)
            .map(drop),
        drawer.refresh([member("a\0two", 3)]).run().map(drop),
    ];
    for refused in refusals {
        let error = refused.unwrap_err();
        assert!(error.is_misfit() && error.to_string().contains("has a NUL"), "{error}");
    }
    // It can be changed, and is found by itself only.
    let kept = drawer.change(kept.key(), |m| m.visits = 7).unwrap();
    assert_eq!(drawer.records::<Member>().collect().unwrap(), [kept]);
    let visits = |address: &str| drawer.get_by_own_key::<Member>(address).unwrap().map(|m| m.visits);
    assert_eq!([visits("A\0ONE"), visits("a\0two"), visits("a")], [Some(7), None, None]);
}

#[test]
fn a_change_of_large_to_small_letters_alone_is_a_change() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let stored = drawer.insert(member("Ann@kiln.example", 1)).unwrap();
    drawer.change(stored.key(), |m| m.address = "ANN@kiln.example".into()).unwrap();
    let merged = drawer.refresh([member("ann@Kiln.example", 1)]).run().unwrap();
    assert_eq!((merged.changed, merged.added), (1, 0));
    let clash = drawer.insert(member("ANN@KILN.EXAMPLE", 1)).unwrap_err();
    assert!(clash.to_string().contains("address \"ANN@KILN.EXAMPLE\" is already that of member 1"), "{clash}");
    let mut live = drawer.watch_by_own_key::<Member>("ANN@KILN.EXAMPLE").unwrap();
    assert!(live.next().unwrap().unwrap().result.as_ref().is_some_and(|m| m.key() == stored.key()));
    drop(live);
    drawer.close().unwrap();
    let trail = File::open(&path).unwrap().trail(&TrailOf::default()).unwrap();
    let before: Vec<String> = trail.iter().map(|e| format!("{e:?}")).collect();
    assert!(before[0].contains("ANN@kiln") && before[1].contains("Ann@kiln"), "{before:?}");

    // The rule holds for whoever writes, and is found by whoever looks.
    let other = other_program(&path);
    let insert = other.execute("INSERT INTO member (address, visits) VALUES ('ann@KILN.example', 1)", []);
    assert!(insert.unwrap_err().to_string().contains("UNIQUE"));
    let plan: String = other
        .query_row("EXPLAIN QUERY PLAN SELECT 1 FROM member WHERE address = 'ANN@kiln.EXAMPLE'", [], |row| row.get(3))
        .unwrap();
    assert!(plan.contains("USING COVERING INDEX"), "{plan}");
}

mod old {
    #[derive(velvet_drawer::Record)]
    pub(crate) struct Member {
        #[record(own_key)]
        pub(crate) address: String,
        #[record(unique)]
        pub(crate) nickname: Option<String>,
        pub(crate) visits: u32,
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn two_drawers_are_compared_as_two_maps_by_small_letters(
        before in prop::collection::vec(("[aAzZé]{0,2}", 0..3_u32), 0..12),
        after in prop::collection::vec(("[aAzZé]{0,2}", 0..3_u32), 0..12),
    ) {
        let (folder, path) = folder();
        let mut files = Vec::new();
        for (name, all) in [("before", &before), ("after", &after)] {
            let path = path.with_file_name(name);
            let drawer = Drawer::open(&path, schema()).unwrap();
            let mut kept = BTreeMap::new();
            for (word, visits) in all {
                if let Entry::Vacant(new) = kept.entry(low(word)) {
                    new.insert((word.clone(), *visits));
                    let member = drawer.insert(member(word, *visits)).unwrap().key();
                    // As a borrower the member is the same, however the address is written.
                    drawer.insert(Loan { member, what: low(word) }).unwrap();
                }
            }
            drawer.close().unwrap();
            files.push((File::open(&path).unwrap(), kept));
        }
        let [(first, was), (second, is)] = &files[..] else { unreachable!() };
        let mut told = BTreeMap::new();
        let each = &mut |difference: Difference<'_>| {
            if difference.table() == "member" {
                told.insert(low(difference.known_by()[0].value.to_value().literal().trim_matches('\'')), difference.did());
            }
            Ok(())
        };
        let comparison = first.compare(second, each).unwrap();
        let expected = was.keys().chain(is.keys()).filter_map(|word| {
            let did = match (was.get(word), is.get(word)) {
                (Some(was), Some(is)) if was == is => return None,
                (Some(_), Some(_)) => Did::Changed,
                (Some(_), None) => Did::Removed,
                _ => Did::Inserted,
            };
            Some((word.clone(), did))
        });
        prop_assert_eq!(told, expected.collect::<BTreeMap<_, _>>());
        let loans = comparison.tables.iter().find(|t| t.name == "loan").unwrap();
        prop_assert_eq!(loans.same, was.keys().filter(|word| is.contains_key(*word)).count() as u64);
        drop(folder);
    }
}

#[test]
fn a_column_comes_to_ignore_case_unless_rows_are_the_same_then() {
    let loans = Loan::table().unwrap();
    let before = Structure { tables: vec![old::Member::table().unwrap(), loans.clone()] };
    let after = Structure { tables: vec![Member::table().unwrap(), loans] };
    let mut history = History::start("library", &before);
    history.versions[0].released = true;
    let first = versions::leaked(&history);
    let drafted = draft(&before, &after, &[("member", Member::HINTS)], &[], &[]);
    assert_eq!(drafted.questions, [""; 0]);
    assert_eq!(drafted.warnings.iter().filter(|w| w.contains("but for large and small letters")).count(), 2);
    let back = draft(&after, &before, &[], &[], &[]).changes;
    let said: Vec<String> = back.iter().map(|step| step.in_words(&after)).collect();
    assert!(said.contains(&"change column `member.address` to text, no longer ignoring case".to_owned()), "{said:?}");
    let second = versions::leaked(&history.recorded(&after, drafted, &[]));
    let old = || Schema::new("library").record::<old::Member>().record::<Loan>().history(first);
    let new = || schema().history(second);
    for (nicknames, fits) in [(["Bo", "bo"], false), (["Bo", "Cy"], true)] {
        let (_folder, path) = folder();
        let drawer = Drawer::open(&path, old()).unwrap();
        for (nickname, address) in nicknames.iter().zip(["Ann", "Éva"]) {
            let nickname = Some((*nickname).to_owned());
            let stored = drawer.insert(old::Member { address: address.into(), nickname, visits: 3 }).unwrap();
            let member = Key::from_number(stored.key().number());
            drawer.insert(Loan { member, what: format!("a book for {address}") }).unwrap();
        }
        drawer.close().unwrap();
        match Drawer::open(&path, new()) {
            Ok(drawer) => {
                assert!(fits);
                assert_eq!(drawer.get_by_own_key::<Member>("ANN").unwrap().unwrap().nickname.as_deref(), Some("Bo"));
                assert_eq!(drawer.count::<Loan>().unwrap(), 2);
                drawer.close().unwrap();
                assert!(File::open(&path).unwrap().check().unwrap().is_sound());
                drop(Drawer::open(&path, new()).unwrap());
            }
            Err(error) => {
                assert!(!fits && error.is_clash(), "{error}");
                let said = error.to_string();
                assert!(
                    said.contains(
                        "member 1, with nickname \"Bo\", and member 2, with nickname \"bo\", would be the same"
                    ),
                    "{said}"
                );
                assert_eq!(Drawer::open(&path, old()).unwrap().count::<old::Member>().unwrap(), 2);
            }
        }
    }
    let (_folder, path) = folder();
    drop(Drawer::open(&path, old()).unwrap());
    let unrecorded = Drawer::open(&path, schema()).unwrap_err();
    assert!(
        unrecorded.to_string().contains("ignoring case") || unrecorded.to_string().contains("NOCASE"),
        "{unrecorded}"
    );
}
