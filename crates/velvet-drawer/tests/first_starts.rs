//! Where a file comes from: shipped with the app, taken over, filled by the app, or afresh beside one that was set aside.

mod common;

use common::versions::{schema as version, v1, v3};
use common::{Glaze, folder, glaze, memory, other_program, piece, schema};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, LazyLock};
use velvet_drawer::{Drawer, Error, Schema};

/// What stands in the folder of a file.
fn beside(path: &Path) -> Vec<String> {
    let names =
        fs::read_dir(path.parent().unwrap()).unwrap().map(|e| e.unwrap().file_name().to_string_lossy().into_owned());
    let mut names: Vec<String> = names.collect();
    names.sort();
    names
}

#[test]
fn a_shipped_file_is_copied_on_the_first_start_only_and_then_upgraded() {
    let (_folder, path) = folder();
    let (_package, package) = folder();
    let master = Drawer::open(&package, version(1)).unwrap();
    let bowl = v1::Piece { mark: "K-1".into(), wt: Some(0.5), glaze: "Shino".into(), sketch: vec![] };
    master.insert(bowl.clone()).unwrap();
    let options = || Drawer::options().shipped_file(&package);
    // The master is open, and its newest rows are still in the log beside it.
    let drawer = options().open(&path, version(3)).unwrap();
    assert!(drawer.opened().shipped && drawer.opened().upgraded.is_some());
    assert_eq!(drawer.get_by_own_key::<v3::Piece>("K-1").unwrap().unwrap().grams, Some(500));
    drawer.remove_all::<v3::Piece>().unwrap();
    drawer.close().unwrap();
    let again = options().open(&path, version(3)).unwrap();
    assert!(!again.opened().shipped);
    assert_eq!(again.count::<v3::Piece>().unwrap(), 0);
    assert_eq!(beside(&package), ["kiln.drawer", "kiln.drawer-shm", "kiln.drawer-wal"], "the package is only read");
    master.close().unwrap();

    let error =
        Drawer::options().shipped_file("/nowhere/kiln.drawer").open(path.with_file_name("b"), version(3)).unwrap_err();
    assert!(
        error.is_file_missing()
            && error.to_string().contains("/nowhere/kiln.drawer does not exist. Nothing was created"),
        "{error}"
    );
    assert!(!path.with_file_name("b").exists());
}

#[test]
fn a_shipped_file_comes_from_bytes_too_whatever_was_interrupted_before() {
    static BYTES: LazyLock<&'static [u8]> = LazyLock::new(|| {
        let drawer = memory();
        drawer.insert(glaze("Celadon")).unwrap();
        Vec::leak(drawer.to_bytes().unwrap())
    });
    let (_folder, path) = folder();
    fs::write(path.with_file_name("kiln.velvet-unfinished-99999999.drawer"), "half a copy").unwrap();
    let threads: Vec<_> = (0..4)
        .map(|_| {
            let path = path.clone();
            std::thread::spawn(move || {
                Drawer::options().shipped_bytes(&BYTES).open(path, schema()).unwrap().count::<Glaze>().unwrap()
            })
        })
        .collect();
    for thread in threads {
        assert_eq!(thread.join().unwrap(), 1);
    }
    assert_eq!(beside(&path), ["kiln.drawer"]);
}

#[test]
fn a_new_file_is_filled_once_and_again_only_where_that_failed() {
    let (_folder, path) = folder();
    let runs = Arc::new(AtomicU32::new(0));
    let open = |fails: bool| {
        let runs = Arc::clone(&runs);
        let fill = move |tx: &velvet_drawer::Tx<'_>| {
            runs.fetch_add(1, Ordering::Relaxed);
            tx.insert(glaze("Celadon"))?;
            if fails { Err(Error::own("the network is down")) } else { Ok(()) }
        };
        Drawer::options().fill_new(fill).open(&path, schema())
    };
    assert!(open(true).unwrap_err().is_own());
    let drawer = open(false).unwrap();
    assert_eq!(drawer.count::<Glaze>().unwrap(), 1);
    drawer.close().unwrap();
    assert_eq!(open(false).unwrap().count::<Glaze>().unwrap(), 1);
    assert_eq!(runs.load(Ordering::Relaxed), 2);
    let in_memory = Drawer::options().fill_new(|tx| tx.insert(glaze("Shino")).map(drop)).in_memory(schema()).unwrap();
    assert_eq!(in_memory.count::<Glaze>().unwrap(), 1);
}

/// A file as an app wrote it by itself, before it used this library.
fn by_hand(path: &Path, more: &str) {
    let file = other_program(path);
    file.execute_batch(
        "CREATE TABLE Piece (id INTEGER PRIMARY KEY, mark VARCHAR(20), wt REAL, glaze TEXT, sketch BLOB);
         CREATE TABLE photo (id INTEGER PRIMARY KEY, piece INT REFERENCES piece(id), side TEXT);
         CREATE TABLE own (x); INSERT INTO own VALUES (1);
         CREATE TABLE told (mark); CREATE TRIGGER tell AFTER INSERT ON piece BEGIN INSERT INTO told VALUES (new.mark); END;
         INSERT INTO piece VALUES (7, 'K-7', 0.5, 'Shino', x'01'), (9, 'K-9', NULL, '', x'');
         INSERT INTO photo VALUES (1, 9, 'front'); PRAGMA user_version = 41",
    )
    .unwrap();
    file.execute_batch(more).unwrap();
}

#[test]
fn a_file_from_before_is_taken_over_with_its_rows_and_then_upgraded() {
    let (_folder, path) = folder();
    by_hand(&path, "");
    assert!(Drawer::open(&path, version(3)).unwrap_err().is_other_app(), "only when asked");
    let drawer = Drawer::options().adopt().open(&path, version(1)).unwrap();
    assert_eq!(drawer.opened().adopted.as_ref().unwrap().version, 1);
    let pieces = drawer.records::<v1::Piece>().collect().unwrap();
    let seen: Vec<_> = pieces.iter().map(|p| (p.key().number(), p.mark.as_str(), p.wt)).collect();
    assert_eq!(seen, [(7, "K-7", Some(0.5)), (9, "K-9", None)]);
    assert_eq!(drawer.records::<v1::Photo>().first().unwrap().unwrap().piece, pieces[1].key());
    drawer.insert(v1::Piece { mark: "K-10".into(), wt: None, glaze: String::new(), sketch: vec![] }).unwrap();
    let other = other_program(&path);
    let told: String = other.query_row("SELECT group_concat(mark, ' ') FROM told", [], |r| r.get(0)).unwrap();
    assert_eq!(told, "K-7 K-9 K-10", "triggers of its own keep firing");
    assert_eq!(other.query_row("SELECT count(*) FROM own", [], |r| r.get::<_, i64>(0)).unwrap(), 1);
    drop(other);
    drawer.close().unwrap();
    let upgraded = Drawer::options().adopt().open(&path, version(3)).unwrap();
    assert!(upgraded.opened().adopted.is_none());
    assert_eq!(upgraded.count::<v3::Piece>().unwrap(), 3);

    let (_folder, path) = folder();
    by_hand(&path, "");
    let both = Drawer::options().adopt().open(&path, version(3)).unwrap();
    assert_eq!(
        (both.opened().adopted.as_ref().unwrap().version, both.opened().upgraded.as_ref().unwrap().from),
        (1, 1)
    );
    assert_eq!(both.get_by_own_key::<v3::Piece>("K-7").unwrap().unwrap().grams, Some(500));
    assert!(both.opened().adopted.as_ref().unwrap().backup.as_ref().unwrap().exists());
}

#[test]
fn a_file_that_cannot_be_taken_over_says_why_and_stays_as_it_was() {
    let cases: [(&str, &str); 4] = [
        (
            "CREATE TABLE velvet_about (x); CREATE INDEX velvet_sessions ON velvet_about (x)",
            "names that begin with `velvet_` are the library's own, and it has the table `velvet_about`, index `velvet_sessions`",
        ),
        ("ALTER TABLE piece ADD COLUMN color TEXT", "the nearest differs: `piece.color` is not declared"),
        (
            "UPDATE piece SET wt = 'heavy'",
            "2 of 2 values of `piece.wt` cannot be read as its type: in row 7, \"heavy\" is text, not a decimal number",
        ),
        ("PRAGMA foreign_keys = OFF; UPDATE photo SET piece = 77", "links would lead nowhere: photo 1 to a piece"),
    ];
    for (change, says) in cases {
        let (_folder, path) = folder();
        by_hand(&path, change);
        let before = fs::read(&path).unwrap();
        let error = Drawer::options().adopt().open(&path, version(1)).unwrap_err();
        assert!(error.to_string().contains(says), "{error}");
        assert!(error.to_string().contains("The file was left as it was"), "{error}");
        assert!(before == fs::read(&path).unwrap());
        assert_eq!(Drawer::kept_copies(&path).unwrap(), [], "what failed leaves no copy");
    }
}

#[test]
fn values_of_another_form_are_told_with_counts_and_examples_and_converted_when_asked() {
    use common::everything::Bearing;
    #[derive(velvet_drawer::Record, Debug, PartialEq)]
    struct Firing {
        lit_at: jiff::Timestamp,
        day: Option<jiff::civil::Date>,
        even: bool,
        bearing: Bearing,
        cone: Option<i8>,
    }
    let (_folder, path) = folder();
    other_program(&path)
        .execute_batch(
            "CREATE TABLE firing (id INTEGER PRIMARY KEY, lit_at TEXT, day TEXT, even, bearing INT, cone);
             INSERT INTO firing (lit_at, day, even, bearing, cone) VALUES
                 ('2024-01-01 06:30:00', '2024-01-01', 1, 90, '6'), ('2024-01-02 06:30:00', NULL, 'true', 400, 7.0);",
        )
        .unwrap();
    let schema = || velvet_drawer::Schema::new("firings").record::<Firing>();
    let error = Drawer::options().adopt().open(&path, schema()).unwrap_err();
    assert!(error.is_misfit(), "{error:?}");
    let said = error.to_string();
    for words in [
        "2 of 2 values of `firing.lit_at` cannot be read as its type: in row 1, \"2024-01-01 06:30:00\"",
        "1 of 2 values of `firing.even` cannot be read as its type: in row 2, \"true\"",
        "1 of 2 values of `firing.bearing` cannot be read as its type: in row 2, 400 is no bearing (0 to 359)",
        "The file was left as it was",
        "Options::adopt_converting(\"firing\", \"lit_at\", \"strftime(",
    ] {
        assert!(said.contains(words), "{words} is missing in {said}");
    }
    let time = "strftime('%Y-%m-%dT%H:%M:%S', \"lit_at\") || '.000000000Z'";
    let converting = || {
        let options = Drawer::options().adopt_converting("firing", "lit_at", time);
        options.adopt_converting("firing", "even", "even IN (1, 'true')").adopt_converting(
            "firing",
            "bearing",
            "bearing % 360",
        )
    };
    let error = converting().adopt_converting("firing", "evn", "1").open(&path, schema()).unwrap_err();
    assert!(error.is_schema() && error.to_string().contains("`firing.evn`"), "{error}");
    let drawer = converting().open(&path, schema()).unwrap();
    let firings = drawer.records::<Firing>().sort_by(|f| f.lit_at.descending()).collect().unwrap();
    assert_eq!(firings[0].lit_at, "2024-01-02T06:30:00Z".parse().unwrap());
    assert_eq!(
        (firings[0].even, firings[0].bearing, firings[0].cone, firings[1].cone),
        (true, Bearing(40), Some(7), Some(6))
    );
    drawer.close().unwrap();
    // And the way back.
    let copies = Drawer::kept_copies(&path).unwrap();
    assert_eq!(copies[0].reason, velvet_drawer::KeptFor::Adoption);
    Drawer::restore(&path, &copies[0].path).unwrap();
    let text: String =
        other_program(&path).query_row("SELECT even FROM firing WHERE id = 2", [], |row| row.get(0)).unwrap();
    assert_eq!(text, "true");
}

/// Opens a file that is set aside, and sees that all of it is at the place that is told.
#[track_caller]
fn is_set_aside(path: &Path, options: velvet_drawer::Options) -> PathBuf {
    let before = fs::read(path).unwrap();
    let drawer = options.open(path, schema()).unwrap();
    let place = drawer.opened().set_aside.clone().unwrap();
    assert!(place.file_name().unwrap().to_string_lossy().starts_with("kiln.set-aside-20"), "{place:?}");
    assert_eq!(fs::read(&place).unwrap().len(), before.len());
    drawer.insert(piece("K-1")).unwrap();
    drawer.close().unwrap();
    place
}

#[test]
fn a_file_is_set_aside_whole_when_asked_and_only_for_what_was_asked() {
    let other = || Schema::new("kilnbook").record::<Glaze>();
    let (_folder, path) = folder();
    Drawer::open(&path, other()).unwrap().insert(glaze("Celadon")).unwrap();
    let unreadable = Drawer::options().set_aside_unreadable().set_aside_newer_version();
    assert!(unreadable.open(&path, schema()).unwrap_err().is_other_structure());
    let place = is_set_aside(&path, Drawer::options().set_aside_other_structure());
    assert_eq!(Drawer::open(&place, other()).unwrap().count::<Glaze>().unwrap(), 1, "nothing of it is lost");

    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    other_program(&path).pragma_update(None, "user_version", 7).unwrap();
    let develops = || Drawer::options().set_aside_other_structure().set_aside_unreadable();
    assert!(develops().open(&path, schema()).unwrap_err().is_newer_version(), "a newer app's file is another matter");
    is_set_aside(&path, Drawer::options().set_aside_newer_version());

    let (_folder, path) = folder();
    fs::write(&path, "a text that is long enough to be taken for the header of a file, but is none").unwrap();
    fs::write(path.with_file_name("kiln.drawer-wal"), "its log").unwrap();
    assert!(Drawer::open(&path, schema()).unwrap_err().is_not_a_database());
    let place = is_set_aside(&path, Drawer::options().set_aside_unreadable());
    assert!(fs::read_to_string(format!("{}-wal", place.display())).unwrap().contains("its log"));
}

#[test]
fn a_file_that_another_process_uses_is_not_set_aside() {
    let (_folder, path) = folder();
    Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>()).unwrap().close().unwrap();
    let other = other_program(&path);
    other.query_row("SELECT count(*) FROM glaze", [], |_| Ok(())).unwrap();
    let error = Drawer::options().set_aside_other_structure().open(&path, schema()).unwrap_err();
    assert!(error.is_in_use(), "{error:?}");
    assert!(error.to_string().contains("another process has it open. The file was left where it is"), "{error}");
}
