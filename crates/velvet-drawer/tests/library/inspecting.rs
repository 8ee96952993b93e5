//! Looking into files, in every state they can be found in, without leaving a trace.

use crate::common;
use common::{Photo, Piece, folder, glaze, other_program, piece, schema};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;
use velvet_drawer::inspect::{
    Difference, File, Following, FoundRow, FoundTable, Happened, Limits, Page, Value, ValueRef, drawers_in,
};
use velvet_drawer::{Drawer, Error, Trail};

/// Every file in the folder: its name, time and content.
fn trace(folder: &Path) -> Vec<(PathBuf, SystemTime, Vec<u8>)> {
    let mut files: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap().path())
        // The shared memory of a running program is that program's own business.
        .filter(|p| !p.to_string_lossy().ends_with("-shm"))
        .map(|p| (p.clone(), fs::metadata(&p).unwrap().modified().unwrap(), fs::read(&p).unwrap()))
        .collect();
    files.sort();
    files
}

fn marks(file: &File, page: &Page) -> Result<Vec<String>, Error> {
    let table = file.table("piece")?;
    let page = Page { columns: vec!["mark".into()], ..page.clone() };
    let mut marks = Vec::new();
    file.rows(&table, &page, &mut |row| {
        marks.push(match row[0] {
            ValueRef::Text(text) => text.to_owned(),
            other => format!("{other:?}"),
        });
        Ok(())
    })?;
    Ok(marks)
}

/// Looks at everything, and checks that nothing is different afterwards.
#[track_caller]
fn looks_without_a_trace(path: &Path, expected: &[&str], notes: usize) {
    let before = trace(path.parent().unwrap());
    let shared_memory = fs::metadata(format!("{}-shm", path.display())).is_ok();
    {
        let file = File::open(path).unwrap();
        let overview = file.overview().unwrap();
        assert_eq!(overview.notes.len(), notes, "{:?}", overview.notes);
        assert_eq!(overview.app.as_deref(), Some("kilnbook"));
        assert_eq!(marks(&file, &Page::default()).unwrap(), expected);
    }
    assert!(before == trace(path.parent().unwrap()), "something changed");
    assert_eq!(fs::metadata(format!("{}-shm", path.display())).is_ok(), shared_memory);
}

/// A drawer with K-1 in its main file and K-2 only in the log beside it, as a running app has it.
fn running(path: &Path) -> Drawer {
    let drawer = Drawer::options().without_sessions().open(path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    drawer.close().unwrap();
    let drawer = Drawer::options().without_sessions().open(path, schema()).unwrap();
    drawer.insert(piece("K-2")).unwrap();
    drawer
}

fn copy_with(path: &Path, ends: &[&str]) -> (tempfile::TempDir, PathBuf) {
    let (folder, copy) = folder();
    for end in ends {
        fs::copy(format!("{}{end}", path.display()), format!("{}{end}", copy.display())).unwrap();
    }
    (folder, copy)
}

#[test]
fn a_file_at_rest() {
    let (_folder, path) = folder();
    running(&path).close().unwrap();
    // It keeps no sessions now, so nothing tells whether it was in use when it was copied.
    looks_without_a_trace(&path, &["K-1", "K-2"], 1);
}

#[test]
fn a_file_of_a_running_app_and_what_is_pulled_from_it() {
    let (_folder, path) = folder();
    let drawer = running(&path);
    let (_whole, whole) = copy_with(&path, &["", "-wal", "-shm"]);
    let (_without_memory, without_memory) = copy_with(&path, &["", "-wal"]);
    let (_alone, alone) = copy_with(&path, &[""]);
    looks_without_a_trace(&whole, &["K-1", "K-2"], 1);
    looks_without_a_trace(&without_memory, &["K-1", "K-2"], 1);
    looks_without_a_trace(&alone, &["K-1"], 1);
    looks_without_a_trace(&path, &["K-1", "K-2"], 1);
    drawer.insert(piece("K-3")).unwrap();
    looks_without_a_trace(&path, &["K-1", "K-2", "K-3"], 1);
}

#[test]
fn a_log_in_which_nothing_counts_is_none_and_nothing_waits_for_it() {
    let (_folder, path) = folder();
    let _drawer = running(&path);
    for ends in [&["", "-wal", "-shm"][..], &["", "-wal"]] {
        // Killed between the header of the log and its first frame.
        let (_short, short) = copy_with(&path, ends);
        let log = fs::OpenOptions::new().write(true).open(format!("{}-wal", short.display())).unwrap();
        log.set_len(32).unwrap();
        looks_without_a_trace(&short, &["K-1"], 0);
        log.set_modified(SystemTime::now() - std::time::Duration::from_secs(3_600)).unwrap();
        looks_without_a_trace(&short, &["K-1"], 0);
        let (_damaged, damaged) = copy_with(&path, ends);
        let log = format!("{}-wal", damaged.display());
        let mut bytes = fs::read(&log).unwrap();
        bytes[24] ^= 1;
        fs::write(&log, bytes).unwrap();
        looks_without_a_trace(&damaged, &["K-1"], 1);
        for path in [short, damaged] {
            assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Piece>().unwrap(), 1);
        }
    }
}

#[test]
fn a_write_that_was_not_finished_is_shown_as_it_was_before() {
    let (_folder, path) = folder();
    running(&path).close().unwrap();
    let other = other_program(&path);
    // A small cache makes the engine write to the file in the middle of the transaction.
    other
        .execute_batch(
            "PRAGMA journal_mode = DELETE; PRAGMA cache_size = 2; BEGIN; UPDATE piece SET mark = mark || '?'",
        )
        .unwrap();
    for n in 0..500 {
        other
            .execute("INSERT INTO piece (mark, stage, remarks) VALUES (?1, 'thrown', hex(zeroblob(500)))", [n])
            .unwrap();
    }
    let (_copy_folder, copy) = copy_with(&path, &["", "-journal"]);
    drop(other);
    looks_without_a_trace(&copy, &["K-1", "K-2"], 1);
}

#[test]
fn a_file_at_rest_that_is_written_to_while_it_is_read_is_never_half_the_one_and_half_the_other() {
    let (_folder, path) = folder();
    let other = other_program(&path);
    other.execute_batch("CREATE TABLE t (a); WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 500) INSERT INTO t SELECT hex(zeroblob(200)) || i FROM n").unwrap();
    let file = File::open(&path).unwrap();
    let table = file.table("t").unwrap();
    let mut rows = 0;
    let read = file.rows(&table, &Page::default(), &mut |_| {
        rows += 1;
        if rows == 10 {
            other.execute("UPDATE t SET a = 'new'", []).unwrap();
        }
        Ok(())
    });
    let error = read.unwrap_err();
    assert!(
        error.is_locked() && error.to_string().contains("was changed by another program while it was read"),
        "{error:?}"
    );
}

#[test]
fn a_database_of_another_program_is_read_as_it_is() {
    let (_folder, path) = folder();
    let other = other_program(&path);
    other
        .execute_batch(
            "CREATE TABLE \"odd \"\"name\" (a PRIMARY KEY, \"b c\") WITHOUT ROWID;
             INSERT INTO \"odd \"\"name\" VALUES (2, x'00ff'), (1, NULL), ('text', 1.5);
             CREATE VIEW short AS SELECT a FROM \"odd \"\"name\";
             CREATE VIEW broken AS SELECT x FROM nowhere;
             CREATE TABLE empty (x)",
        )
        .unwrap();
    drop(other);
    let file = File::open(&path).unwrap();
    let overview = file.overview().unwrap();
    assert_eq!((overview.app, overview.version), (None, 0));
    let tables: Vec<_> = overview.tables.iter().map(|t| (t.name.as_str(), t.rows, t.columns)).collect();
    let expected = [
        ("odd \"name", Some(3), Some(2)),
        ("short", Some(3), Some(1)),
        ("broken", None, None),
        ("empty", Some(0), Some(1)),
    ];
    assert_eq!(tables, expected);
    assert_eq!(overview.notes, ["`broken` cannot be read: the table `nowhere` is not in the file"]);
    let table = file.table("ODD").unwrap();
    let mut rows = Vec::new();
    file.rows(&table, &Page { sort: vec!["a desc".into()], ..Page::default() }, &mut |row| {
        rows.push(row.iter().map(|v| v.to_value()).collect::<Vec<_>>());
        Ok(())
    })
    .unwrap();
    assert_eq!(rows[0], [Value::Text("text".into()), Value::Real(1.5)]);
    assert_eq!(rows[1], [Value::Integer(2), Value::Bytes(vec![0, 255])]);
    assert_eq!(rows[2], [Value::Integer(1), Value::Missing]);
}

#[test]
fn pages_filter_sort_and_count_and_say_what_does_not_fit() {
    let (_folder, path) = folder();
    running(&path).close().unwrap();
    let file = File::open(&path).unwrap();
    let table = file.table("pie").unwrap();
    let filtered = |filter: &str| Page { filter: Some(filter.into()), ..Page::default() };
    assert_eq!(marks(&file, &filtered("mark > 'K-1' -- newest")).unwrap(), ["K-2"]);
    assert_eq!(file.count(&table, &filtered("grams = 640")).unwrap(), 2);
    let page = Page { sort: vec!["MARK DESC".into()], limit: Some(1), offset: 1, ..Page::default() };
    assert_eq!(marks(&file, &page).unwrap(), ["K-1"]);

    let says = |error: Error, words: &[&str]| {
        assert!(error.is_bad_query(), "{error:?}");
        let message = error.to_string();
        assert!(words.iter().all(|word| message.contains(word)), "{message}");
    };
    says(file.table("peice").unwrap_err(), &["there is no table `peice`", "Did you mean `piece`?"]);
    says(file.table("p").unwrap_err(), &["`p` could be several of the tables of the file: piece, photo"]);
    says(file.table("zebra").unwrap_err(), &["It has: piece, glaze, photo, recipe"]);
    says(
        marks(&file, &filtered("gram > 3")).unwrap_err(),
        &["there is no column `gram` in `piece`", "Did you mean `grams`?"],
    );
    says(marks(&file, &filtered("grams >")).unwrap_err(), &["cannot be used", "Write a condition in SQL"]);
    says(marks(&file, &filtered("stage = \"bisque\"")).unwrap_err(), &["Text is written in single quotes"]);
    says(file.count(&table, &filtered("1); DELETE FROM piece; SELECT (1")).unwrap_err(), &["cannot be used"]);
    let page = Page { sort: vec!["weight".into()], ..Page::default() };
    says(marks(&file, &page).unwrap_err(), &["there is no column `weight` in `piece`"]);
}

#[test]
fn what_is_no_database_is_said() {
    let (folder, path) = folder();
    assert!(File::open(&path).err().unwrap().is_file_missing());
    assert!(File::open(folder.path()).err().unwrap().to_string().contains("it is a folder"));
    fs::write(
        &path,
        "text that is long enough to be taken for a header, if it were one; it is not, and it says so here",
    )
    .unwrap();
    assert!(File::open(&path).err().unwrap().is_not_a_database());
    fs::write(&path, "").unwrap();
    assert!(File::open(&path).unwrap().overview().unwrap().tables.is_empty());
}

#[test]
fn a_folder_tells_drawers_from_other_databases_and_other_files() {
    let (folder, path) = folder();
    let drawer = running(&path);
    fs::create_dir_all(path.with_file_name("deep/er")).unwrap();
    other_program(&path.with_file_name("deep/er/notes.db")).execute_batch("CREATE TABLE t (x)").unwrap();
    fs::write(path.with_file_name("readme.txt"), "x".repeat(200)).unwrap();
    let found = || -> Vec<(String, bool)> {
        let name = |f: &Path| f.file_name().unwrap().to_string_lossy().into_owned();
        drawers_in(folder.path()).unwrap().iter().map(|f| (name(&f.path), f.is_drawer)).collect()
    };
    let expected = [("notes.db".to_owned(), false), ("kiln.drawer".to_owned(), true)];
    assert_eq!(found(), expected);
    drawer.close().unwrap();
    assert_eq!(found(), expected);
    assert!(drawers_in(path.with_file_name("nowhere")).unwrap_err().is_file_missing());
}

#[test]
fn what_goes_with_a_table_is_told_and_created_again_by_its_statements() {
    #[derive(velvet_drawer::Record)]
    #[record(shared)]
    struct Clay {
        #[record(own_key, searchable)]
        name: String,
        #[record(searchable)]
        notes: Option<String>,
    }
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, velvet_drawer::Schema::new("clays").record::<Clay>()).unwrap();
    drawer.insert(Clay { name: "Grey".into(), notes: None }).unwrap();
    drawer.close().unwrap();
    let file = File::open(&path).unwrap();
    let structure = file.structure().unwrap();
    assert_eq!(structure.len(), 1, "{structure:?}");
    assert_eq!(
        (structure[0].searchable.as_slice(), structure[0].shared),
        (&["name".to_owned(), "notes".into()][..], true)
    );
    let other = rusqlite::Connection::open_in_memory().unwrap();
    for statement in file.statements().unwrap() {
        other.execute_batch(&statement).unwrap();
    }
    other.execute("INSERT INTO clay (name) VALUES ('White clay')", []).unwrap();
    let found = "SELECT (SELECT count(*) FROM velvet_unindexed WHERE table_name = 'clay') + (SELECT count(*) FROM velvet_changes)";
    assert_eq!(other.query_row(found, [], |r| r.get::<_, i64>(0)).unwrap(), 2);
}

fn in_words(key: &[(String, Value)]) -> String {
    key.iter().map(|(column, value)| format!("{column} {}", value.literal())).collect::<Vec<_>>().join(" ")
}

#[test]
fn one_record_is_found_by_its_key_or_number_with_its_links_both_ways() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let shino = drawer.insert(glaze("Shino")).unwrap().key();
    let bowls = drawer
        .insert_all((1..=7).map(|n| Piece { glaze: (n < 7).then_some(shino), ..piece(&(8 - n).to_string()) }))
        .unwrap();
    drawer.insert(Photo { piece: bowls[0].key(), side: "left".into() }).unwrap();
    drawer.close().unwrap();
    let file = File::open(&path).unwrap();
    let pieces = file.table("piece").unwrap();
    // The own key comes first, then the number.
    let by_key = file.one(&pieces, "7").unwrap();
    assert_eq!(
        (by_key.number, in_words(&by_key.links[0].known_by.clone().unwrap())),
        (Some(1), "key 1 name 'Shino'".into())
    );
    assert_eq!(by_key.linked_from.iter().map(|l| (l.table.as_str(), l.count)).collect::<Vec<_>>(), [("photo", 1)]);
    let by_number = file.one(&pieces, "#7").unwrap();
    assert_eq!((by_number.number, by_number.links.len()), (Some(7), 0));
    let glazes = file.one(&file.table("glaze").unwrap(), "Shino").unwrap();
    let from_pieces = glazes.linked_from.iter().find(|l| l.table == "piece").unwrap();
    assert_eq!((from_pieces.count, from_pieces.first.len()), (6, File::DEPENDANTS_NAMED as usize));
    assert_eq!(in_words(&from_pieces.first[0]), "key 1 mark '7'");
    let error = file.one(&pieces, "K-9").unwrap_err().to_string();
    assert!(error.starts_with("there is no row \"K-9\" in `piece`. Rows are known by: key, mark."), "{error}");
}

/// Rows with words, each in a line.
fn searched(file: &File, words: &str, tables: &[FoundTable], most: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut each = |row: FoundRow| {
        let columns: Vec<String> = row.columns.iter().map(|(name, text)| format!("{name}: {text}")).collect();
        lines.push(format!("{} {}: {}", row.table, in_words(&row.known_by), columns.join(", ")));
        Ok(lines.len() < most)
    };
    file.search(words, tables, &mut each).unwrap();
    lines
}

#[test]
fn words_and_single_rows_are_found_in_files_of_any_kind() {
    let (_folder, path) = folder();
    let other = other_program(&path);
    other
        .execute_batch(
            "PRAGMA encoding = 'UTF-16be'; PRAGMA foreign_keys = OFF;
             CREATE TABLE pairs (x, y, note TEXT, PRIMARY KEY (y, x)) WITHOUT ROWID;
             INSERT INTO pairs VALUES (1, 'a', 'Größe, Céladon'), (2, 'a', 'grosse vase, celadon');
             CREATE TABLE bare (rowid TEXT, \"b c\", of_x, of_y, FOREIGN KEY (of_x, of_y) REFERENCES pairs (x, y));
             INSERT INTO bare VALUES ('r', 'a celadon', 2, 'a'), (NULL, x'00', 3, 'z'), ('s', 47, NULL, NULL);
             CREATE VIEW v AS SELECT note FROM pairs; CREATE VIEW broken AS SELECT * FROM nowhere;
             CREATE VIRTUAL TABLE words USING fts5(text); INSERT INTO words VALUES ('the celadon of the year');
             CREATE TABLE made (a TEXT, b TEXT GENERATED ALWAYS AS (a || ' celadon') STORED); INSERT INTO made (a) VALUES ('one');",
        )
        .unwrap();
    drop(other);
    let file = File::open(&path).unwrap();
    let made = [file.table("made").unwrap()];
    assert_eq!(searched(&file, "céLA one", &made, 9), ["made rowid 1: a: [one], b: [one] [cela]don"]);
    assert_eq!(
        searched(&file, "celadon", &[], 9)[..4],
        [
            "pairs y 'a' x 1: note: Größe, [Céladon]",
            "pairs y 'a' x 2: note: grosse vase, [celadon]",
            "bare _rowid_ 1: b c: a [celadon]",
            "v note 'Größe, Céladon': note: Größe, [Céladon]",
        ]
    );
    assert_eq!(searched(&file, "47", &[], 9), ["bare _rowid_ 3: b c: [47]"]);
    assert_eq!(searched(&file, "celadon", &[], 2).len(), 2);
    let error = file.search(" ", &[], &mut |_| Ok(true)).unwrap_err();
    assert!(error.is_bad_query(), "{error}");

    let one = file.one(&file.table("pairs").unwrap(), "a, 2").unwrap();
    assert_eq!(
        (one.number, one.linked_from[0].count, in_words(&one.linked_from[0].first[0])),
        (None, 1, "_rowid_ 1".into())
    );
    let structure = file.structure().unwrap();
    let names: Vec<_> = structure.iter().map(|t| (t.name.as_str(), t.columns.len())).collect();
    assert_eq!(names, [("pairs", 3), ("bare", 4), ("v", 1), ("words", 1), ("made", 2)]);
}

/// What happened to a file, each in a line.
fn news(following: &mut Following) -> Vec<String> {
    let mut lines = Vec::new();
    let mut each = |happened: Happened<'_>| {
        lines.push(match happened {
            Happened::Session(session) => format!("session {} {:?}", session.number, session.end),
            Happened::Trail(entry) => format!("{:?} {} {} by {:?}", entry.did, entry.table, entry.row, entry.session),
            Happened::Differs(Difference::Added { table, .. }) => format!("+ {table}"),
            Happened::Differs(Difference::Removed { table, .. }) => format!("- {table}"),
            Happened::Differs(Difference::Changed { table, columns, .. }) => format!("~ {table} {}", columns[0].name),
            Happened::Structure(what) => what.to_owned(),
        });
        Ok(())
    };
    following.news(&mut each).unwrap();
    lines
}

#[test]
fn what_is_written_to_a_file_is_followed_with_a_trail_and_without() {
    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    let mut following = Following::begin(&path, &Limits::default()).unwrap();
    assert_eq!(news(&mut following), [""; 0]);
    let drawer = Drawer::options().without_sessions().open(&path, schema()).unwrap();
    let bowl = drawer.insert(piece("K-1")).unwrap().key();
    assert_eq!(news(&mut following), ["+ piece"]);
    drawer.write(|tx| tx.change(bowl, |p| p.grams = None).and(tx.insert(glaze("Shino")))).unwrap();
    assert_eq!(news(&mut following), ["~ piece grams", "+ glaze"]);
    drawer.remove(bowl).unwrap();
    drawer.insert(piece("K-2")).unwrap();
    drawer.close().unwrap();
    assert_eq!(news(&mut following), ["- piece", "+ piece"]);
    other_program(&path).execute_batch("CREATE TABLE diary (day)").unwrap();
    assert_eq!(news(&mut following), ["the table `diary` is only in the file after"]);
    other_program(&path).execute_batch("DROP TABLE diary").unwrap();

    let drawer = Drawer::options().trail(Trail::Keys).open(&path, schema()).unwrap();
    let cup = drawer.insert(piece("K-3")).unwrap().key();
    let mut told = Vec::new();
    let begun = std::time::Instant::now();
    while told.len() < 2 && begun.elapsed().as_secs() < 60 {
        told.extend(news(&mut following).into_iter().filter(|l| !l.contains("diary")));
    }
    told.sort();
    assert_eq!(
        told,
        [format!("Inserted piece {} by Some(2)", cup.number()), "session 2 Running { in_background: false }".into()]
    );
    other_program(&path).execute("DELETE FROM piece WHERE mark = 'K-3'", []).unwrap();
    assert_eq!(news(&mut following), [format!("Removed piece {} by None", cup.number())]);
    drawer.close().unwrap();
    assert_eq!(news(&mut following), ["session 2 Closed"]);
}

#[test]
fn a_statement_that_somebody_typed_is_run_as_long_as_it_reads() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all(["K-1", "K-2"].map(piece)).unwrap();
    drawer.close().unwrap();
    let before = trace(path.parent().unwrap());
    let file = File::open(&path).unwrap();
    let mut head = Vec::new();
    let mut rows = 0;
    let text = "WITH p AS (SELECT stage, mark FROM piece) SELECT stage, count(*) AS n FROM p GROUP BY 1";
    file.query(
        text,
        &mut |columns| {
            head = columns.iter().map(|c| (c.name.clone(), c.kind.is_some())).collect();
            Ok(())
        },
        &mut |row| {
            rows += 1;
            assert_eq!(row, [ValueRef::Text("thrown"), ValueRef::Integer(2)]);
            Ok(())
        },
    )
    .unwrap();
    // What a column was declared to hold is known where it comes from one as it is.
    assert_eq!((head, rows), (vec![("stage".into(), true), ("n".into(), false)], 1));
    for text in [
        "UPDATE piece SET mark = 'x' RETURNING mark",
        "CREATE TABLE x (a)",
        "VACUUM INTO 'x.db'",
        "ATTACH 'x.db' AS x",
        "SELECT load_extension('x')",
        "SELECT * FROM piece WHERE mark = \"K-1\"",
        "SELECT 1; DROP TABLE piece",
        "",
    ] {
        let error = file.query(text, &mut |_| Ok(()), &mut |_| Ok(())).unwrap_err();
        assert!(error.is_bad_query() && error.to_string().contains("Nothing was read"), "{text}: {error}");
    }
    let error = file.query("SELECT 1", &mut |_| Ok(()), &mut |_| Err(Error::own("mine"))).unwrap_err();
    assert!(error.is_own(), "{error}");
    assert!(before == trace(path.parent().unwrap()), "a trace was left");
}

#[test]
fn what_is_stored_has_no_limit_of_time_however_many_tables_there_are() {
    let (_folder, path) = folder();
    let tables: String = (0..1_500).map(|n| format!("CREATE TABLE t{n} (a TEXT, b INTEGER); ")).collect();
    other_program(&path)
        .execute_batch(&format!("BEGIN; {tables} INSERT INTO t7 VALUES ('celadon', 1); COMMIT"))
        .unwrap();
    let limits = velvet_drawer::inspect::Limits { within: std::time::Duration::ZERO, ..Default::default() };
    let file = File::open_within(&path, &limits).unwrap();
    let mut found = 0;
    file.search("celadon", &[], &mut |_| {
        found += 1;
        Ok(true)
    })
    .unwrap();
    assert_eq!((found, file.table_names().unwrap().len()), (1, 1_500));
    assert_eq!(file.notes().unwrap().len(), 0);
}
