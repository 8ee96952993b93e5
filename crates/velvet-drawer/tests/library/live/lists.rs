//! Lists show what is stored, in its order.

use super::*;

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
