//! Columns come to be sealed, are renamed, and stop to be sealed.

use super::*;

/// The same record in four versions: plain; sealed; under other names, one column of another type, one filled anew, and one new; plain again.
mod v {
    pub(crate) mod one {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        pub(crate) struct Person {
            #[record(searchable)]
            pub(crate) phone: String,
            pub(crate) pin: Option<i32>,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod two {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        pub(crate) struct Person {
            #[record(sealed)]
            pub(crate) phone: String,
            #[record(sealed)]
            pub(crate) pin: Option<i32>,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod three {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "guest", was = "person")]
        pub(crate) struct Person {
            #[record(sealed = "person.phone", was = "phone")]
            pub(crate) mobile: String,
            #[record(sealed = "person.pin", fill = "CASE WHEN pin IS NOT NULL THEN printf('%04d', pin) END")]
            pub(crate) pin: Option<String>,
            pub(crate) note: Option<String>,
            #[record(sealed, fill = "'called ' || mobile")]
            pub(crate) said: String,
        }
    }
    pub(crate) mod four {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "guest")]
        pub(crate) struct Person {
            pub(crate) mobile: String,
            #[record(sealed = "person.pin")]
            pub(crate) pin: Option<String>,
            #[record(sealed)]
            pub(crate) note: Option<String>,
            pub(crate) said: String,
        }
    }
}

/// The histories up to each version.
fn histories() -> [&'static str; 4] {
    let tables = [
        (v::one::Person::table().unwrap(), ("person", v::one::Person::HINTS)),
        (v::two::Person::table().unwrap(), ("person", v::two::Person::HINTS)),
        (v::three::Person::table().unwrap(), ("guest", v::three::Person::HINTS)),
        (v::four::Person::table().unwrap(), ("guest", v::four::Person::HINTS)),
    ];
    let structure = |at: usize| Structure { tables: vec![tables[at].0.clone()] };
    let mut history = History::start("guests", &structure(0));
    let mut all = [""; 4];
    for at in 0..4 {
        if at > 0 {
            let drafted = draft(&structure(at - 1), &structure(at), &[tables[at].1], &[], &[]);
            assert_eq!(drafted.questions, [""; 0]);
            history = history.recorded(&structure(at), drafted, &[]);
        }
        history.versions[0].released = true;
        all[at] = versions::leaked(&history);
    }
    all
}

#[test]
fn columns_come_to_be_sealed_are_renamed_filled_and_stop_to_be_sealed() {
    let [first, second, third, fourth] = histories();
    let people = || {
        (1..60).map(|n| v::one::Person {
            phone: format!("{WORD} {n}"),
            pin: (n % 3 > 0).then_some(n),
            note: Some(WORD.into()),
        })
    };
    let pin = |n: i32| (n % 3 > 0).then(|| format!("{n:04}"));
    // One step after the other, and all at once.
    for at_once in [false, true] {
        let (folder, path) = folder();
        let keys = KeysInMemory::default();
        let with = || with(&keys).trail(Trail::Before);
        let drawer = with().open(&path, at_version::<v::one::Person>(first)).unwrap();
        drawer.insert_all(people().map(|p| v::one::Person { note: None, ..p })).unwrap();
        let changed = drawer.insert(v::one::Person { phone: WORD.into(), pin: None, note: None }).unwrap();
        drawer.change(changed.key(), |p| p.phone = format!("{WORD} 60")).unwrap();
        drawer.remove(changed.key()).unwrap();
        drawer.close().unwrap();
        assert_eq!(is_seen(folder.path()).len(), 1, "what is not sealed is seen");
        if !at_once {
            let refused = Drawer::open(&path, at_version::<v::two::Person>(second)).unwrap_err();
            assert!(refused.is_schema(), "{refused}");
            let drawer = with().open(&path, at_version::<v::two::Person>(second)).unwrap();
            assert_eq!(
                is_seen(folder.path()),
                [""; 0],
                "nor in pages that are not used any more, in the trail, in the search index"
            );
            let expected: Vec<_> =
                people().map(|p| v::two::Person { phone: p.phone, pin: p.pin, note: None }).collect();
            assert!(
                drawer.records::<v::two::Person>().collect().unwrap().into_iter().map(|p| p.into_record()).eq(expected)
            );
            drawer.close().unwrap();
            let drawer = with().open(&path, at_version::<v::three::Person>(third)).unwrap();
            assert_eq!(is_seen(folder.path()), [""; 0]);
            let expected = (1..60).map(|n| {
                let mobile = format!("{WORD} {n}");
                v::three::Person { said: format!("called {mobile}"), mobile, pin: pin(n), note: None }
            });
            assert!(
                drawer
                    .records::<v::three::Person>()
                    .collect()
                    .unwrap()
                    .into_iter()
                    .map(|p| p.into_record())
                    .eq(expected)
            );
            drawer.close().unwrap();
            let file = File::open(&path).unwrap();
            assert!(file.check().unwrap().is_sound());
            let tried = file.rehearse_history(fourth).unwrap_err();
            assert!(tried.is_key_missing() && tried.to_string().contains("what is sealed cannot be opened"), "{tried}");
            let schema = at_version::<v::four::Person>(fourth);
            let tried = file.rehearse(&schema).unwrap_err();
            assert!(tried.is_key_missing(), "{tried}");
            let (names, before) = (format!("{keys:?}"), std::fs::read(&path).unwrap());
            assert!(file.rehearse_with_keys(&schema, keys.clone()).unwrap().upgraded.is_some());
            assert!(
                format!("{keys:?}") == names && std::fs::read(&path).unwrap() == before,
                "a rehearsal keeps nothing"
            );
        }
        let lost = Drawer::options().keys(KeysInMemory::default()).leave_sealed();
        let opened = lost.open(&path, at_version::<v::four::Person>(fourth));
        if at_once {
            drop(opened);
            continue;
        }
        let error = opened.unwrap_err();
        assert!(error.is_key_missing() && error.to_string().contains("The file is as it was, at version 3"), "{error}");
        let drawer = with().open(&path, at_version::<v::four::Person>(fourth)).unwrap();
        let expected = (1..60).map(|n| {
            let mobile = format!("{WORD} {n}");
            v::four::Person { said: format!("called {mobile}"), mobile, pin: pin(n), note: None }
        });
        assert!(
            drawer.records::<v::four::Person>().collect().unwrap().into_iter().map(|p| p.into_record()).eq(expected)
        );
    }
    let (_folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = with(&keys).open(&path, at_version::<v::one::Person>(first)).unwrap();
    drawer.insert_all(people()).unwrap();
    drawer.close().unwrap();
    assert!(File::open(&path).unwrap().rehearse_history(second).unwrap().upgraded.is_some());
    let drawer = with(&keys).open(&path, at_version::<v::four::Person>(fourth)).unwrap();
    let all = drawer.records::<v::four::Person>().collect().unwrap();
    assert!(all.len() == 59 && all.iter().all(|p| p.note.as_deref() == Some(WORD) && p.mobile.starts_with(WORD)));

    let schema = at_version::<v::four::Person>(fourth);
    testing::every_version_upgrades(&schema);
}

#[test]
fn bytes_that_were_stored_as_bytes_come_to_be_sealed_too() {
    mod clear {
        #[derive(velvet_drawer::Record)]
        pub(crate) struct Face {
            pub(crate) portrait: Vec<u8>,
        }
    }
    #[derive(Record)]
    struct Face {
        #[record(sealed)]
        portrait: Vec<u8>,
    }
    let [before, after] =
        [clear::Face::table().unwrap(), Face::table().unwrap()].map(|table| Structure { tables: vec![table] });
    let mut history = History::start("guests", &before);
    history.versions[0].released = true;
    let first = versions::leaked(&history);
    let second =
        versions::leaked(&history.recorded(&after, draft(&before, &after, &[("face", Face::HINTS)], &[], &[]), &[]));
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = Drawer::open(&path, at_version::<clear::Face>(first)).unwrap();
    drawer.insert_all((0..50).map(|n| clear::Face { portrait: WORD.repeat(n).into_bytes() })).unwrap();
    drawer.records::<clear::Face>().limit(40).remove().unwrap();
    drawer.close().unwrap();
    let drawer = with(&keys).open(&path, at_version::<Face>(second)).unwrap();
    let all = drawer.records::<Face>().collect().unwrap();
    assert!(all.iter().map(|f| &f.portrait).eq(&(40..50).map(|n| WORD.repeat(n).into_bytes()).collect::<Vec<_>>()));
    assert_eq!(is_seen(folder.path()), [""; 0], "also what was removed before");
}

#[test]
fn a_rename_without_the_label_is_asked_about() {
    #[derive(Record)]
    #[record(name = "guest", was = "person")]
    struct Guest {
        #[record(sealed, was = "phone")]
        mobile: String,
        #[record(sealed = "person.pin")]
        pin: Option<i32>,
        note: Option<String>,
    }
    let tables =
        [v::two::Person::table().unwrap(), Guest::table().unwrap()].map(|table| Structure { tables: vec![table] });
    let drafted = draft(&tables[0], &tables[1], &[("guest", Guest::HINTS)], &[], &[]);
    let asked = "what is stored in `guest.mobile` was sealed as `person.phone`, and can be read only so: write #[record(sealed = \"person.phone\")] on the field";
    assert_eq!(drafted.questions, [asked]);
}

#[test]
fn a_file_from_before_is_taken_over_and_its_columns_come_to_be_sealed() {
    let (folder, path) = folder();
    let [_, second, ..] = histories();
    other_program(&path)
        .execute_batch(&format!(
            "CREATE TABLE person (id INTEGER PRIMARY KEY, phone TEXT NOT NULL, pin INTEGER, note TEXT);
             INSERT INTO person VALUES (7, '{WORD} 7', 7, NULL), (9, '{WORD} 9', NULL, 'regular')"
        ))
        .unwrap();
    let keys = KeysInMemory::default();
    let open = || with(&keys).adopt().open(&path, at_version::<v::two::Person>(second));
    let drawer = open().unwrap();
    let adopted = drawer.opened().adopted.clone().unwrap();
    assert_eq!((adopted.version, drawer.opened().upgraded.as_ref().unwrap().from), (1, 1));
    let phones = |drawer: &Drawer| drawer.records::<v::two::Person>().only(|p| (p.phone, p.pin)).collect().unwrap();
    let expected = [(format!("{WORD} 7"), Some(7)), (format!("{WORD} 9"), None)];
    assert_eq!(phones(&drawer), expected);
    drawer.close().unwrap();
    let seen = is_seen(folder.path());
    assert!(seen.len() == 1 && seen[0].contains("before-adoption"), "only the copy from before: {seen:?}");
    assert_eq!(phones(&open().unwrap()), expected);
    assert!(
        with(&KeysInMemory::default()).open(&path, at_version::<v::two::Person>(second)).unwrap_err().is_key_missing()
    );
}

#[test]
fn a_log_that_a_reader_kept_from_being_cut_is_clean_after_the_next_open() {
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let [first, second, ..] = histories();
    let drawer = with(&keys).open(&path, at_version::<v::one::Person>(first)).unwrap();
    drawer.insert_all((1..60).map(|n| v::one::Person { phone: format!("{WORD} {n}"), pin: None, note: None })).unwrap();
    // A widget or another program reads an older state all the while.
    let reader = other_program(&path);
    reader.execute_batch("BEGIN; SELECT count(*) FROM person").unwrap();
    drawer.close().unwrap();
    let open = || with(&keys).open(&path, at_version::<v::two::Person>(second)).unwrap();
    open().close().unwrap();
    assert!(!is_seen(folder.path()).is_empty(), "the reader needs it");
    reader.execute_batch("COMMIT").unwrap();
    drop(reader);
    let drawer = open();
    assert_eq!(is_seen(folder.path()), [""; 0]);
    assert_eq!(drawer.count::<v::two::Person>().unwrap(), 59);
    drawer.close().unwrap();
}
