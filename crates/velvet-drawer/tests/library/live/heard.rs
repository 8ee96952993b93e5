//! Which commits are heard of, and what is done for one.

use super::*;

static COMPARED: AtomicU32 = AtomicU32::new(0);

struct Counted;

impl TextOrder for Counted {
    fn compare(a: &str, b: &str) -> Ordering {
        COMPARED.fetch_add(1, Relaxed);
        a.cmp(b)
    }
}

#[test]
fn only_what_a_commit_wrote_is_looked_at_and_two_screens_share_the_work() {
    let drawer = memory();
    let many = |d: &Drawer| d.insert_all((0..3_000).map(|n| piece(&format!("K-{n:04}")))).unwrap();
    let keys: Vec<_> = many(&drawer).iter().map(|p| p.key()).collect();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.ascending_by::<Counted>());
    let (mut one, mut other) = (Screen::of(sorted().watch()), sorted().watch().unwrap());
    one.until(&sorted().collect().unwrap());
    COMPARED.store(0, Relaxed);
    for (n, key) in keys.iter().enumerate().step_by(700) {
        drawer.change(*key, |p| p.mark = format!("K-{:04}+", 2_900 - n)).unwrap();
        let update = loaded(&mut one.live);
        one.take(&update);
    }
    drawer.remove(keys[5]).unwrap();
    let update = loaded(&mut one.live);
    one.take(&update);
    let compared = COMPARED.load(Relaxed);
    assert!((1..600).contains(&compared), "sorting them anew compares some 30,000 texts: {compared}");
    one.until(&sorted().collect().unwrap());

    let (State::Loaded(a), b) = (one.live.now(), loaded(&mut other)) else { panic!("both have the list") };
    assert!(b.before.is_none() && a.iter().zip(b.result.iter()).all(|(a, b)| std::ptr::eq(a, b)));
    let mut else_sorted = drawer.records::<Piece>().sort_by(|p| p.mark.descending()).watch().unwrap();
    assert!(!std::ptr::eq(&loaded(&mut else_sorted).result[2_998], &a[0]), "something else is not shared");
}

#[test]
fn nothing_is_told_of_commits_that_change_nothing_of_the_result() {
    let drawer = memory();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let mut heavy =
        drawer.records::<Piece>().filter(|p| p.grams.at_least(600)).sort_by(|p| p.mark.ascending()).watch().unwrap();
    let mut linked = drawer.records::<Piece>().filter(|p| p.glaze.which(|g| g.name.is("Shino"))).watch().unwrap();
    let mut count = drawer.watch(|view| view.count::<Piece>()).unwrap();
    drop((loaded(&mut heavy), loaded(&mut linked), loaded(&mut count)));
    drawer.insert(glaze("Celadon")).unwrap();
    let light = drawer.insert(Piece { grams: Some(1), ..piece("K-2") }).unwrap();
    drawer.change(bowl.key(), |p| p.grams = Some(640)).unwrap();
    drawer.write(|tx| tx.sql("update piece set grams = grams, mark = mark").run()).unwrap();
    drawer.remove(light.key()).unwrap();
    assert!(heavy.news_within(A_MOMENT).is_none());
    assert!(linked.news().is_none() && count.news().is_none(), "the count is what it was before, too");

    let mut quick =
        drawer.records::<Piece>().filter(|p| p.grams.at_least(600)).sort_by(|p| p.mark.ascending()).watch().unwrap();
    loaded(&mut quick);
    for grams in [700, 640] {
        drawer.change(bowl.key(), |p| p.grams = Some(grams)).unwrap();
        assert_eq!(loaded(&mut quick).result[0].grams, Some(grams));
    }
    assert!(heavy.news().is_none(), "whoever did not look meanwhile has what there is");
}

#[test]
fn cascades_triggers_and_tables_that_were_not_read_before_are_heard_of() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (bowl, shino) = (drawer.insert(piece("K-1")).unwrap(), drawer.insert(glaze("Shino")).unwrap());
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    drawer.change(bowl.key(), |p| p.glaze = Some(shino.key())).unwrap();
    drawer.close().unwrap();
    // A trigger of somebody's that replaces rows, of which the engine does not tell.
    other_program(&path)
        .execute_batch(
            "CREATE TRIGGER of_somebody AFTER INSERT ON recipe BEGIN
                 INSERT OR REPLACE INTO glaze (key, name) VALUES (NEW.key + 50, 'Shino'); END",
        )
        .unwrap();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let mut photos = drawer.records::<Photo>().watch().unwrap();
    let mut glazes = drawer.records::<Glaze>().watch().unwrap();
    let mut unglazed = drawer.records::<Piece>().filter(|p| p.glaze.is_none()).watch().unwrap();
    let mut either = drawer
        .watch(|view| if view.records::<Glaze>().any()? { Ok(None) } else { Ok(Some(view.count::<Photo>()?)) })
        .unwrap();
    assert!(loaded(&mut unglazed).result.is_empty() && loaded(&mut either).result.is_none());
    drop((loaded(&mut photos), loaded(&mut glazes)));
    drawer.remove(shino.key()).unwrap();
    assert_eq!(loaded(&mut unglazed).result.len(), 1, "the link was cleared");
    assert_eq!(loaded(&mut either).result, Some(1));
    drawer.remove(bowl.key()).unwrap();
    assert!(loaded(&mut photos).result.is_empty() && loaded(&mut unglazed).result.is_empty());
    assert_eq!(loaded(&mut either).result, Some(0), "a table that was not read at first");

    assert!(loaded(&mut glazes).result.is_empty());
    let raku = drawer.insert(glaze("Raku")).unwrap();
    let mut screen = Screen { live: glazes, shown: Vec::new(), updates: 1 };
    for text in ["ash", "bone"] {
        drawer.insert(Recipe { glaze: raku.key(), text: text.into() }).unwrap();
        let expected = drawer.records::<Glaze>().collect().unwrap();
        assert_eq!(expected.len(), 2, "the one before was replaced");
        screen.until(&expected);
    }
}

#[test]
fn changes_of_other_devices_imports_and_a_schema_with_every_kind_of_column_are_commits_like_any_other() {
    let (_folder, path) = folder();
    let one = Drawer::in_memory(everything::schema()).unwrap();
    let options = Drawer::options().others_noticed_within(Duration::from_millis(5));
    let other = options.open(&path, everything::schema()).unwrap();
    let mut all = Screen::of(other.records::<Everything>().sort_by(|e| e.title.ascending()).watch());
    let mut owners = Screen::of(other.records::<Owner>().watch());
    let owner = one.insert(Owner::named("Ada")).unwrap();
    one.insert_all([Everything { owner: Some(owner.key()), ..everything::plain(1) }, everything::plain(2)]).unwrap();
    let mut lines = Vec::new();
    let next = one.changes_since(Position::START).write_json_lines(&mut lines).unwrap();
    other.apply_changes(lines.as_slice()).from("one").run().unwrap();
    all.until(&other.records::<Everything>().collect().unwrap());
    owners.until(&other.records::<Owner>().collect().unwrap());
    assert_eq!((all.shown.len(), owners.shown.len()), (2, 1));
    one.remove(owner.key()).unwrap();
    let mut lines = Vec::new();
    one.changes_since(next).write_json_lines(&mut lines).unwrap();
    other.apply_changes(lines.as_slice()).from("one").run().unwrap();
    owners.until(&[]);
    all.until(&other.records::<Everything>().collect().unwrap());
    assert_eq!(all.shown.len(), 1, "what linked to it went with it");

    let rows = "{\"name\":\"Ida\"}\n{\"name\":\"Uma\"}\n";
    import(&path, Some("owner"), Exchange::JsonLines, &mut rows.as_bytes(), &Limits::default()).unwrap();
    owners.until(&other.records::<Owner>().collect().unwrap());
    assert_eq!(owners.shown.len(), 2);
}

#[test]
fn what_is_committed_to_a_table_while_it_is_read_for_the_first_time_is_not_missed() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (bowl, shino) = (drawer.insert(piece("K-1")).unwrap(), drawer.insert(glaze("Shino")).unwrap());
    let ((begin, begun), (go_on, wait)) = (mpsc::channel::<()>(), mpsc::channel::<()>());
    let mut photos = drawer
        .watch(move |view| {
            if view.records::<Glaze>().any()? {
                return Ok(None);
            }
            let _ = begin.send(());
            let _ = wait.recv_timeout(FOR_EVER);
            Ok(Some(view.count::<Photo>()?))
        })
        .unwrap();
    assert_eq!(loaded(&mut photos).result, None);
    drawer.remove(shino.key()).unwrap();
    begun.recv_timeout(FOR_EVER).unwrap();
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    drop(go_on);
    assert_eq!(loaded(&mut photos).result, Some(0), "the state that it was read from");
    assert_eq!(loaded(&mut photos).result, Some(1));
}

#[test]
fn trails_compacting_and_low_memory_change_nothing_of_what_is_followed() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let stored = drawer.insert_all((0..30).map(|n| piece(&mark(n)))).unwrap();
    let sorted = || drawer.records::<Piece>().sort_by(|p| p.mark.descending());
    let mut screen = Screen::of(sorted().watch());
    screen.until(&sorted().collect().unwrap());
    drawer.compact().unwrap();
    drawer.memory_is_low();
    drawer.copy_to(path.with_file_name("copy.drawer")).unwrap();
    assert!(screen.live.news_within(A_MOMENT).is_none());
    for piece in &stored[..3] {
        drawer.remove(piece.key()).unwrap();
        drawer.compact().unwrap();
        drawer.insert(common::piece(&format!("new {}", piece.mark))).unwrap();
        screen.until(&sorted().collect().unwrap());
    }
}

#[test]
fn an_upgrade_by_another_process_is_told_to_lists_settings_and_whatever_is_watched() {
    #[derive(velvet_drawer::Settings, Clone, PartialEq, Debug)]
    struct Bench {
        top: u32,
    }
    let (_folder, path) = folder();
    let schema = || Schema::new("kilnbook").record::<Glaze>().settings::<Bench>();
    let drawer = Drawer::options().others_noticed_within(Duration::from_millis(5)).open(&path, schema()).unwrap();
    let mut list = drawer.records::<Glaze>().watch().unwrap();
    let mut settings = drawer.settings::<Bench>().watch().unwrap();
    let mut field = drawer.settings::<Bench>().watch_field(|b| b.top).unwrap();
    let mut value = drawer.watch(|view| view.count::<Glaze>()).unwrap();
    drop((loaded(&mut list), loaded(&mut settings), loaded(&mut field), loaded(&mut value)));
    assert_eq!(drawer.settings::<Bench>().get().unwrap().top, 0);
    other_program(&path).pragma_update(None, "user_version", 2).unwrap();
    assert!(list.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(value.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(field.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    assert!(settings.news_within(FOR_EVER).unwrap().unwrap_err().is_newer_version());
    let begun = Instant::now();
    while drawer.settings::<Bench>().get().is_ok() {
        assert!(begun.elapsed() < FOR_EVER);
    }
}
