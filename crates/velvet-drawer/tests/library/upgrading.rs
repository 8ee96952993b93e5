//! Upgrades: what they carry, what they keep, and that they happen wholly or not at all.

use crate::common;
use common::versions::{self, history_with, leaked, records, schema, split_glazes, v1, v3};
use common::{folder, other_program};
use std::path::Path;
use std::time::Duration;
use velvet_core::evolve::{History, Step, draft};
use velvet_core::schema::structure::Structure;
use velvet_drawer::{Drawer, Error, Key, Record, Schema, testing};

/// A file of version 1 with three pieces, photos of the first, and a row number that was given and taken back.
fn first_version(path: &Path) {
    let drawer = Drawer::options().app_version("1.0").open(path, schema(1)).unwrap();
    let piece =
        |mark: &str, wt, glaze: &str| v1::Piece { mark: mark.into(), wt, glaze: glaze.into(), sketch: vec![1, 2] };
    let bowl = drawer.insert(piece("K-1", Some(0.64), "Tenmoku")).unwrap();
    drawer.insert_all([piece("K-2", None, ""), piece("K-3", Some(1.2804), "Shino")]).unwrap();
    drawer.insert_all(["front", "back"].map(|side| v1::Photo { piece: bowl.key(), side: side.into() })).unwrap();
    let gone = drawer.insert(piece("K-4", None, "")).unwrap();
    drawer.remove(gone.key()).unwrap();
    drawer.close().unwrap();
}

#[track_caller]
fn is_whole_at_version_3(drawer: &Drawer) {
    let pieces = drawer.records::<v3::Piece>().collect().unwrap();
    let seen: Vec<_> = pieces.iter().map(|p| (p.key().number(), p.mark.as_str(), p.grams, p.copies)).collect();
    assert_eq!(seen, [(1, "K-1", Some(640), 1), (2, "K-2", None, 1), (3, "K-3", Some(1280), 1)]);
    let glaze = |n: usize| pieces[n].glaze.map(|key| drawer.get(key).unwrap().unwrap().name.clone());
    assert_eq!([glaze(0), glaze(1), glaze(2)], [Some("Tenmoku".into()), None, Some("Shino".into())]);
    assert_eq!(drawer.count::<v3::Photo>().unwrap(), 2, "rebuilding a table must not remove what links to it");
    assert_eq!(drawer.count::<v3::Glaze>().unwrap(), 2);
}

#[test]
fn an_old_file_takes_every_step_and_keeps_rows_links_keys_and_indexes() {
    let (_folder, path) = folder();
    first_version(&path);
    let drawer = Drawer::options().app_version("3.0").open(&path, schema(3)).unwrap();
    is_whole_at_version_3(&drawer);
    let upgraded = drawer.opened().upgraded.clone().unwrap();
    assert_eq!((upgraded.from, upgraded.versions.len()), (1, 2));
    assert_eq!((upgraded.versions[0].version, upgraded.versions[1].version, upgraded.versions[1].rows), (2, 3, 3));
    assert!(
        upgraded.versions[1].lost.iter().any(|l| l.contains("what is stored in `pot.sketch`")),
        "{:?}",
        upgraded.versions[1].lost
    );

    let fresh =
        drawer.insert(v3::Piece { mark: "K-5".into(), grams: None, glaze: None, shelf: None, copies: 2 }).unwrap();
    assert_eq!(fresh.key().number(), 5, "a row number that was given is not given again");
    assert!(drawer.insert((*fresh).clone()).unwrap_err().is_clash(), "the rule of one mark is still there");
    drawer.remove(drawer.get_by_own_key::<v3::Piece>("K-1").unwrap().unwrap().key()).unwrap();
    assert_eq!(drawer.count::<v3::Photo>().unwrap(), 0, "links still follow their rule");

    let kept = upgraded.backup.unwrap();
    assert_eq!(kept, path.with_file_name("kiln.at-version-1.drawer"));
    let before = Drawer::open(&kept, schema(1)).unwrap();
    assert_eq!(before.records::<v1::Piece>().collect().unwrap().len(), 3);
    assert_eq!(before.records::<v1::Piece>().first().unwrap().unwrap().sketch, [1, 2]);

    let versions = |path: &Path| -> Vec<(i64, Option<String>)> {
        let other = other_program(path);
        let mut statement = other.prepare("SELECT version, app_version FROM velvet_versions ORDER BY 1").unwrap();
        statement.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect()
    };
    assert_eq!(versions(&path), [(1, Some("1.0".into())), (2, Some("3.0".into())), (3, Some("3.0".into()))]);
}

#[test]
fn step_by_step_all_at_once_and_fresh_come_to_the_same_structure() {
    let (_folder, path) = folder();
    first_version(&path);
    Drawer::open(&path, schema(2)).unwrap().close().unwrap();
    let by_steps = Drawer::open(&path, schema(3)).unwrap();
    assert_eq!(by_steps.opened().upgraded.as_ref().unwrap().from, 2);
    is_whole_at_version_3(&by_steps);
    let (_other, fresh) = folder();
    let fresh_drawer = Drawer::open(&fresh, schema(3)).unwrap();
    assert!(fresh_drawer.opened().created);
    let structure = |path: &Path| -> Vec<String> {
        let other = other_program(path);
        let text = "SELECT group_concat(name || type || \"notnull\" || coalesce(dflt_value, ''), '|') FROM \
                    (SELECT * FROM pragma_table_xinfo('pot') ORDER BY name) UNION ALL \
                    SELECT group_concat(name, '|') FROM (SELECT name FROM sqlite_schema WHERE type = 'index' ORDER BY name)";
        let mut statement = other.prepare(text).unwrap();
        statement.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
    };
    assert_eq!(structure(&path), structure(&fresh));
}

/// Opens a file of version 1 in a way that must fail, and sees that it is as it was.
#[track_caller]
fn fails_and_changes_nothing(schema_3: Schema, is: fn(&Error) -> bool, says: &[&str]) {
    let (_folder, path) = folder();
    first_version(&path);
    let before = std::fs::read(&path).unwrap();
    let error = Drawer::open(&path, schema_3).unwrap_err();
    assert!(is(&error), "{error:?}");
    let message = error.to_string();
    for words in says {
        assert!(message.contains(words), "{words} is missing in: {message}");
    }
    assert!(message.contains("The file is as it was, at version 1"), "{message}");
    assert!(before == std::fs::read(&path).unwrap());
    assert_eq!(Drawer::kept_copies(&path).unwrap(), [], "an upgrade that failed leaves no copy");
    let drawer = Drawer::open(&path, schema(1)).unwrap();
    assert_eq!(drawer.count::<v1::Piece>().unwrap(), 3);
    assert_eq!(drawer.count::<v1::Photo>().unwrap(), 2);
}

#[test]
fn whatever_goes_wrong_nothing_is_changed_and_the_step_is_named() {
    let with = |change| records(3).history(history_with(change)).code("split_glazes", split_glazes);
    let sql = |statement: &str| with(Step::Statement { statement: statement.into() });
    fails_and_changes_nothing(
        sql("INSERT INTO nowhere VALUES (1)"),
        Error::is_schema,
        &["cannot upgrade the drawer from version 1 to 3, in step (run SQL: INSERT INTO nowhere", "`nowhere`"],
    );
    fails_and_changes_nothing(
        sql("UPDATE photo SET piece = 77"),
        Error::is_broken_link,
        &["links would lead nowhere: photo 1 to a pot that does not exist, photo 2 to a pot"],
    );
    fails_and_changes_nothing(
        sql("DROP INDEX \"pot.mark\""),
        Error::is_other_structure,
        &["the result is not the declared structure: the unique index on `pot`(mark) is missing"],
    );
    let failing = |_: &velvet_drawer::Upgrade<'_>| Err(Error::own("the kiln is cold"));
    fails_and_changes_nothing(
        records(3).history(common::versions::history(3)).code("split_glazes", failing),
        Error::is_own,
        &["in step (run the app's code `split_glazes`) of version 3 of the history file: the kiln is cold"],
    );
    fails_and_changes_nothing(
        records(3).history(common::versions::history(3)),
        Error::is_schema,
        &["the history runs the code `split_glazes`, which is not in the schema"],
    );
    let mut history = History::parse(common::versions::history(3)).unwrap();
    for change in &mut history.versions[0].steps {
        if let Step::ChangeColumn { column, fill, .. } = change
            && column.name == "grams"
        {
            *fill = Some("'heavy'".into());
        }
    }
    fails_and_changes_nothing(
        records(3).history(leaked(&history)).code("split_glazes", split_glazes),
        |_| true,
        &["cannot store TEXT value in INTEGER column pot.grams"],
    );
}

#[test]
fn a_developer_can_make_an_upgrade_fail() {
    let (_folder, path) = folder();
    first_version(&path);
    for (steps, version) in [(1, 3), (2, 3), (1, 2), (0, 2), (9, 2)] {
        let error = Drawer::options().fail_upgrade(steps).open(&path, schema(version)).unwrap_err();
        assert!(error.to_string().contains("because the developer asked for it"), "{error}");
    }
    is_whole_at_version_3(&Drawer::open(&path, schema(3)).unwrap());
}

#[test]
fn a_slow_upgrade_tells_its_progress_is_joined_and_can_be_cancelled() {
    let (_folder, path) = folder();
    first_version(&path);
    let slow = || Drawer::options().slow_upgrade(Duration::from_millis(300));
    let opening = slow().open_in_background(&path, schema(3));
    let wait_for_progress = |opening: &velvet_drawer::Later<Drawer>| {
        while opening.progress().parts_done == 0 {
            std::thread::sleep(Duration::from_millis(1));
        }
    };
    wait_for_progress(&opening);
    let progress = opening.progress();
    assert!(progress.parts == 2 && progress.doing.starts_with("upgrading to version "), "{progress:?}");
    assert!(!opening.is_finished());
    opening.cancel();
    assert!(opening.wait().unwrap_err().is_cancelled());
    assert_eq!(Drawer::open(&path, schema(1)).unwrap().count::<v1::Piece>().unwrap(), 3);

    let opening = slow().open_in_background(&path, schema(3));
    wait_for_progress(&opening);
    let joined = Drawer::open(&path, schema(3)).unwrap();
    is_whole_at_version_3(&joined);
    let awaited = awaits(opening).unwrap();
    assert!(awaited.opened().upgraded.is_some(), "both are handles to the one drawer");
    assert!(joined.opened().upgraded.is_some());
}

/// Awaits a future without any runtime.
fn awaits<F: Future>(future: F) -> F::Output {
    struct Unpark(std::thread::Thread);
    impl std::task::Wake for Unpark {
        fn wake(self: std::sync::Arc<Self>) {
            self.0.unpark();
        }
    }
    let waker = std::sync::Arc::new(Unpark(std::thread::current())).into();
    let mut context = std::task::Context::from_waker(&waker);
    let mut future = std::pin::pin!(future);
    loop {
        match future.as_mut().poll(&mut context) {
            std::task::Poll::Ready(output) => return output,
            std::task::Poll::Pending => std::thread::park(),
        }
    }
}

#[test]
fn code_that_panics_or_opens_its_own_drawer_is_an_error_and_nothing_hangs() {
    let (_folder, path) = folder();
    first_version(&path);
    let panics = records(3).history(common::versions::history(3)).code("split_glazes", |_| panic!("the lid fell off"));
    let error = Drawer::options().open_in_background(&path, panics).wait().unwrap_err();
    assert!(
        error.is_own()
            && error.to_string().contains("code of the app panicked: the lid fell off. The file is as it was"),
        "{error}"
    );

    let again = path.clone();
    let opens = move |_: &velvet_drawer::Upgrade<'_>| Drawer::open(&again, schema(3)).map(drop);
    let error =
        Drawer::open(&path, records(3).history(common::versions::history(3)).code("split_glazes", opens)).unwrap_err();
    assert!(error.is_nested(), "{error:?}");
    assert!(error.to_string().contains("while it is being opened, on the same thread"), "{error}");
    is_whole_at_version_3(&Drawer::open(&path, schema(3)).unwrap());
}

#[test]
fn a_structure_changed_from_outside_is_refused_and_harmless_changes_are_not() {
    let (_folder, path) = folder();
    first_version(&path);
    other_program(&path).execute_batch("CREATE TABLE notes (text); VACUUM").unwrap();
    Drawer::open(&path, schema(1)).unwrap().close().unwrap();
    other_program(&path).execute_batch("ALTER TABLE piece ADD COLUMN color TEXT; DROP INDEX \"piece.glaze\"").unwrap();
    for version in [1, 3] {
        let error = Drawer::open(&path, schema(version)).unwrap_err();
        assert!(error.is_other_structure(), "{error:?}");
        let message = error.to_string();
        assert!(message.contains("`piece.color` is there but not declared"), "{message}");
        assert!(message.contains("the index on `piece`(glaze) is missing"), "{message}");
    }
}

#[test]
fn a_change_that_was_not_recorded_opens_nothing() {
    let (_folder, path) = folder();
    let error = Drawer::open(&path, records(2).history(common::versions::history(1))).unwrap_err();
    assert!(error.is_schema());
    assert!(error.to_string().contains("is not what its history says of the newest version"), "{error}");
    assert!(error.to_string().contains("`VELVET_HISTORY=record cargo test` records it"), "{error}");
    assert!(!path.exists());
}

#[test]
fn files_of_every_version_are_tried_with_generated_rows() {
    let mut seen = Vec::new();
    let newest = schema(3);
    let look = |version: u32, drawer: &Drawer| {
        assert!(drawer.count::<v3::Glaze>().unwrap() > 3);
        seen.push((version, drawer.count::<v3::Piece>().unwrap(), drawer.count::<v3::Photo>().unwrap()));
    };
    // Weights that are made up do not become grams.
    let folder = tempfile::tempdir().unwrap();
    for version in [1, 2] {
        let rows: String = (1..=24)
            .map(|n| format!("{{\"table\":\"piece\",\"columns\":{{\"key\":{n},\"mark\":\"K-{n}\",\"wt\":0.5,\"glaze\":\"{}\",\"sketch\":{{\"bytes\":\"\"}}}}}}\n", n % 5))
            .collect();
        std::fs::write(folder.path().join(format!("version-{version}.jsonl")), rows).unwrap();
    }
    std::fs::write(folder.path().join("version-3.jsonl"), "").unwrap();
    let samples = |schema| testing::Upgrades::of(schema).samples(folder.path(), |_| Ok(()));
    samples(&newest).look(look).check();
    assert_eq!(seen, [(1, 24, 24), (2, 24, 24), (3, 24, 24)]);
    testing::every_version_upgrades(&schema(2));

    let broken = records(3).history(common::versions::history(3)).code("split_glazes", |_| Ok(()));
    let upgraded = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        let look = |_: u32, drawer: &Drawer| assert!(drawer.count::<v3::Glaze>().unwrap() > 3);
        samples(&broken).look(look).check();
    }));
    assert!(upgraded.is_err(), "what the code should have done is seen by the caller's own look");
}

#[test]
fn a_column_is_filled_from_a_table_that_the_same_version_adds_and_code_fills() {
    mod old {
        #[derive(velvet_drawer::Record)]
        pub(crate) struct Piece {
            pub(crate) mark: String,
            pub(crate) kiln: String,
        }
    }
    #[derive(Record)]
    struct Piece {
        mark: String,
        #[record(fill = "(SELECT kiln.key FROM kiln WHERE name = piece.kiln)")]
        fired_in: Key<Kiln>,
        kiln: String,
    }
    #[derive(Record)]
    struct Kiln {
        name: String,
    }
    let before = Structure { tables: vec![old::Piece::table().unwrap()] };
    let after = Structure { tables: vec![Piece::table().unwrap(), Kiln::table().unwrap()] };
    let mut history = History::start("kilnbook", &before);
    history.versions[0].released = true;
    let first = versions::leaked(&history);
    let drafted = draft(&before, &after, &[("piece", Piece::HINTS)], &[], &[]);
    assert_eq!(drafted.questions, [""; 0]);
    let history = history.recorded(&after, drafted, &["name_kilns".to_owned()]);
    let (_folder, path) = folder();
    let app = || Schema::new("kilnbook").record::<old::Piece>().history(first);
    let drawer = Drawer::open(&path, app()).unwrap();
    let kilns = ["Anna", "Wood", "Anna"];
    drawer.insert_all(kilns.map(|kiln| old::Piece { mark: "K".into(), kiln: kiln.into() })).unwrap();
    drawer.close().unwrap();
    let newer = Schema::new("kilnbook").record::<Piece>().record::<Kiln>().history(versions::leaked(&history));
    let name_kilns = |upgrade: &velvet_drawer::Upgrade<'_>| {
        upgrade.run("INSERT INTO kiln (name) SELECT DISTINCT kiln FROM piece", &[]).map(drop)
    };
    let drawer = Drawer::open(&path, newer.code("name_kilns", name_kilns)).unwrap();
    let pieces = drawer.records::<Piece>().collect().unwrap();
    let names = pieces.iter().map(|p| drawer.get(p.fired_in).unwrap().unwrap().name.clone());
    assert_eq!(names.collect::<Vec<_>>(), kilns);
}
