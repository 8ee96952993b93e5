//! From before a result is loaded until it has ended.

use super::*;

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
