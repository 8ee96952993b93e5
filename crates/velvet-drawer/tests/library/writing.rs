//! Creating, updating and deleting, and what is said when that cannot be done.

use crate::common;
use common::{Glaze, Photo, Piece, Recipe, Stage, folder, glaze, memory, other_program, piece, schema};
use velvet_drawer::{Choice, Drawer, Error, Key, Record, Schema};

#[test]
fn records_are_inserted_read_changed_and_removed() {
    let drawer = memory();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    assert_eq!(bowl.mark, "K-1");
    assert_eq!(drawer.get(bowl.key()).unwrap().as_ref(), Some(&bowl));
    let heavier = drawer.change(bowl.key(), |p| p.grams = Some(900)).unwrap();
    assert_eq!(drawer.get(bowl.key()).unwrap(), Some(heavier));
    let replaced = drawer.replace(bowl.key(), Piece { grams: None, ..piece("K-2") }).unwrap();
    assert_eq!(drawer.records::<Piece>().collect().unwrap(), [replaced]);
    assert!(drawer.remove(bowl.key()).unwrap());
    assert!(!drawer.remove(bowl.key()).unwrap());
    assert_eq!(drawer.get(bowl.key()).unwrap(), None);
}

#[test]
fn a_key_is_never_given_again() {
    let drawer = memory();
    let first = drawer.insert(glaze("Celadon")).unwrap();
    drawer.remove_all::<Glaze>().unwrap();
    let second = drawer.insert(glaze("Celadon")).unwrap();
    assert!(second.key() > first.key());
}

#[test]
fn get_or_insert_finds_by_the_records_own_key() {
    let drawer = memory();
    let first = drawer.get_or_insert(piece("K-1")).unwrap();
    let again = drawer.get_or_insert(Piece { grams: Some(1), ..piece("K-1") }).unwrap();
    assert_eq!(again, first);
    assert_eq!(drawer.count::<Piece>().unwrap(), 1);
    assert_eq!(drawer.get_by_own_key::<Piece>("K-1").unwrap(), Some(first));
}

#[test]
fn on_a_clash_of_keys_the_old_record_is_kept_replaced_or_merged_into_and_nothing_that_links_to_it_is_lost() {
    let drawer = memory();
    let bowl = drawer.insert(Piece { remarks: "the first".into(), ..piece("K-1") }).unwrap();
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    let news = |grams| Piece { grams: Some(grams), stage: Stage::Glazed, ..piece("K-1") };
    assert_eq!(drawer.get_or_insert(news(1)).unwrap(), bowl);
    let merged = drawer.insert_or_merge(news(2), |p| (p.grams, p.stage)).unwrap();
    assert_eq!((merged.key(), merged.grams, merged.stage), (bowl.key(), Some(2), Stage::Glazed));
    assert_eq!(merged.remarks, "the first", "what was not chosen stays");
    assert_eq!(drawer.get(bowl.key()).unwrap(), Some(merged));
    let replaced = drawer.insert_or_replace(news(3)).unwrap();
    assert_eq!((replaced.key(), replaced.grams, replaced.remarks.as_str()), (bowl.key(), Some(3), ""));
    assert_eq!(drawer.count::<Photo>().unwrap(), 1);
    drawer.insert_or_replace(piece("K-2")).unwrap();
    drawer.write(|tx| tx.insert_or_merge(piece("K-3"), |p| p.grams)).unwrap();
    assert_eq!(drawer.count::<Piece>().unwrap(), 3);
}

#[test]
fn a_clash_of_unique_columns_has_the_same_rules_and_what_is_not_unique_has_none() {
    let drawer = memory();
    let glazes = drawer.insert_all(["Celadon", "Shino"].map(glaze)).unwrap();
    let recipe = |at: usize, text: &str| Recipe { glaze: glazes[at].key(), text: text.into() };
    let first = drawer.insert(recipe(0, "iron")).unwrap();
    assert_eq!(drawer.get_or_insert_by(recipe(1, "iron"), |r| r.text).unwrap(), first);
    let merged = drawer.insert_or_merge_by(recipe(1, "iron"), |r| r.text, |r| r.glaze).unwrap();
    assert_eq!((merged.key(), merged.glaze), (first.key(), glazes[1].key()));
    let replaced = drawer.write(|tx| tx.insert_or_replace_by(recipe(0, "iron"), |r| r.text)).unwrap();
    assert_eq!((replaced.key(), replaced.glaze), (first.key(), glazes[0].key()));
    assert_ne!(drawer.insert_or_replace_by(recipe(0, "ash"), |r| r.text).unwrap().key(), first.key());
    for error in [
        drawer.get_or_insert_by(recipe(0, "ash"), |r| r.glaze).unwrap_err(),
        drawer.insert_or_replace_by(recipe(0, "ash"), |r| (r.text, r.glaze)).unwrap_err(),
    ] {
        assert!(error.is_schema() && error.to_string().contains("several records may have the same there"), "{error}");
    }
    assert_eq!(drawer.count::<Recipe>().unwrap(), 2);
}

#[test]
fn a_clash_names_the_value_and_the_record_that_has_it_and_writes_nothing() {
    let drawer = memory();
    let first = drawer.insert(piece("K-1")).unwrap();
    let error = drawer.insert_all([piece("K-2"), piece("K-3"), piece("K-1")]).unwrap_err();
    assert!(error.is_clash());
    assert_eq!((error.table(), error.column()), (Some("piece"), Some("mark")));
    assert_eq!(
        error.to_string(),
        "cannot insert record 3 of the piece given: mark \"K-1\" is already that of piece 1. Nothing was written. \
         Choose another value, or change that record. File: (in memory)"
    );
    assert_eq!(drawer.records::<Piece>().collect().unwrap(), std::slice::from_ref(&first));

    let photo = Photo { piece: first.key(), side: "front".into() };
    drawer.insert(photo.clone()).unwrap();
    let error = drawer.insert(photo).unwrap_err();
    assert!(
        error.to_string().starts_with("cannot insert a photo: piece 1 with side \"front\" is already that of photo 1"),
        "{error}"
    );
}

#[test]
fn links_are_real_and_follow_their_rule() {
    let drawer = memory();
    let nowhere = Key::<Glaze>::from_number(99);
    let error = drawer.insert(Piece { glaze: Some(nowhere), ..piece("K-1") }).unwrap_err();
    assert!(error.is_broken_link());
    assert!(
        error
            .to_string()
            .starts_with("cannot insert a piece: glaze links to glaze 99, which does not exist. Nothing was written"),
        "{error}"
    );

    let celadon = drawer.insert(glaze("Celadon")).unwrap();
    let bowl = drawer.insert(Piece { glaze: Some(celadon.key()), ..piece("K-1") }).unwrap();
    drawer.insert(Photo { piece: bowl.key(), side: "front".into() }).unwrap();
    let recipe = drawer.insert(Recipe { glaze: celadon.key(), text: "iron".into() }).unwrap();
    let error = drawer.remove(celadon.key()).unwrap_err();
    assert!(error.is_broken_link());
    assert!(
        error
            .to_string()
            .starts_with("cannot remove glaze 1: records link to it: 1 of recipe (by glaze). Nothing was removed"),
        "{error}"
    );
    assert!(drawer.remove_all::<Glaze>().unwrap_err().is_broken_link());

    drawer.remove(recipe.key()).unwrap();
    assert!(drawer.remove(celadon.key()).unwrap());
    assert_eq!(drawer.get(bowl.key()).unwrap().unwrap().glaze, None);
    drawer.remove(bowl.key()).unwrap();
    assert_eq!(drawer.count::<Photo>().unwrap(), 0);
}

#[test]
fn a_record_that_is_gone_cannot_be_changed() {
    let drawer = memory();
    let gone = Key::<Piece>::from_number(7);
    for error in [drawer.change(gone, |_| ()).unwrap_err(), drawer.replace(gone, piece("K-1")).unwrap_err()] {
        assert!(error.is_not_found());
        assert!(error.to_string().contains("piece 7: it does not exist. Nothing was written"), "{error}");
    }
}

#[test]
fn values_without_a_stored_form_are_refused_before_anything_is_written() {
    #[derive(Record, Debug)]
    struct Sample {
        name: String,
        weight: f64,
        count: u64,
    }
    let sample = |weight, count| Sample { name: "s".into(), weight, count };
    let drawer = Drawer::in_memory(Schema::new("lab").record::<Sample>()).unwrap();
    let error = drawer.insert(sample(f64::NAN, 1)).unwrap_err();
    assert!(error.is_misfit());
    assert!(error.to_string().starts_with("cannot insert a sample: in sample.weight, NaN is not a number"), "{error}");
    let kept = drawer.insert(sample(1.0, i64::MAX as u64)).unwrap();
    let error = drawer.change(kept.key(), |s| s.count += 1).unwrap_err();
    assert_eq!((error.is_misfit(), error.column()), (true, Some("count")));
    assert_eq!(drawer.get(kept.key()).unwrap().unwrap().count, i64::MAX as u64);
    assert_eq!(drawer.count::<Sample>().unwrap(), 1);
}

#[test]
fn only_changed_columns_are_written_so_a_fallback_is_not_written_back() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let other = other_program(&path);
    other.execute("UPDATE piece SET stage = 'gilded'", []).unwrap();

    assert_eq!(drawer.get(bowl.key()).unwrap().unwrap().stage, Stage::Unsure);
    drawer.change(bowl.key(), |p| p.grams = Some(700)).unwrap();
    drawer.replace(bowl.key(), Piece { stage: Stage::Unsure, grams: None, ..piece("K-1") }).unwrap();
    let stored = |column: &str| -> Option<String> {
        other.query_row(&format!("SELECT {column} FROM piece"), [], |r| r.get(0)).unwrap()
    };
    assert_eq!(stored("stage"), Some("gilded".to_owned()));
    assert_eq!(stored("grams"), None);
    drawer.change(bowl.key(), |p| p.stage = Stage::Glazed).unwrap();
    assert_eq!(stored("stage"), Some("glazed".to_owned()));
}

#[test]
fn what_is_stored_and_unreadable_names_its_record_and_can_be_overwritten() {
    #[derive(Choice, Clone, Copy, Debug, PartialEq)]
    enum Size {
        Small,
    }
    #[derive(Record, Debug)]
    struct Shelf {
        size: Size,
    }
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, Schema::new("shelves").record::<Shelf>()).unwrap();
    let shelf = drawer.insert(Shelf { size: Size::Small }).unwrap();
    other_program(&path).execute("UPDATE shelf SET size = 'huge'", []).unwrap();
    let error = drawer.get(shelf.key()).unwrap_err();
    assert!(error.is_unreadable());
    let message = error.to_string();
    assert!(
        message.starts_with("cannot read shelf 1: in shelf.size, \"huge\" is none of the declared choices (small)"),
        "{message}"
    );
    assert!(message.ends_with(&format!("File: {}", path.display())), "{message}");
    assert!(drawer.change(shelf.key(), |_| ()).unwrap_err().is_unreadable());
    assert!(drawer.records::<Shelf>().table().unwrap().to_string().contains("huge"));
    drawer.replace(shelf.key(), Shelf { size: Size::Small }).unwrap();
    assert_eq!(drawer.get(shelf.key()).unwrap().unwrap().size, Size::Small);
}

#[test]
fn a_record_that_is_not_in_the_schema_is_named() {
    #[derive(Record, Debug)]
    struct Stranger {
        name: String,
    }
    let error = memory().insert(Stranger { name: "who".into() }).unwrap_err();
    assert!(error.is_schema());
    assert!(
        error.to_string().contains(
            "the table `stranger` is not in the file. Nothing was written. Add it to the schema with `.record"
        ),
        "{error}"
    );
}

#[test]
fn defaults_stand_in_the_file_for_other_programs() {
    #[derive(Record, Debug, PartialEq)]
    struct Kiln {
        name: String,
        #[record(default = "brick")]
        kind: String,
        #[record(default = 3)]
        shelves: u8,
        #[record(default)]
        lit: bool,
        #[record(default = 1.5)]
        wood: Option<f64>,
    }
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, Schema::new("kilns").record::<Kiln>()).unwrap();
    other_program(&path).execute("INSERT INTO kiln (name) VALUES ('old')", []).unwrap();
    let expected = Kiln { name: "old".into(), kind: "brick".into(), shelves: 3, lit: false, wood: Some(1.5) };
    assert_eq!(*drawer.records::<Kiln>().first().unwrap().unwrap(), expected);
}

#[test]
fn outside_files_survive_a_moved_sandbox_and_dangling_ones_are_found() {
    use velvet_drawer::OutsideFile;
    #[derive(Record, Debug)]
    struct Shot {
        #[record(own_key)]
        name: String,
        file: Option<OutsideFile>,
    }
    let schema = || Schema::new("shots").record::<Shot>();
    let (_folder, path) = folder();
    let (before, after) = (path.with_file_name("before"), path.with_file_name("after"));
    std::fs::create_dir_all(before.join("photos")).unwrap();
    let drawer = Drawer::open(before.join("kiln.drawer"), schema()).unwrap();
    std::fs::write(before.join("photos/bowl.jpg"), "a bowl").unwrap();
    let file = drawer.outside_file(before.join("photos/bowl.jpg")).unwrap();
    drawer.insert(Shot { name: "bowl".into(), file: Some(file) }).unwrap();
    let gone = OutsideFile::new("photos/gone.jpg").unwrap();
    let lost = drawer.insert(Shot { name: "gone".into(), file: Some(gone) }).unwrap();
    assert!(drawer.outside_file("/elsewhere/x.jpg").unwrap_err().is_misfit());
    drawer.close().unwrap();
    std::fs::rename(&before, &after).unwrap();

    let drawer = Drawer::open(after.join("kiln.drawer"), schema()).unwrap();
    let bowl = drawer.get_by_own_key::<Shot>("bowl").unwrap().unwrap();
    let path = drawer.path_of(bowl.file.as_ref().unwrap()).unwrap();
    assert_eq!(std::fs::read_to_string(path).unwrap(), "a bowl");
    let dangling = drawer.dangling_files::<Shot>().unwrap();
    assert_eq!(dangling.len(), 1);
    assert_eq!(
        (dangling[0].key, dangling[0].column, dangling[0].file.as_str()),
        (lost.key(), "file", "photos/gone.jpg")
    );
}

#[test]
fn what_a_trigger_of_the_apps_own_says_is_said_and_is_no_broken_link() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let bowl = drawer.insert(piece("K-1")).unwrap();
    let trigger = "BEGIN SELECT raise(abort, 'the kiln is full') WHERE new.mark = 'K-2'; END";
    other_program(&path)
        .execute_batch(&format!(
            "CREATE TRIGGER one BEFORE INSERT ON piece {trigger}; CREATE TRIGGER two BEFORE UPDATE ON piece {trigger};
             CREATE TRIGGER three BEFORE DELETE ON piece BEGIN SELECT raise(abort, 'nothing goes'); END"
        ))
        .unwrap();
    let refused: [(Result<(), Error>, &str); 5] = [
        (
            drawer.insert(piece("K-2")).map(drop),
            "cannot insert a piece: a trigger in the file refused it: the kiln is full. Nothing was written",
        ),
        (drawer.change(bowl.key(), |p| p.mark = "K-2".into()).map(drop), "the kiln is full"),
        (drawer.refresh([piece("K-2")]).run().map(drop), "the kiln is full"),
        (
            drawer.remove(bowl.key()).map(drop),
            "cannot remove piece 1: a trigger in the file refused it: nothing goes. Nothing was removed",
        ),
        (drawer.write(|tx| tx.sql("delete from piece").run()).map(drop), "nothing goes"),
    ];
    for (result, said) in refused {
        let error = result.unwrap_err();
        assert!(error.is_refused_by_trigger() && !error.is_broken_link(), "{error:?}");
        assert!(error.to_string().contains(said), "{error}");
    }
    assert_eq!(drawer.records::<Piece>().only(|p| p.mark).collect().unwrap(), ["K-1"]);
}
