//! Refreshing a table from records that come from elsewhere: all of it or nothing, and no more writing than is needed.

use crate::common;
use common::{everything, folder, other_program};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::time::Duration;
use velvet_drawer::{Drawer, Key, Record, Schema};

#[derive(Record, Clone, Debug, PartialEq)]
#[record(unique(maker, code))]
struct Article {
    #[record(own_key)]
    number: String,
    maker: String,
    code: Option<u32>,
    #[record(searchable)]
    name: String,
    price: f64,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Order {
    article: Key<Article>,
}

fn schema() -> Schema {
    Schema::new("shop").record::<Article>().record::<Order>()
}

fn article(n: u8, name: &str) -> Article {
    Article { number: format!("N{n}"), maker: "kiln".into(), code: Some(n.into()), name: name.into(), price: 1.5 }
}

fn stored(drawer: &Drawer) -> BTreeMap<String, Article> {
    drawer.records::<Article>().collect().unwrap().into_iter().map(|a| (a.number.clone(), a.into_record())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn afterwards_the_table_is_what_came_and_keys_are_kept(
        before in prop::collection::btree_map(0..12_u8, "[ab]{0,2}", 0..12),
        coming in prop::collection::btree_map(0..12_u8, "[ab]{0,2}", 0..12), remove in any::<bool>(), by_code in any::<bool>(),
    ) {
        let drawer = Drawer::in_memory(schema()).unwrap();
        let old = drawer.insert_all(before.iter().map(|(n, name)| article(*n, name))).unwrap();
        let incoming: Vec<Article> = coming.iter().rev().map(|(n, name)| article(*n, name)).collect();
        let report = if by_code {
            let refresh = drawer.refresh_by(incoming, |a| (a.maker, a.code));
            if remove { refresh.remove_absent().run() } else { refresh.run() }
        } else {
            let refresh = drawer.refresh(incoming);
            if remove { refresh.remove_absent().run() } else { refresh.run() }
        }.unwrap();
        let mut expected = before.clone();
        if remove {
            expected.retain(|n, _| coming.contains_key(n));
        }
        let changed = coming.iter().filter(|(n, name)| before.get(n).is_some_and(|old| old != *name)).count() as u64;
        let added = coming.keys().filter(|n| !before.contains_key(n)).count() as u64;
        let removed = (before.len() - if remove { expected.len() } else { before.len() }) as u64;
        prop_assert_eq!((report.added, report.changed, report.removed), (added, changed, removed));
        prop_assert_eq!(report.added + report.changed + report.unchanged, coming.len() as u64);
        expected.extend(coming);
        let expected: BTreeMap<String, Article> =
            expected.iter().map(|(n, name)| (format!("N{n}"), article(*n, name))).collect();
        prop_assert_eq!(stored(&drawer), expected);
        for old in old {
            let now = drawer.get_by_own_key::<Article>(&old.number).unwrap();
            prop_assert!(now.is_none_or(|now| now.key() == old.key()), "a record that stays keeps its key");
        }
        prop_assert!(drawer.search_index_is_sound::<Article>().unwrap());
        let hits = drawer.records::<Article>().search("a").count().unwrap();
        prop_assert_eq!(hits, stored(&drawer).values().filter(|a| a.name.starts_with('a')).count() as u64);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn records_may_come_with_each_others_unique_values(
        before in Just((0..8_u8).collect::<Vec<_>>()).prop_shuffle(), coming in Just((0..8_u8).collect::<Vec<_>>()).prop_shuffle(),
        (stored_ones, coming_ones) in (0..=8_usize, 0..=8_usize),
    ) {
        let drawer = Drawer::in_memory(everything::schema()).unwrap();
        let with = |(n, v): (usize, &u8)| {
            let mut record = everything::plain(n as u8);
            (record.uuid, record.order) = (Some(uuid::Uuid::from_u128((*v).into())), *v);
            record
        };
        drawer.insert_all(before.iter().enumerate().map(with).take(stored_ones)).unwrap();
        let coming: Vec<_> = coming.iter().enumerate().map(with).take(coming_ones).collect();
        drawer.refresh(coming.clone()).remove_absent().run().unwrap();
        let now = drawer.records::<everything::Everything>().sort_by(|e| e.mark.ascending()).collect().unwrap();
        prop_assert_eq!(now.into_iter().map(|e| e.into_record()).collect::<Vec<_>>(), coming);
        prop_assert!(drawer.search_index_is_sound::<everything::Everything>().unwrap());
    }
}

/// A unique value of each form that a column is stored in.
#[derive(Record, Clone, Debug, PartialEq)]
struct Unique {
    #[record(own_key)]
    name: String,
    #[record(unique)]
    number: i64,
    #[record(unique)]
    real: f64,
    #[record(unique)]
    text: String,
    #[record(unique)]
    bytes: Vec<u8>,
    #[record(unique)]
    maybe: Option<u8>,
}

#[test]
fn values_at_their_limits_are_swapped() {
    let drawer = Drawer::in_memory(Schema::new("shop").record::<Unique>()).unwrap();
    let one = |name: &str, number, real, text: &str, bytes, maybe| Unique {
        name: name.into(),
        number,
        real,
        text: text.into(),
        bytes,
        maybe,
    };
    let [a, b] = [one("a", i64::MAX, f64::MAX, "", vec![], None), one("b", i64::MIN, f64::MIN, "\0", vec![0], Some(1))];
    drawer.insert_all([a.clone(), b.clone()]).unwrap();
    let coming = [Unique { name: "b".into(), ..a }, Unique { name: "a".into(), ..b }];
    assert_eq!(drawer.refresh(coming.clone()).run().unwrap().changed, 2);
    let now = drawer.records::<Unique>().collect().unwrap();
    assert_eq!(now.into_iter().rev().map(|u| u.into_record()).collect::<Vec<_>>(), coming);
}

#[test]
fn a_second_refresh_with_the_same_writes_no_row_and_when_is_remembered() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(drawer.last_refresh::<Article>().unwrap().at(), None);
    let coming = || (0..200).map(|n| article(n, "brush"));
    assert_eq!(drawer.refresh(coming()).run().unwrap().added, 200);
    other_program(&path)
        .execute_batch("CREATE TABLE velvet_seen (x); CREATE TRIGGER velvet_see AFTER UPDATE ON article BEGIN INSERT INTO velvet_seen VALUES (1); END")
        .unwrap();
    let first = drawer.last_refresh::<Article>().unwrap();
    assert_eq!(
        drawer.refresh(coming()).remove_absent().run().unwrap().to_string(),
        "0 added, 0 changed, 200 unchanged, 0 removed"
    );
    let seen =
        || other_program(&path).query_row("SELECT count(*) FROM velvet_seen", [], |r| r.get::<_, i64>(0)).unwrap();
    assert_eq!(seen(), 0);
    let one = coming().map(|a| if a.number == "N7" { Article { price: 2.0, ..a } } else { a });
    assert_eq!(drawer.refresh(one).run().unwrap().changed, 1);
    assert_eq!(seen(), 1);
    let last = drawer.last_refresh::<Article>().unwrap();
    assert!(last.at() > first.at() && !last.older_than(Duration::from_secs(60)) && last.older_than(Duration::ZERO));
    assert!(drawer.last_refresh::<Order>().unwrap().older_than(Duration::MAX), "another table was never refreshed");
}

#[test]
fn what_cannot_be_brought_in_line_is_named_and_nothing_is_written() {
    let drawer = Drawer::in_memory(schema()).unwrap();
    let kept = drawer.insert_all([article(1, "brush"), article(2, "sponge")]).unwrap();
    drawer.insert(Order { article: kept[1].key() }).unwrap();
    let before = stored(&drawer);
    let refused = |coming: Vec<Article>, said: &str| {
        let error = drawer.refresh(coming).remove_absent().run().unwrap_err();
        assert!(error.to_string().contains(said), "{error}");
        assert!(error.to_string().contains("Nothing was "), "{error}");
        assert_eq!(stored(&drawer), before);
        assert_eq!(drawer.last_refresh::<Article>().unwrap().at(), None);
    };
    let (one, two) = (article(1, "new"), article(2, "new"));
    refused(
        vec![one.clone(), two.clone(), article(3, "x"), one.clone()],
        "cannot refresh article: records 1 and 4 of those that came both have number \"N1\"",
    );
    let broken = Article { price: f64::NAN, ..article(4, "x") };
    refused(vec![one.clone(), two.clone(), broken], "record 3 of those that came: in article.price, NaN");
    let clash = Article { number: "N5".into(), ..one.clone() };
    refused(
        vec![one.clone(), two.clone(), clash],
        "record 3 of those that came: maker \"kiln\" with code 1 is already that",
    );
    refused(vec![one.clone()], "records that did not come cannot be removed: records link to article 2: 1 of order");
    let error = drawer.refresh_by([Article { code: None, ..one.clone() }], |a| (a.maker, a.code)).run().unwrap_err();
    assert!(
        error.is_misfit() && error.to_string().contains("record 1 of those that came has no maker and code"),
        "{error}"
    );
    assert!(drawer.refresh_by([one.clone()], |a| a.name).run().unwrap_err().is_schema());

    // A part of a transaction: what it wrote is rolled back alone; what it may remove is told.
    let result = drawer.write(|tx| {
        assert!(tx.refresh([article(9, "new"), article(9, "twice")]).run().is_err());
        tx.insert(Article { maker: "other".into(), ..article(7, "not of this maker") })?;
        let among = tx.refresh([two.clone()]).remove_absent_among(|a| a.maker.is("kiln"));
        among.run()
    });
    assert_eq!(result.unwrap().to_string(), "0 added, 1 changed, 0 unchanged, 1 removed");
    assert_eq!(stored(&drawer).keys().collect::<Vec<_>>(), ["N2", "N7"]);
}
