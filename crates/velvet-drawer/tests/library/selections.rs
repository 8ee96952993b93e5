//! Selections beyond lists of records: some columns, single values, groups, streams, and writing to all of them.

use crate::common;
use common::{Glaze, Piece, Recipe, Stage, folder, glaze, memory, other_program, piece, schema};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::ControlFlow;
use velvet_drawer::{Drawer, Error, Record, Schema};

fn studio(rows: &[(Option<u32>, u8)]) -> Drawer {
    let drawer = memory();
    let stages = [Stage::Thrown, Stage::Bisque, Stage::Glazed];
    let pieces = rows.iter().enumerate().map(|(n, (grams, stage))| Piece {
        grams: *grams,
        stage: stages[usize::from(*stage) % 3],
        ..piece(&format!("K-{n:03}"))
    });
    drawer.insert_all(pieces).unwrap();
    drawer
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn what_is_made_of_a_selection_is_what_rust_makes_of_the_list(
        rows in prop::collection::vec((prop::option::of(0..4_u32), 0..3_u8), 0..14),
        limit in prop::option::of(0..6_u64), offset in 0..3_u64, least in 0..4_u32,
    ) {
        let drawer = studio(&rows);
        let selected = || {
            let all = drawer.records::<Piece>().filter(|p| p.grams.is_none() | p.grams.at_least(least)).offset(offset);
            let all = all.sort_by(|p| p.mark.descending());
            match limit { Some(limit) => all.limit(limit), None => all }
        };
        let list = selected().collect().unwrap();
        let grams: Vec<u32> = list.iter().filter_map(|p| p.grams).collect();
        prop_assert_eq!(selected().sum(|p| p.grams).unwrap(), grams.iter().map(|g| i64::from(*g)).sum::<i64>());
        prop_assert_eq!(selected().min(|p| p.grams).unwrap(), grams.iter().copied().min());
        prop_assert_eq!(selected().max(|p| p.mark).unwrap(), list.iter().map(|p| p.mark.clone()).max());
        let mean = (!grams.is_empty()).then(|| grams.iter().sum::<u32>() as f64 / grams.len() as f64);
        prop_assert_eq!(selected().average(|p| p.grams).unwrap(), mean);
        let pairs: Vec<(String, Option<u32>)> = list.iter().map(|p| (p.mark.clone(), p.grams)).collect();
        prop_assert_eq!(&selected().only(|p| (p.mark, p.grams)).collect().unwrap(), &pairs);
        prop_assert_eq!(selected().first().unwrap(), list.first().cloned());
        prop_assert_eq!(selected().any().unwrap(), !list.is_empty());
        prop_assert_eq!(selected().only(|p| p.mark).first().unwrap(), pairs.first().map(|p| p.0.clone()));
        let map: HashMap<String, Option<u32>> = selected().only(|p| (p.mark, p.grams)).collect_into().unwrap();
        prop_assert_eq!(map, pairs.into_iter().collect::<HashMap<_, _>>());

        let everything = || drawer.records::<Piece>();
        let all = everything().collect().unwrap();
        let mut counts: BTreeMap<Option<u32>, u64> = BTreeMap::new();
        all.iter().for_each(|p| *counts.entry(p.grams).or_default() += 1);
        prop_assert_eq!(everything().group_by(|p| p.grams).count().unwrap(), counts.into_iter().collect::<Vec<_>>());
        let mut groups: BTreeMap<Option<u32>, Vec<&velvet_drawer::Stored<Piece>>> = BTreeMap::new();
        list.iter().for_each(|p| groups.entry(p.grams).or_default().push(p));
        let mut expected: Vec<_> = groups.into_iter().filter(|(_, g)| g.len() >= 2).map(|(grams, g)| {
            let sum = g.iter().filter_map(|p| p.grams).map(i64::from).sum::<i64>();
            (grams, (g.len() as u64, sum, g.iter().map(|p| p.mark.clone()).min()))
        }).collect();
        expected.sort_by_key(|(_, made)| std::cmp::Reverse(made.1));
        let made = selected().group_by(|p| p.grams).filter(|g| g.count().at_least(2))
            .sort_by(|g| g.sum(|p| p.grams).descending()).limit(3).offset(1)
            .collect(|g| (g.count(), g.sum(|p| p.grams), g.min(|p| p.mark))).unwrap();
        prop_assert_eq!(made, expected.into_iter().skip(1).take(3).collect::<Vec<_>>());
        let distinct = everything().only(|p| (p.grams, p.mark)).distinct().collect().unwrap().len();
        prop_assert_eq!(distinct, all.len());
        let weights: BTreeSet<Option<u32>> = everything().only(|p| p.grams).distinct().collect_into().unwrap();
        prop_assert_eq!(everything().only(|p| p.grams).distinct().collect().unwrap().len(), weights.len());

        // Writing to a selection writes to these records and no others.
        let written = selected().update(|p| (p.remarks.set("sold"), p.grams.clear())).unwrap();
        prop_assert_eq!(written, list.len() as u64);
        let sold: BTreeSet<_> = everything().filter(|p| p.remarks.is("sold") & p.grams.is_none()).only(|p| p.key()).collect_into().unwrap();
        prop_assert_eq!(sold, list.iter().map(|p| p.key()).collect::<BTreeSet<_>>());
        prop_assert_eq!(everything().filter(|p| p.remarks.is("sold")).limit(2).remove().unwrap(), list.len().min(2) as u64);
        prop_assert_eq!(everything().filter(|p| !p.remarks.is("sold")).remove().unwrap(), (all.len() - list.len()) as u64);
        prop_assert_eq!(everything().count().unwrap(), list.len().saturating_sub(2) as u64);
    }
}

#[test]
fn sums_of_every_kind_have_their_own_type_and_never_wrap() {
    #[derive(Record)]
    struct Firing {
        wood: f64,
        burned: jiff::SignedDuration,
        bricks: u64,
    }
    let drawer = Drawer::in_memory(Schema::new("kilns").record::<Firing>()).unwrap();
    assert_eq!(drawer.records::<Firing>().sum(|f| f.wood).unwrap(), 0.0);
    assert_eq!(drawer.records::<Firing>().average(|f| f.wood).unwrap(), None);
    assert_eq!(drawer.records::<Firing>().max(|f| f.burned).unwrap(), None);
    let hours = jiff::SignedDuration::from_hours;
    drawer
        .insert_all([(2.5, 11), (4.0, 13)].map(|(wood, h)| Firing { wood, burned: hours(h), bricks: i64::MAX as u64 }))
        .unwrap();
    assert_eq!(drawer.records::<Firing>().sum(|f| f.wood).unwrap(), 6.5);
    assert_eq!(drawer.records::<Firing>().sum(|f| f.burned).unwrap(), hours(24));
    let by_bricks =
        drawer.records::<Firing>().group_by(|f| f.bricks).collect(|g| (g.average(|f| f.wood), g.max(|f| f.burned)));
    assert_eq!(by_bricks.unwrap(), [(i64::MAX as u64, (Some(3.25), Some(hours(13))))]);
    let error = drawer.records::<Firing>().sum(|f| f.bricks).unwrap_err();
    assert!(error.to_string().contains("a sum is above"), "{error}");
}

#[test]
fn a_stream_ends_early_and_frees_everything() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..1_000).map(|n| piece(&n.to_string()))).unwrap();
    let mut seen = 0;
    let all = || drawer.records::<Piece>();
    all().for_each(|_| seen += 1).unwrap();
    assert_eq!(seen, 1_000);
    let mut first = Vec::new();
    let stops = |p: velvet_drawer::Stored<Piece>| {
        first.push(p.mark.clone());
        if first.len() < 3 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    };
    all().for_each(stops).unwrap();
    assert_eq!(first, ["0", "1", "2"]);
    let error = all().for_each(|_| Err::<(), _>(Error::own("enough"))).unwrap_err();
    assert!(error.is_own());
    let names = all()
        .stream(|pieces| pieces.skip(500).step_by(200).map(|p| Ok(p?.mark.clone())).collect::<Result<Vec<_>, _>>());
    assert_eq!(names.unwrap(), ["500", "700", "900"]);
    let two = all().stream(|pieces| Ok((pieces.next().is_some(), pieces.by_ref().count(), pieces.next().is_none())));
    assert_eq!(two.unwrap(), (true, 999, true));
    // Inside a stream the drawer can be read and written: the stream goes on with what it began with.
    let mut read = 0;
    all()
        .for_each(|p| {
            read += 1;
            drawer.change(p.key(), |p| p.grams = None)?;
            drawer.get(p.key()).map(drop)
        })
        .unwrap();
    assert_eq!(read, 1_000);
    drawer.close().unwrap();
    assert!(!path.with_file_name("kiln.drawer-wal").exists(), "a forgotten reader would keep the log");
}

#[test]
fn columns_that_cannot_be_read_are_named() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    other_program(&path).execute("UPDATE piece SET grams = -1", []).unwrap();
    let error = drawer.records::<Piece>().only(|p| (p.mark, p.grams)).collect().unwrap_err();
    assert!(error.is_unreadable());
    assert_eq!((error.table(), error.column()), (Some("piece"), Some("grams")));
    assert!(
        error.to_string().starts_with("cannot read columns of piece: in piece.grams, -1 does not fit u32"),
        "{error}"
    );
}

#[test]
fn a_selection_that_cannot_be_written_is_left_as_it_was() {
    let drawer = studio(&[(Some(1), 0), (Some(2), 0), (None, 1)]);
    let celadon = drawer.insert(glaze("Celadon")).unwrap();
    drawer.insert(Recipe { glaze: celadon.key(), text: "iron".into() }).unwrap();
    let all = || drawer.records::<Piece>();
    let error = all().update(|p| p.mark.set("K-9")).unwrap_err();
    assert!(error.is_clash() && error.to_string().contains("Nothing was written"), "{error}");
    let nowhere = velvet_drawer::Key::<Glaze>::from_number(99);
    assert!(all().update(|p| p.glaze.set(nowhere)).unwrap_err().is_broken_link());
    let error = drawer.records::<Glaze>().filter(|g| g.name.is("Celadon")).remove().unwrap_err();
    assert!(error.is_broken_link() && error.to_string().contains("1 of recipe (by glaze)"), "{error}");
    assert_eq!(all().filter(|p| p.mark.starts_with("K-00")).count().unwrap(), 3);
    let written = drawer.write(|tx| {
        tx.records::<Piece>().update(|p| p.glaze.set(celadon.key()))?;
        tx.records::<Piece>().filter(|p| p.grams.is_none()).remove()
    });
    assert_eq!(written.unwrap(), 1);
    assert_eq!(all().filter(|p| p.glaze.is(celadon.key())).count().unwrap(), 2);
}

#[test]
fn parts_of_a_transaction_roll_back_alone_also_within_each_other() {
    let drawer = memory();
    drawer
        .write(|tx| {
            tx.insert(glaze("kept"))?;
            let given_up = tx.part(|tx| {
                tx.insert(glaze("lost"))?;
                tx.part(|tx| tx.insert(glaze("lost too")))?;
                Err::<(), _>(Error::own("no"))
            });
            assert!(given_up.unwrap_err().is_own());
            tx.part(|tx| {
                let inner = tx.part(|tx| tx.insert_all(["a", "kept"].map(glaze)));
                assert!(inner.unwrap_err().is_clash());
                tx.insert(glaze("kept as well"))
            })?;
            let panicked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                tx.part(|tx| -> Result<(), Error> {
                    tx.insert(glaze("lost in a panic"))?;
                    panic!("dropped")
                })
            }));
            assert!(panicked.is_err());
            Ok(())
        })
        .unwrap();
    let names: Vec<String> = drawer.records::<Glaze>().only(|g| g.name).collect().unwrap();
    assert_eq!(names, ["kept", "kept as well"]);
}

#[test]
fn conditions_joined_one_by_one_may_be_thousands_and_what_is_too_much_is_said() {
    let drawer = studio(&[]);
    drawer.insert_all((0..10).map(|n| piece(&n.to_string()))).unwrap();
    let columns = Piece::columns();
    let none_of =
        |count: u32| (1_000..1_000 + count).map(|n| columns.grams.is_not(n)).reduce(|all, one| all & one).unwrap();
    let any_of = |count: u32| (0..count).map(|n| columns.grams.is(n)).reduce(|any, one| any | one).unwrap();
    let count = |condition| drawer.records::<Piece>().filter(|_| condition).count();
    assert_eq!(count(none_of(3_000)).unwrap(), 10);
    assert_eq!(count(any_of(3_000)).unwrap(), 10, "640 is one of them");
    let mut one_by_one = velvet_drawer::Condition::always();
    (1_000..3_000).for_each(|n| one_by_one &= columns.grams.is(n) | columns.mark.is("3"));
    assert_eq!(count(one_by_one).unwrap(), 1);
    let filters = (0..2_000).fold(drawer.records::<Piece>(), |all, n| all.filter(|p| p.grams.is_not(10_000 + n)));
    assert_eq!(filters.count().unwrap(), 10);
    let nested = (0..1_200).fold(columns.grams.is(1), |inner, n| {
        if n % 2 == 0 { inner & columns.grams.is(n) } else { inner | columns.grams.is(n) }
    });
    for error in [count(nested).unwrap_err(), count(none_of(40_000)).unwrap_err()] {
        assert!(
            error.is_bad_query() && error.to_string().contains("it has too many conditions, or values in them"),
            "{error:?}"
        );
    }
    #[derive(Record)]
    struct Count {
        n: i64,
    }
    let counts = Drawer::in_memory(velvet_drawer::Schema::new("counts").record::<Count>()).unwrap();
    counts.insert_all([i64::MAX, 1].map(|n| Count { n })).unwrap();
    let error = counts.records::<Count>().sum(|c| c.n).unwrap_err();
    assert!(error.is_misfit() && error.to_string().contains("a sum is above 9,223,372,036,854,775,807"), "{error:?}");
}

#[test]
fn a_choice_is_sorted_as_it_is_declared_wherever_its_fallback_stands() {
    macro_rules! sorted {
        ($module:ident, $($variants:tt)*) => {{
            #[derive(velvet_drawer::Choice, Clone, Debug, PartialEq)]
            enum Form { $($variants)* }
            #[derive(Record, Debug)]
            struct Pot { form: Option<Form> }
            let drawer = Drawer::in_memory(velvet_drawer::Schema::new("pots").record::<Pot>()).unwrap();
            for name in ["'jug'", "'unheard'", "'bowl'", "NULL", "'cup'"] {
                drawer.write(|tx| tx.sql(format!("insert into pot (form) values ({name})")).run()).unwrap();
            }
            let order = |reversed: bool| {
                let by = drawer.records::<Pot>().sort_by(|p| if reversed { p.form.as_declared().reversed() } else { p.form.as_declared() });
                by.only(|p| p.key()).collect().unwrap().iter().map(|k| k.number()).collect::<Vec<_>>()
            };
            let (there, mut back) = (order(false), order(true));
            back.reverse();
            assert_eq!(there, back);
            there
        }};
    }
    // Jug is 1, what is unheard of 2, bowl 3, nothing 4, cup 5.
    assert_eq!(
        sorted!(
            last,
            Bowl,
            Jug,
            Cup,
            #[choice(fallback)]
            Other(String)
        ),
        [4, 3, 1, 5, 2]
    );
    assert_eq!(
        sorted!(
            middle,
            Bowl,
            #[choice(fallback)]
            Other(String),
            Jug,
            Cup
        ),
        [4, 3, 2, 1, 5]
    );
    assert_eq!(
        sorted!(
            plain,
            Bowl,
            #[choice(fallback)]
            Unsure,
            Jug,
            Cup
        ),
        [4, 3, 2, 1, 5]
    );
}

#[test]
fn explain_says_what_serves_a_selection_and_what_would() {
    let drawer = studio(&[]);
    let explain = |select: fn(&Drawer) -> velvet_drawer::Records<Piece>| select(&drawer).explain().unwrap();
    let by_weight: fn(&Drawer) -> velvet_drawer::Records<Piece> = |d| d.records::<Piece>().filter(|p| p.grams.is(3));
    assert_eq!(explain(by_weight).hint, None, "a small table may be read whole");
    drawer.insert_all((0..1_000).map(|n| piece(&n.to_string()))).unwrap();

    let by_stage = explain(|d| d.records::<Piece>().filter(|p| p.stage.is(Stage::Glazed)).limit(20));
    assert!(by_stage.by_index && by_stage.hint.is_none(), "{by_stage}");
    assert!(
        by_stage.statement.ends_with("WHERE \"piece\".\"stage\" = ? ORDER BY \"piece\".\"key\" LIMIT ?"),
        "{by_stage}"
    );
    let hint = explain(by_weight).hint.unwrap();
    assert!(hint.starts_with("all 1000 rows of `piece` are read, because no index serves the conditions"), "{hint}");
    let sorted = explain(|d| d.records::<Piece>().sort_by(|p| p.remarks.ascending()));
    assert!(
        sorted.to_string().contains("hint: the selected rows of `piece` (1000 in all) are sorted each time"),
        "{sorted}"
    );
    let only = drawer.records::<Piece>().filter(|p| p.mark.is("7")).only(|p| p.grams).explain().unwrap();
    assert!(only.by_index && only.statement.starts_with("SELECT \"piece\".\"grams\" FROM"), "{only}");
    let groups = drawer.records::<Piece>().filter(|p| p.grams.is(3)).group_by(|p| p.stage).explain().unwrap();
    assert!(groups.statement.contains("GROUP BY 1"), "{groups}");
    #[derive(Record)]
    struct Nowhere {
        elsewhere: u32,
    }
    let nowhere = Drawer::in_memory(velvet_drawer::Schema::new("nowhere").record::<Nowhere>()).unwrap();
    nowhere.insert_all((0..1_000).map(|elsewhere| Nowhere { elsewhere })).unwrap();
    assert_eq!(nowhere.records::<Nowhere>().explain().unwrap().hint, None);
    assert_eq!(nowhere.sql("select elsewhere from nowhere").explain().unwrap().hint, None);
    assert!(nowhere.sql("select elsewhere from nowhere where elsewhere = 1").explain().unwrap().hint.is_some());
    let everything = explain(|d| d.records::<Piece>());
    assert!(!everything.by_index && everything.hint.is_none(), "a list of everything reads everything: {everything}");
    let by_key = explain(|d| d.records::<Piece>().filter(|p| p.key().at_most(velvet_drawer::Key::from_number(5))));
    assert!(by_key.by_index, "{by_key}");
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Count {
    #[record(own_key)]
    name: String,
    small: u8,
    maybe: Option<i16>,
    large: i64,
    real: f64,
    text: Option<String>,
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn a_new_value_follows_from_the_old_one_or_nothing_is_written(
        all in prop::collection::vec((any::<u8>(), any::<Option<i16>>(), prop_oneof![Just(i64::MAX), -9..9_i64], -9.0..9.0_f64, any::<Option<bool>>()), 1..6),
        (up, down, far) in (any::<u8>(), -300..300_i16, prop_oneof![Just(i64::MAX), -9..9_i64]),
    ) {
        let drawer = Drawer::in_memory(Schema::new("counts").record::<Count>()).unwrap();
        let records: Vec<Count> = all.into_iter().enumerate().map(|(n, (small, maybe, large, real, text))| {
            let text = text.map(|is_long| if is_long { "clay\0'".repeat(3) } else { String::new() });
            Count { name: n.to_string(), small, maybe, large, real, text }
        }).collect();
        drawer.insert_all(records.clone()).unwrap();
        let expected: Option<Vec<Count>> = records.iter().map(|r| Some(Count {
            name: r.name.clone(),
            small: r.small.checked_add(up)?,
            maybe: match r.maybe { None => None, Some(n) => Some(n.checked_sub(down)?) },
            large: r.large.checked_add(far)?,
            real: r.real + 0.5,
            text: r.text.as_ref().map(|t| format!("{t}’s")),
        })).collect();
        let updated = drawer.write(|tx| {
            tx.insert(Count { name: "other".into(), ..records[0].clone() })?;
            let updated = tx.records::<Count>().filter(|c| c.name.is_not("other")).update(|c| (
                (c.small.increase(up), c.maybe.decrease(down)),
                c.large.increase(far),
                c.real.increase(0.5),
                c.text.append("’s"),
            ));
            tx.records::<Count>().filter(|c| c.name.is("other")).remove()?;
            Ok(updated)
        }).unwrap();
        let now: Vec<Count> = drawer.records::<Count>().collect().unwrap().into_iter().map(|r| r.into_record()).collect();
        match expected {
            Some(expected) => { prop_assert_eq!(updated.unwrap(), records.len() as u64); prop_assert_eq!(now, expected); }
            None => { prop_assert!(updated.is_err()); prop_assert_eq!(now, records, "all of it is undone, and the transaction goes on"); }
        }
    }
}

#[test]
fn a_new_value_that_does_not_fit_is_named() {
    let drawer = Drawer::in_memory(Schema::new("counts").record::<Count>()).unwrap();
    let count = |name: &str, small| Count { name: name.into(), small, maybe: None, large: 0, real: 0.0, text: None };
    drawer.insert_all([count("a", 1), count("b", 250)]).unwrap();
    let error = drawer.records::<Count>().update(|c| c.small.increase(10)).unwrap_err();
    assert!(error.is_misfit(), "{error:?}");
    let said = "cannot update count 2: in count.small, 260 does not fit u8";
    assert!(error.to_string().starts_with(said) && error.to_string().contains("Nothing was written"), "{error}");
    assert_eq!(drawer.records::<Count>().sum(|c| c.small).unwrap(), 251);
    assert_eq!(
        drawer.records::<Count>().sort_by(|c| c.small.descending()).limit(1).update(|c| c.small.decrease(249)).unwrap(),
        1
    );
    assert_eq!(drawer.records::<Count>().only(|c| c.small).distinct().count().unwrap(), 1);
}
