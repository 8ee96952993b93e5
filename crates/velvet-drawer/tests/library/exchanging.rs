//! Rows out to open formats and back in, without loss, all or none.

use crate::common;
use common::everything::{self, Everything};
use common::{Photo, Piece, Stage, folder, glaze, other_program, piece, schema};
use proptest::prelude::*;
use std::path::Path;
use std::time::Duration;
use velvet_core::Value;
use velvet_core::exchange::key_list;
use velvet_drawer::inspect::{Exchange, File, Limits, import, import_sql};
use velvet_drawer::{Drawer, Error, Stored, Trail};

fn exported(path: &Path, table: Option<&str>, form: Exchange) -> String {
    let file = File::open(path).unwrap();
    let mut out = Vec::new();
    match table {
        Some(table) => file.export(&file.table(table).unwrap(), form, &mut out).unwrap(),
        None => file.export_all(form, &mut out).unwrap(),
    };
    String::from_utf8(out).unwrap()
}

#[track_caller]
fn same(a: &Path, b: &Path) {
    let (a, b) = (File::open(a).unwrap(), File::open(b).unwrap());
    let comparison = a.compare(&b, &mut |d| panic!("{d:?}")).unwrap();
    assert!(comparison.is_same(), "{comparison:?}");
}

/// What any value of any program can be, as a literal.
fn literals() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("NULL".to_owned()),
        Just("9e999".to_owned()),
        any::<i64>().prop_map(|n| n.to_string()),
        any::<f64>().prop_filter("a number", |x| x.is_finite()).prop_map(|x| format!("{x:?}")),
        "[0-9a-z\\\\N',\"\\n\\r .;ö-]{0,9}".prop_map(|text| format!("'{}'", text.replace('\'', "''"))),
        "(-?[0-9]{1,3}(\\.[0-9])?|1e5|inf|\\\\N|\\\\x00|END;)".prop_map(|text| format!("'{text}'")),
        proptest::collection::vec(any::<u8>(), 0..5)
            .prop_map(|bytes| { format!("x'{}'", bytes.iter().map(|b| format!("{b:02x}")).collect::<String>()) }),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_table_of_any_program_comes_back_as_it_was(rows in proptest::collection::vec((literals(), literals(), literals(), literals()), 1..12)) {
        let (folder, path) = folder();
        let empty = folder.path().join("empty.db");
        let create = "CREATE TABLE \"t \"\"1\" (a, b TEXT, \"c,d\" REAL, e BLOB, f TEXT GENERATED ALWAYS AS (b || '!') VIRTUAL);
            CREATE TRIGGER t2 AFTER INSERT ON \"t \"\"1\" BEGIN SELECT 'END;', 1; END;
            CREATE VIRTUAL TABLE words USING fts5(text); INSERT INTO words VALUES ('one; two');";
        for path in [&path, &empty] {
            other_program(path).execute_batch(create).unwrap();
        }
        let other = other_program(&path);
        for (a, b, c, e) in &rows {
            other.execute(&format!("INSERT INTO \"t \"\"1\" VALUES ({a}, {b}, {c}, {e})"), []).unwrap();
        }
        drop(other);
        for form in [Exchange::JsonLines, Exchange::Csv] {
            let copy = folder.path().join(format!("{form:?}.db"));
            std::fs::copy(&empty, &copy).unwrap();
            let text = exported(&path, Some("t"), form);
            prop_assert_eq!(import(&copy, Some("t"), form, &mut text.as_bytes(), &Limits::default()).unwrap(), rows.len() as u64);
            same(&path, &copy);
        }
        let copy = folder.path().join("sql.db");
        import_sql(&copy, &exported(&path, None, Exchange::SqlText), &Limits::default()).unwrap();
        same(&path, &copy);
    }
}

/// What an argument of a statement of ours can be.
fn values() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Missing),
        prop_oneof![any::<i64>(), Just(i64::MIN), Just(i64::MAX)].prop_map(Value::Integer),
        prop_oneof![any::<f64>(), Just(f64::INFINITY), Just(f64::NEG_INFINITY), Just(f64::MIN_POSITIVE), Just(1e300)]
            .prop_filter("a file keeps no NaN", |x| !x.is_nan())
            .prop_map(Value::Real),
        prop_oneof![any::<String>(), "['\0\\\"\n;-]{0,4}"].prop_map(Value::Text),
        proptest::collection::vec(any::<u8>(), 0..9).prop_map(Value::Bytes),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_literal_and_a_list_of_keys_are_read_as_what_they_stand_for(
        value in values(),
        keys in proptest::collection::vec(any::<Option<i64>>(), 0..5),
    ) {
        use rusqlite::types::Value as Read;
        let other = rusqlite::Connection::open_in_memory().unwrap();
        let read: Read = other.query_row(&format!("SELECT {}", value.literal()), [], |row| row.get(0)).unwrap();
        let stands_for = match value {
            Value::Missing => Read::Null,
            Value::Integer(n) => Read::Integer(n),
            Value::Real(x) => Read::Real(x),
            Value::Text(text) => Read::Text(text),
            Value::Bytes(bytes) => Read::Blob(bytes),
        };
        prop_assert_eq!(read, stands_for);
        let mut each = other.prepare("SELECT value FROM json_each(?1)").unwrap();
        let read: Vec<Option<i64>> =
            each.query_map([key_list(keys.iter().copied())], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
        prop_assert_eq!(read, keys);
    }
}

#[test]
fn tables_of_another_program_are_its_own_whatever_their_names() {
    let (folder, path) = folder();
    let create =
        "CREATE TABLE velvet_about (name, value); CREATE TABLE velvet_sessions (x); CREATE TABLE velvet_search_t (x)";
    let empty = folder.path().join("empty.db");
    for path in [&path, &empty] {
        other_program(path).execute_batch(create).unwrap();
    }
    other_program(&path).execute_batch("INSERT INTO velvet_about VALUES ('app', 'x'), ('structure', '{}')").unwrap();
    let names = ["velvet_about", "velvet_sessions", "velvet_search_t"];
    assert_eq!(File::open(&path).unwrap().table_names().unwrap(), names);
    let [sql, saved] = ["sql.db", "saved.db"].map(|name| folder.path().join(name));
    import_sql(&sql, &exported(&path, None, Exchange::SqlText), &Limits::default()).unwrap();
    let lines = exported(&path, None, Exchange::JsonLines);
    assert_eq!(import(&empty, None, Exchange::JsonLines, &mut lines.as_bytes(), &Limits::default()).unwrap(), 2);
    let salvaged = velvet_drawer::inspect::salvage(&path, &saved, &Limits::default()).unwrap();
    assert_eq!((salvaged.tables.len(), salvaged.lost), (3, vec![]));
    for other in [&sql, &empty, &saved] {
        same(&path, other);
        assert_eq!(File::open(other).unwrap().table_names().unwrap(), names);
    }
    assert!(File::open(&path).unwrap().sessions(9).unwrap().is_empty());
}

#[test]
fn a_drawer_comes_back_whole() {
    let (folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let shino = drawer.insert(glaze("Shino, \"thick\"")).unwrap().key();
    let bowls = drawer
        .insert_all((0..30).map(|n| Piece {
            glaze: Some(shino),
            stage: Stage::Bisque,
            remarks: format!("{n}"),
            ..piece(&n.to_string())
        }))
        .unwrap();
    drawer.insert(Photo { piece: bowls[4].key(), side: "a\nb".into() }).unwrap();
    drawer.remove(bowls[29].key()).unwrap();
    drawer.close().unwrap();
    let copy = |name: &str| folder.path().join(name);

    // Into the app's own empty drawer. Records may come before those they link to.
    Drawer::open(copy("lines.drawer"), schema()).unwrap().close().unwrap();
    let lines = exported(&path, None, Exchange::JsonLines);
    let backwards = lines.lines().rev().collect::<Vec<_>>().join("\n");
    assert_eq!(
        import(copy("lines.drawer"), None, Exchange::JsonLines, &mut backwards.as_bytes(), &Limits::default()).unwrap(),
        31
    );
    same(&path, &copy("lines.drawer"));

    import_sql(copy("sql.drawer"), &exported(&path, None, Exchange::SqlText), &Limits::default()).unwrap();
    same(&path, &copy("sql.drawer"));
    assert!(File::open(copy("sql.drawer")).unwrap().check().unwrap().is_sound());
    let drawer = Drawer::open(copy("sql.drawer"), schema()).unwrap();
    assert_eq!(drawer.insert(piece("new")).unwrap().key().number(), bowls[29].key().number() + 1);
    drop(drawer);
    assert!(import_sql(copy("sql.drawer"), "", &Limits::default()).unwrap_err().is_already_there());
}

fn refused(result: Result<u64, Error>, path: &Path) -> String {
    let error = result.unwrap_err();
    assert!(error.is_bad_query(), "{error}");
    error.to_string().split(&format!(". File: {}", path.display())).next().unwrap().to_owned()
}

#[test]
fn each_line_that_does_not_fit_is_named_and_nothing_is_written() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    drawer.close().unwrap();
    let before = std::fs::read(&path).unwrap();
    let lines = r#"{"mark":"K-2","stage":"bisque","remarks":""}

        {"mark":"K-3","stage":"bisque","remarks":"","gramms":1}
        nonsense
        {"mark":"K-4","stage":"bisque","remarks":{"bytes":"0"}}
        {"mark":"K-1","stage":"bisque","remarks":""}
        {"mark":"K-5","stage":"bisque","remarks":"","grams":-1}
        {"mark":"K-6","stage":"bisque"}
        {"table":"glaze","columns":{"name":"Shino"}}
        {"key":"ten","mark":"K-7","stage":"bisque","remarks":""}"#;
    let in_latin_1 = [lines.as_bytes(), b"\n{\"mark\":\"caf\xe9\"}"].concat();
    let said =
        refused(import(&path, Some("piece"), Exchange::JsonLines, &mut &in_latin_1[..], &Limits::default()), &path);
    assert_eq!(
        said,
        "cannot import: line 3 has a column `gramms`, which `piece` has not; did you mean `grams`?; \
         line 4 is no JSON object: expected ident at line 1 column 10; \
         line 5 has in `remarks` what cannot be stored: `bytes` are not hexadecimal digits; \
         line 6 has the same mark as a row that is there; \
         line 7 has in `grams` what the app cannot read: -1 does not fit u32 (0 to 4294967295); \
         line 8 does not fit `piece`: NOT NULL constraint failed: piece.remarks; \
         line 9 is for the table `glaze`, not for `piece`; \
         line 10 has in `key` what is no whole number, and that is the number of its row; \
         line 11 is no UTF-8, from its byte 13 on. Nothing was written. \
         Mend these, or leave them out, and import again"
    );
    let csv = "mark,stage,remarks,glaze\nK-7,bisque,,99\n";
    let said = refused(import(&path, Some("piece"), Exchange::Csv, &mut csv.as_bytes(), &Limits::default()), &path);
    assert!(said.contains("of `piece` links to a `glaze` that is neither there nor comes (tables"), "{said}");
    let list = b"[{\"mark\":\"a\"},\n{\"mark\":\"caf\xe9\"}]";
    let said = refused(import(&path, Some("piece"), Exchange::JsonLines, &mut &list[..], &Limits::default()), &path);
    assert!(said.contains("line 2 is no UTF-8"), "{said}");
    let latin = b"mark,stage,remarks\ncaf\xe9,bisque,\n";
    let said = refused(import(&path, Some("piece"), Exchange::Csv, &mut &latin[..], &Limits::default()), &path);
    assert!(said.contains("line 2 is no UTF-8"), "{said}");
    let said = refused(import(&path, None, Exchange::Csv, &mut csv.as_bytes(), &Limits::default()), &path);
    assert!(said.contains("Name the table"), "{said}");
    let said = refused(
        import(&path, Some("piece"), Exchange::Csv, &mut "mark,stage\na,b,c\n".as_bytes(), &Limits::default()),
        &path,
    );
    assert!(said.contains("line: 2"), "{said}");
    assert!(before == std::fs::read(&path).unwrap(), "something was written");

    let new = folder.path().join("new.db");
    for (text, said) in [
        ("CREATE TABLE t (a);\n\nATTACH 'x.db' AS x;", "line 3: it is about another file"),
        (
            "CREATE TABLE t (a); -- one; two\nINSERT INTO t VALUES ('a;b');\nPRAGMA journal_mode = OFF",
            "line 3: it changes the setting `journal_mode`",
        ),
        ("CREATE TABLE t (a);\nINSERT INTO u VALUES (1);", "line 2: no such table: u"),
        ("VACUUM INTO 'x.db'", "line 1: "),
        ("CREATE TABLE t (a);\nDROP TABLE t", "line 2: it drops something"),
        ("CREATE TABLE t (a);\nDELETE FROM t", "line 2: it removes rows of `t`"),
        ("CREATE TABLE t (a);\nUPDATE t SET a = 1", "line 2: it changes rows of `t`"),
        ("CREATE TABLE t (a);\nALTER TABLE t ADD COLUMN b", "line 2: it changes the table `t`"),
        ("BEGIN; CREATE TABLE t (a);\nBEGIN DELETE FROM t", "line 2: it begins or ends a transaction"),
        ("CREATE TABLE t (a);\nSELECT * FROM t", "line 2: it only reads"),
        ("CREATE TABLE t (a);\nINSERT INTO t VALUES ('unfinished", "line 2: unrecognized token: \"'unfinished\""),
        (
            "CREATE TABLE t (a);\nINSERT INTO t WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n WHERE i < 0",
            "line 2: what the file defines, such as a view, takes longer than the 50",
        ),
        (
            "CREATE TABLE t (a);\nINSERT INTO t WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT zeroblob(1000000) FROM n",
            "line 2: the file would become far larger than the statements that make it",
        ),
        ("CREATE TABLE t (a);\nINSERT INTO t VALUES (zeroblob(500000000))", "line 2: a value that is computed there"),
    ] {
        // Only what never ends is ended by the clock.
        let milliseconds = if said.contains("takes longer") { 500 } else { 100_000 };
        let limits = Limits { within: Duration::from_millis(milliseconds), ..Limits::default() };
        let error = import_sql(&new, text, &limits).unwrap_err().to_string();
        assert!(error.starts_with(&format!("cannot import: {said}")), "{error}");
        assert!(!new.exists());
    }
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "something is left");
}

/// A drawer with every kind of column and every attribute, and values at their limits.
fn everything_in(path: &Path) -> Vec<Stored<Everything>> {
    let drawer = Drawer::options().trail(Trail::Before).open(path, everything::schema()).unwrap();
    let owner = drawer.insert(everything::Owner::named("the studio")).unwrap();
    let mut records = everything::at_limits().to_vec();
    records[0].json = serde_json::Value::Null;
    records.push(Everything { json: serde_json::json!("5"), owner: Some(owner.key()), ..everything::plain(7) });
    let stored = drawer.insert_all(records).unwrap();
    drawer.change(stored[0].key(), |e| e.twin = Some(stored[0].key())).unwrap();
    everything::write_the_rest(&drawer).unwrap();
    let stored = drawer.records::<Everything>().collect().unwrap();
    drawer.close().unwrap();
    stored
}

#[test]
fn every_kind_of_column_comes_back_through_every_form() {
    let (folder, path) = folder();
    let stored = everything_in(&path);
    let copy = |name: &str| folder.path().join(name);
    let whole = |copy: &Path| {
        assert!(File::open(copy).unwrap().check().unwrap().is_sound());
        let drawer = Drawer::open(copy, everything::schema()).unwrap();
        assert_eq!(drawer.records::<Everything>().collect().unwrap(), stored);
        assert_eq!(drawer.records::<Everything>().search("select z").count().unwrap(), 1);
        everything::the_rest_is_there(&drawer).unwrap();
        drawer.close().unwrap();
        same(&path, copy);
    };
    import_sql(copy("sql.drawer"), &exported(&path, None, Exchange::SqlText), &Limits::default()).unwrap();
    whole(&copy("sql.drawer"));
    Drawer::open(copy("lines.drawer"), everything::schema()).unwrap().close().unwrap();
    let lines = exported(&path, None, Exchange::JsonLines);
    import(copy("lines.drawer"), None, Exchange::JsonLines, &mut lines.as_bytes(), &Limits::default()).unwrap();
    whole(&copy("lines.drawer"));
    // Nested values stand as they are, but for those that would be taken for something else.
    assert!(
        lines.contains(r#""curve":{"celsius":"#)
            && lines.contains(r#""json":"null""#)
            && lines.contains(r#""json":"\"5\"""#)
    );
    for form in [Exchange::Csv, Exchange::JsonLines] {
        let name = copy(&format!("{form:?}.drawer"));
        Drawer::open(&name, everything::schema()).unwrap().close().unwrap();
        for table in ["owner", "select", "said", "table"] {
            let mut text = exported(&path, Some(table), form);
            if form == Exchange::JsonLines {
                // A list of rows is as good as lines.
                text = format!("\t [{}]", text.trim().replace('\n', ","));
            }
            import(&name, Some(table), form, &mut text.as_bytes(), &Limits::default()).unwrap();
        }
        whole(&name);
    }
}

#[test]
fn search_tables_of_any_program_come_back() {
    let (folder, path) = folder();
    other_program(&path)
        .execute_batch(
            "CREATE TABLE note (id INTEGER PRIMARY KEY, title TEXT, body TEXT);
             INSERT INTO note VALUES (1, 'Kiln', 'needs wood; more wood'), (9, 'Glaze', 'cobalt');
             CREATE VIRTUAL TABLE note_words USING fts5(title, body, content='note', content_rowid='id');
             INSERT INTO note_words (note_words) VALUES ('rebuild');
             CREATE VIRTUAL TABLE own_words USING fts5(text, tokenize='porter');
             INSERT INTO own_words (rowid, text) VALUES (3, 'firing kilns'), (4, NULL);
             CREATE VIRTUAL TABLE places USING rtree(id, x0, x1, y0, y1);
             INSERT INTO places VALUES (1, 0, 1, 0, 1);",
        )
        .unwrap();
    let copy = folder.path().join("copy.db");
    import_sql(&copy, &exported(&path, None, Exchange::SqlText), &Limits::default()).unwrap();
    same(&path, &copy);
    let copy = other_program(&copy);
    let found = |text: &str| copy.query_row(text, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(found("SELECT rowid FROM note_words WHERE note_words MATCH 'cobalt'"), 9);
    assert_eq!(found("SELECT rowid FROM own_words WHERE own_words MATCH 'fire'"), 3);
    assert_eq!(found("SELECT count(*) FROM places WHERE x0 < 0.5"), 1);
}
