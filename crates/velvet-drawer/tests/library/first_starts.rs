//! Where a file comes from: shipped with the app, taken over, filled by the app, or afresh beside one that was set aside.

use crate::common;
use common::versions::{schema as version, v1, v3};
use common::{Glaze, folder, glaze, memory, other_program, piece, schema};
use std::collections::BTreeMap;
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

/// Files of other programs, as people have them: what is declared of each, and what becomes of it.
mod plain_files {
    use jiff::Timestamp;
    use velvet_drawer::{Choice, Key, Record};

    #[derive(Record, Debug)]
    pub(super) struct Note {
        pub(super) title: String,
        pub(super) body: Option<String>,
    }

    #[derive(Record, Debug)]
    pub(super) struct Setting {
        #[record(own_key)]
        pub(super) slug: String,
        pub(super) value: i64,
    }

    #[derive(Choice, Debug, PartialEq, Clone, Copy)]
    pub(super) enum Stage {
        Thrown,
        Fired,
    }

    #[derive(Record, Debug)]
    pub(super) struct Event {
        pub(super) at: Timestamp,
        pub(super) day: Option<jiff::civil::Date>,
        pub(super) stage: Stage,
    }

    #[derive(Record, Debug)]
    pub(super) struct Tag {
        pub(super) note: Key<Note>,
        #[record(unique, ignore_case)]
        pub(super) word: String,
        pub(super) length: i64,
    }
}

#[test]
fn plain_files_of_every_kind_move_over_or_are_refused_with_what_to_do() {
    use plain_files::{Event, Note, Setting, Stage, Tag};
    let note = "CREATE TABLE note (id INTEGER PRIMARY KEY, title TEXT NOT NULL, body TEXT);
        INSERT INTO note VALUES (3, 'Shino', 'thick'), (7, 'Celadon', NULL);";
    let adopt = |sql: &str, schema: Schema| {
        let (folder, path) = folder();
        other_program(&path).execute_batch(sql).unwrap();
        let before = fs::read(&path).unwrap();
        let opened = Drawer::options().adopt().open(&path, schema);
        if opened.is_err() {
            assert!(fs::read(&path).unwrap() == before, "what is refused is left as it was");
            assert_eq!(Drawer::kept_copies(&path).unwrap(), []);
        }
        (folder, path, opened)
    };
    let notes = || Schema::new("notes").record::<Note>();

    // Triggers, views, a search table and another table that name the old key.
    let (_folder, path, drawer) = adopt(
        &format!(
            "{note} CREATE TABLE changed (note INTEGER REFERENCES note(id), what TEXT); INSERT INTO changed VALUES (7, 'old');
             CREATE TABLE implied (note INTEGER REFERENCES note);
             CREATE TRIGGER note_new AFTER INSERT ON note WHEN new.id > 0 BEGIN INSERT INTO changed VALUES (new.id, 'new'); END;
             CREATE TRIGGER note_gone BEFORE DELETE ON note BEGIN DELETE FROM changed WHERE note = old.id; END;
             CREATE VIEW titles AS SELECT n.id, n.title, (SELECT count(*) FROM changed c WHERE c.note = n.id) AS changes FROM note n;
             CREATE VIEW \"of views\" AS SELECT * FROM titles WHERE changes > 0;
             CREATE TRIGGER on_view INSTEAD OF INSERT ON titles BEGIN INSERT INTO note (title) VALUES (new.title); END;
             CREATE VIRTUAL TABLE note_words USING fts5(title, body, content='note', content_rowid = \"id\");
             INSERT INTO note_words(note_words) VALUES ('rebuild');
             CREATE TRIGGER note_words_new AFTER INSERT ON note BEGIN INSERT INTO note_words(rowid, title, body) VALUES (new.id, new.title, new.body); END;
             CREATE TRIGGER note_words_gone AFTER DELETE ON note BEGIN
                 INSERT INTO note_words(note_words, rowid, title, body) VALUES ('delete', old.id, old.title, old.body); END;
             CREATE VIEW broken AS SELECT * FROM gone"
        ),
        notes(),
    );
    let drawer = drawer.unwrap();
    assert_eq!(drawer.opened().adopted.as_ref().unwrap().dropped, [""; 0]);
    let key = drawer.insert(Note { title: "Tenmoku".into(), body: Some("thin".into()) }).unwrap().key();
    drawer.remove(drawer.records::<Note>().filter(|n| n.title.is("Celadon")).first().unwrap().unwrap().key()).unwrap();
    drawer.close().unwrap();
    let other = other_program(&path);
    let one = |text: &str| other.query_row(text, [], |row| row.get::<_, String>(0)).unwrap();
    assert_eq!(one("SELECT group_concat(note || what) FROM changed"), format!("{}new", key.number()));
    assert_eq!(one("SELECT group_concat(title) FROM \"of views\""), "Tenmoku");
    assert_eq!(one("SELECT group_concat(title) FROM note_words WHERE note_words MATCH 'thi*'"), "Shino,Tenmoku");
    other.execute_batch("INSERT INTO titles (title) VALUES ('by the view'); INSERT INTO note_words(note_words) VALUES ('integrity-check')").unwrap();
    assert_eq!(one("SELECT count(*) || '' FROM pragma_foreign_key_check"), "0");
    drop(other);

    // A table without row numbers, with a text and with a number as its key.
    let (_folder, path, drawer) = adopt(
        "CREATE TABLE setting (slug TEXT PRIMARY KEY, value INT) WITHOUT ROWID; INSERT INTO setting VALUES ('b', 2), ('a', 1);
         CREATE TABLE note (id INTEGER PRIMARY KEY, title TEXT, body TEXT) WITHOUT ROWID; INSERT INTO note VALUES (9, 'Shino', NULL);
         CREATE TABLE other (n REFERENCES note(id)); INSERT INTO other VALUES (9)",
        notes().record::<Setting>(),
    );
    let drawer = drawer.unwrap();
    assert_eq!(drawer.get_by_own_key::<Setting>("b").unwrap().unwrap().value, 2);
    assert_eq!(drawer.records::<Note>().first().unwrap().unwrap().key().number(), 9);
    drawer.close().unwrap();
    assert!(velvet_drawer::inspect::File::open(&path).unwrap().check().unwrap().is_sound());

    // Rules that the types do not declare are named.
    let (_folder, _, drawer) = adopt(
        "CREATE TABLE note (id INTEGER PRIMARY KEY, title TEXT COLLATE NOCASE UNIQUE CHECK (title <> ''), body TEXT DEFAULT 'none');
         CREATE INDEX by_body ON note (body); CREATE INDEX some ON note (title) WHERE body IS NOT NULL; CREATE INDEX computed ON note (lower(body));
         CREATE TABLE tag (id INTEGER PRIMARY KEY, note INT REFERENCES note(id), word TEXT COLLATE NOCASE UNIQUE, length AS (length(word)) STORED);
         INSERT INTO note VALUES (1, 'Shino', ''); INSERT INTO tag (note, word) VALUES (1, 'clay')",
        notes().record::<Tag>(),
    );
    let drawer = drawer.unwrap();
    let dropped = drawer.opened().adopted.as_ref().unwrap().dropped.join("; ");
    for words in [
        "the index `by_body` on `note` (body)",
        "the index `some` on `note` (title)",
        "the index `computed` on `note` (an expression)",
        "UNIQUE of `note` (title)",
        "COLLATE NOCASE of `note.title`",
        "a CHECK at `note.title`",
        "DEFAULT 'none' of `note.body`",
        "the expression that computes `tag.length`: its values stay as they are",
    ] {
        assert!(dropped.contains(words), "{words} is missing in {dropped}");
    }
    assert!(!dropped.contains("`tag.word`") && !dropped.contains("`tag` (word)"), "{dropped}");
    assert_eq!(drawer.records::<Tag>().first().unwrap().unwrap().length, 4);

    // Values of other forms: each column has advice that was tried, and following it moves the file over.
    for (at, day, stage, read) in [
        ("1704090600", "'2024-01-01'", "1", "2024-01-01T06:30:00Z"),
        ("1704090600250", "1704067200", "'FIRED'", "2024-01-01T06:30:00.25Z"),
        ("'2024-01-01 06:30:00'", "NULL", "0", "2024-01-01T06:30:00Z"),
        ("2460310.7708333335", "'2024-01-01 06:30'", "' fired '", "2024-01-01T06:30:00Z"),
    ] {
        let sql = format!(
            "CREATE TABLE event (id INTEGER PRIMARY KEY, at, day, stage); INSERT INTO event VALUES (1, {at}, {day}, {stage})"
        );
        let (_folder, path, refused) = adopt(&sql, Schema::new("events").record::<Event>());
        let said = refused.map(drop).unwrap_err().to_string();
        let mut options = Drawer::options().adopt();
        for advice in said.replace("\\\"", "\u{1}").split("Options::adopt_converting(").skip(1) {
            let mut parts = advice.splitn(3, ", ").map(|part| part.split("\")").next().unwrap().trim_matches('"'));
            let [table, column, expression] = [(); 3].map(|()| parts.next().unwrap().replace('\u{1}', "\""));
            options = options.adopt_converting(table, column, expression);
        }
        let drawer =
            options.open(&path, Schema::new("events").record::<Event>()).unwrap_or_else(|e| panic!("{said}\n{e}"));
        let event = drawer.records::<Event>().first().unwrap().unwrap();
        assert_eq!(event.at, read.parse().unwrap(), "{said}");
        let expected = if stage == "0" { Stage::Thrown } else { Stage::Fired };
        assert_eq!((event.stage, event.day.is_some()), (expected, day != "NULL"), "{said}");
    }

    // What cannot be: each says what to do.
    for (sql, schema, words) in [
        (
            format!(
                "{note} ALTER TABLE note RENAME TO all_notes; CREATE VIEW note AS SELECT title, body FROM all_notes"
            ),
            notes(),
            ["`note` is a view, which has no rows of its own", "Write its rows to a table of that name"],
        ),
        (
            "CREATE VIRTUAL TABLE note USING fts5(title, body)".to_owned(),
            notes(),
            ["`note` is a virtual table", "Options::fill_new"],
        ),
        (
            format!(
                "{note} CREATE TABLE b (n); CREATE TRIGGER wrong AFTER INSERT ON note BEGIN INSERT INTO b SELECT x FROM nowhere; END"
            ),
            notes(),
            [
                "the trigger `wrong` on `note` cannot run, so nothing could be written: no such table: main.nowhere",
                "Drop it",
            ],
        ),
        (
            format!(
                "{note} CREATE VIEW a AS SELECT id, title FROM note; CREATE VIEW b AS SELECT * FROM a WHERE id > 1"
            ),
            notes(),
            [
                "cannot give it that name everywhere: error in view b",
                "Change or drop the view or trigger that it names",
            ],
        ),
    ] {
        let (_folder, _, refused) = adopt(&sql, schema);
        let said = refused.map(drop).unwrap_err().to_string();
        assert!(words.iter().all(|word| said.contains(word)), "{said}");
    }
}

macro_rules! plain_files {
    ($($(#[doc = $doc:literal])* $name:ident = $sql:literal;)*) => {
        /// Types that were drafted of plain files, as they are written.
        mod drafted {
            pub(super) mod drawer {
                #![allow(dead_code, unreachable_pub)]
                include!("drafted/drawer.rs");
            }
            $($(#[doc = $doc])* pub(super) mod $name {
                #![allow(dead_code, unreachable_pub)]
                include!(concat!("drafted/", stringify!($name), ".rs"));
            })*
        }

        /// The statements that make plain files, and what is drafted of each.
        const PLAIN: &[(&str, &str, &str, fn() -> Schema)] = &[
            $((stringify!($name), $sql, include_str!(concat!("drafted/", stringify!($name), ".rs")), drafted::$name::schema),)*
        ];
    };
}

plain_files! {
    /// Keys of other names, links, what is unique, choices, times in seconds and as the engine writes them.
    keys = "CREATE TABLE potter (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, is_guest BOOLEAN NOT NULL DEFAULT 0, joined DATE);
     CREATE TABLE piece (_id INTEGER PRIMARY KEY AUTOINCREMENT, mark TEXT NOT NULL, stage TEXT NOT NULL DEFAULT 'thrown',
         potter_id INTEGER NOT NULL REFERENCES potter ON DELETE CASCADE, weight REAL, thrown_at INTEGER NOT NULL,
         created TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, photo BLOB, type VARCHAR(10), UNIQUE (mark, potter_id));
     CREATE INDEX by_stage ON piece(stage); CREATE INDEX two ON piece(stage, weight);
     INSERT INTO potter VALUES (3, 'Ann', 0, '2024-02-03'), (8, 'Bo', 1, NULL);
     WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 24) INSERT INTO piece (mark, stage, potter_id, weight, thrown_at)
         SELECT 'K-' || i, iif(i % 2, 'thrown', 'Glaze fired'), iif(i % 3, 3, 8), i / 3.0, 1700000000 + i FROM n";
    /// Without row numbers, and with keys of several columns.
    without_row_numbers = "CREATE TABLE setting (slug TEXT PRIMARY KEY, value) WITHOUT ROWID; INSERT INTO setting VALUES ('a', 1), ('b', 'x');
     CREATE TABLE tag (piece INT, word TEXT REFERENCES setting(slug), PRIMARY KEY (piece, word)); INSERT INTO tag VALUES (1, 'a')";
    /// Names that Rust or the engine has itself, and others that cannot be declared.
    names = "CREATE TABLE \"Select\" (\"type\" INT, \"self\" TEXT, \"2nd\" NUMERIC, \"Größe\" REAL, camelCase TEXT, camel_case TEXT);
     INSERT INTO \"Select\" VALUES (1, 's', 2.5, 3, 'a', 'b'); CREATE TABLE option (\"match\" TEXT PRIMARY KEY); INSERT INTO option VALUES ('o');
     CREATE TABLE \"odd name\" (a); INSERT INTO \"odd name\" VALUES (1); CREATE TABLE keyed (key TEXT, a); CREATE TABLE alone (id INTEGER PRIMARY KEY)";
    /// Times in milliseconds and microseconds, days, moments with and without a zone, in rows that lack some.
    times = "CREATE TABLE event (id INTEGER PRIMARY KEY, created_at INT, changed_on BIGINT, day TEXT, local TEXT, moment TEXT);
     INSERT INTO event VALUES (1, 1704090600250, 1704090600250000, '2024-01-01', '2024-01-01 06:30:00', '2024-01-01T06:30:00.25Z'),
         (2, 1704090600999, NULL, NULL, '2024-01-01T06:30', '2024-01-01T06:30:00+02:00')";
    /// Triggers, views, a search table and computed columns.
    surroundings = "CREATE TABLE note (id INTEGER PRIMARY KEY, title TEXT NOT NULL, body TEXT, length INT AS (length(title)) STORED);
     CREATE VIEW titles AS SELECT id, title FROM note; CREATE VIRTUAL TABLE words USING fts5(title, content='note', content_rowid='id');
     CREATE TRIGGER told AFTER INSERT ON note BEGIN INSERT INTO words (rowid, title) VALUES (new.id, new.title); END;
     INSERT INTO note (title) VALUES ('Shino'), ('Celadon')";
    /// A self link, two tables that link to each other, and one to a table that does not exist.
    circles = "CREATE TABLE a (id INTEGER PRIMARY KEY, up INT REFERENCES a ON DELETE SET NULL, b INT REFERENCES b(id), gone INT REFERENCES gone(x));
     CREATE TABLE b (id INTEGER PRIMARY KEY, a INT REFERENCES a(id) ON DELETE CASCADE);
     INSERT INTO a VALUES (1, 1, 5, NULL); INSERT INTO b VALUES (5, 1)";
    /// Nothing in it, types of all names, defaults of all forms.
    empty = "CREATE TABLE empty (a INT DEFAULT 3, b VARCHAR(3) NOT NULL DEFAULT 'it''s', c DOUBLE NOT NULL DEFAULT -1.5, d BOOL NOT NULL DEFAULT TRUE, e, f DATETIME,
         g DECIMAL(3, 1), h INT NOT NULL DEFAULT (1 + 1), i TEXT NOT NULL DEFAULT \"x\")";
    /// Numbers in text columns and the other way round.
    mixed = "CREATE TABLE mixed (a INTEGER, b TEXT, c BLOB); INSERT INTO mixed VALUES (1, 'a', x'00'), ('one', NULL, 'text'), (2.5, 'b', 4)";
    /// Texts that look like choices, and do not.
    choices = "CREATE TABLE choice (c TEXT, d TEXT, e TEXT); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40)
         INSERT INTO choice SELECT iif(i % 2, 'A b', 'a-b'), iif(i % 2, 'same', 'same'), iif(i % 2, 'ä', 'Self') FROM n";
    /// STRICT tables, as this library makes them.
    strict = "CREATE TABLE strict (id INTEGER PRIMARY KEY, a TEXT NOT NULL, b ANY, c INT, d BLOB NOT NULL) STRICT; INSERT INTO strict VALUES (4, 'a', 1, 2, x'01')";
}

/// The text in the first quotes, and what follows.
fn unquoted(text: &str) -> (String, &str) {
    let from = text.find('"').unwrap() + 1;
    let (mut out, mut signs) = (String::new(), text[from..].char_indices());
    loop {
        match signs.next().unwrap() {
            (at, '"') => return (out, &text[from + at + 1..]),
            (_, '\\') => out.push(signs.next().unwrap().1),
            (_, sign) => out.push(sign),
        }
    }
}

/// Sees that types are as they were looked at last; or writes them.
fn is_as_drafted(name: &str, types: &str, drafted: &str) -> bool {
    let writes = std::env::var_os("VELVET_DRAFT_AGAIN").is_some();
    if writes {
        fs::write(format!("tests/library/drafted/{name}.rs"), types).unwrap();
    } else {
        assert_eq!(types, drafted, "run this test with VELVET_DRAFT_AGAIN=1, and look at what changes");
    }
    !writes
}

#[test]
fn types_drafted_from_a_drawer_have_its_structure() {
    let (folder, path) = folder();
    Drawer::open(&path, common::everything::schema()).unwrap().close().unwrap();
    let file = |path: &Path| velvet_drawer::inspect::File::open(path).unwrap();
    if is_as_drafted("drawer", &file(&path).types_in_rust().unwrap(), include_str!("drafted/drawer.rs")) {
        let again = folder.path().join("again.drawer");
        Drawer::open(&again, drafted::drawer::schema()).unwrap().close().unwrap();
        let records = |path: &Path| {
            let mut tables = file(path).structure().unwrap();
            tables.retain(|table| matches!(table.name.as_str(), "select" | "owner"));
            format!("{tables:#?}")
        };
        assert_eq!(records(&again), records(&path));
    }
}

#[test]
fn types_drafted_from_plain_files_take_them_over() {
    for (name, sql, drafted, schema) in PLAIN {
        let (_folder, path) = folder();
        other_program(&path).execute_batch(&format!("PRAGMA foreign_keys = OFF; {sql}")).unwrap();
        let file = || velvet_drawer::inspect::File::open(&path).unwrap();
        let types = file().types_in_rust().unwrap().replace("Schema::new(\"kiln\")", &format!("Schema::new({name:?})"));
        if !is_as_drafted(name, &types, drafted) {
            continue;
        }
        let rows =
            || file().overview().unwrap().tables.into_iter().map(|t| (t.name, t.rows)).collect::<BTreeMap<_, _>>();
        let before = rows();
        let drawer = Drawer::options().adopt().open(&path, schema()).unwrap_or_else(|error| {
            let (error, mut options) = (error.to_string(), Drawer::options().adopt());
            for call in error.split("Options::adopt_converting(").skip(1) {
                let (table, rest) = unquoted(call);
                let (column, rest) = unquoted(rest);
                options = options.adopt_converting(table, column, unquoted(rest).0);
            }
            options.open(&path, schema()).unwrap_or_else(|again| panic!("{name}: {error}\n{again}"))
        });
        drawer.close().unwrap();
        assert_eq!(rows(), before, "{name}");
        assert!(file().check().unwrap().is_sound(), "{name}");
    }
}
