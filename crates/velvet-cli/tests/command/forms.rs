//! The forms of output, on files of many shapes: JSON as the published schema has it, the same thing in the same shape everywhere, and how
//! many there are in all.

use crate::common;
use common::{DEMO, fits, newest, succeeds, velvet};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::fs;
use std::path::Path;
use std::time::Duration;
use velvet_drawer::{Drawer, Key, KeysInMemory, Position, Record, Schema, Trail};

#[derive(Serialize, Deserialize, Clone)]
struct Part {
    of: String,
    percent: u32,
}

/// A record with every kind of value that has a form of its own.
#[derive(Record, Clone)]
struct Glaze {
    #[record(own_key)]
    name: String,
    food_safe: bool,
    soak: Duration,
    #[record(json)]
    parts: Vec<Part>,
    swatch: Vec<u8>,
    limit: f64,
    #[record(private)]
    supplier: String,
    #[record(sealed)]
    price: Option<u32>,
    #[record(searchable)]
    remarks: String,
    base: Option<Key<Glaze>>,
}

#[derive(Record, Clone)]
#[record(shared)]
struct Shelf {
    #[record(own_key)]
    name: String,
    glazed: bool,
}

fn glaze(name: &str) -> Glaze {
    Glaze {
        name: name.into(),
        food_safe: true,
        soak: Duration::from_secs(5400),
        parts: vec![Part { of: "silica".into(), percent: 30 }],
        swatch: vec![0, 255],
        limit: f64::INFINITY,
        supplier: "Ann".into(),
        price: Some(7),
        remarks: "glossy, a drop runs".into(),
        base: None,
    }
}

/// A drawer in use, with a trail of every kind of write. The first glaze was renamed, and the last one is gone.
fn drawer(path: &Path) -> Drawer {
    let schema = Schema::new("glazes").record::<Glaze>().record::<Shelf>();
    let drawer = Drawer::options().trail(Trail::Before).keys(KeysInMemory::default()).open(path, schema).unwrap();
    let first = drawer.insert(glaze("Shino")).unwrap();
    drawer.insert(Glaze { base: Some(first.key()), ..glaze("Celadon") }).unwrap();
    let last = drawer.insert(glaze("Tenmoku")).unwrap();
    drawer
        .change(first.key(), |g| {
            g.name = "Red shino".into();
            g.soak = Duration::from_secs(60);
            g.food_safe = false;
            g.parts.clear();
            g.supplier = "Bob".into();
            g.price = None;
            g.remarks = "x".repeat(70_000);
        })
        .unwrap();
    drawer.remove(last.key()).unwrap();
    drawer.insert(Shelf { name: "by the window".into(), glazed: true }).unwrap();
    drawer
}

/// A file of another program.
fn foreign(path: &Path) {
    let tables = "PRAGMA foreign_keys = OFF; CREATE TABLE \"select\" (\"from\" TEXT, at REAL, of BLOB, PRIMARY KEY (\"from\", at)) WITHOUT ROWID;
        INSERT INTO \"select\" VALUES ('a', 9e999, x'00ff'), ('b', -0.5, NULL);
        CREATE TABLE links (id INTEGER PRIMARY KEY, to_other INTEGER REFERENCES links ON DELETE SET NULL, note);
        INSERT INTO links VALUES (1, 1, '{\"private\":true}'), (2, 9, 12345678901234);
        CREATE VIEW both AS SELECT id, \"from\" FROM links, \"select\"; PRAGMA user_version = 7;";
    rusqlite::Connection::open(path).unwrap().execute_batch(tables).unwrap();
}

/// What a command writes as JSON, seen to fit.
fn report(form: &str, arguments: &[&str]) -> Value {
    let output = velvet(arguments).args(["--as", "json"]).output().unwrap();
    assert!(matches!(output.status.code(), Some(0 | 1)), "{arguments:?} {}", String::from_utf8_lossy(&output.stderr));
    let report = serde_json::from_slice(&output.stdout).unwrap();
    fits(form, &report);
    fits("", &report);
    report
}

#[test]
fn every_report_fits_the_published_schema() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let demo = |name: &str| DEMO.0.path().join(name).to_str().unwrap().to_owned();
    let (own, other) = (at("own.drawer"), at("other.db"));
    let open = drawer(Path::new(&own));
    foreign(Path::new(&other));
    let (newest, damaged, alone) = (newest(), demo("damaged.drawer"), demo("pulled-alone"));
    for (file, table, key) in
        [(&newest, "piece", "K-140"), (&own, "glaze", "Shino"), (&other, "select", "a,9e999"), (&other, "links", "2")]
    {
        report("overview", &["overview", file]);
        report("rows", &["records", file, table]);
        report("rows", &["query", file, "SELECT 1 AS a, 9e999, NULL, x'00' UNION ALL SELECT 'b', 2.5, 'c', 1"]);
        report("one", &["one", file, table, key]);
        report("search", &["search", file, "a"]);
        report("structure", &["structure", file]);
        report("sessions", &["sessions", file]);
        report("trail", &["trail", file]);
        report("check", &["check", file]);
    }
    assert_eq!(report("search", &["search", &own, "Tenmoku"])["formerly"][0]["now"], Value::Null);
    assert_eq!(report("one", &["one", &own, "glaze", "Tenmoku"])["record"], Value::Null);
    report("compare", &["compare", &demo("yesterday.drawer"), &newest]);
    report("compare", &["compare", &other, &own]);
    report("overview_folder", &["overview", &demo("")]);
    for file in [&damaged, &other] {
        assert!(!report("salvage", &["salvage", file, "--to", &at("saved")])["tables"].as_array().unwrap().is_empty());
        fs::remove_file(at("saved")).unwrap();
    }
    let places = report("check", &["check", &damaged])["problems"].clone();
    assert!(places[0]["table"] == "article" && places[0]["page"].is_u64(), "{places}");
    let history = demo("kilnbook.history.json");
    for file in [&demo("kiln-at-version-1.drawer"), &newest] {
        assert_eq!(report("rehearse", &["rehearse", file, "--history", &history])["would_succeed"], true);
        report("structure_history", &["structure", file, "--history", &history]);
    }
    for reports in [
        report("check", &["check", &alone]),
        report("rows", &["records", &alone, "piece"]),
        report("structure", &["structure", &alone]),
        report("rehearse", &["rehearse", &alone, "--history", &history]),
        report("overview_folder", &["overview", &alone]),
        report("overview", &["overview", &format!("{alone}/kiln.drawer")]),
        report("compare", &["compare", &alone, &newest]),
        report("sessions", &["sessions", &alone]),
    ] {
        assert!(
            reports["notes"][0].as_str().unwrap().contains("copied without its write-ahead log, kiln.drawer-wal"),
            "{reports}"
        );
    }
    let endless =
        "CREATE VIEW endless AS WITH RECURSIVE n(a) AS (SELECT 1 UNION ALL SELECT a + 1 FROM n) SELECT a FROM n;";
    rusqlite::Connection::open(at("endless.db")).unwrap().execute_batch(endless).unwrap();
    for (form, command) in [("search", "search"), ("overview", "overview")] {
        let arguments = [command, &at("endless.db"), "--within", "1", "zzz"];
        let report = report(form, &arguments[..if command == "search" { 5 } else { 4 }]);
        assert!(report["notes"][0].as_str().unwrap().contains("`endless`"), "{report}");
    }
    for line in succeeds(&["export", &own]).lines().chain(succeeds(&["export", &own, "glaze"]).lines()) {
        fits("export_line", &serde_json::from_str(line).unwrap());
    }
    let mut lines = Vec::new();
    open.changes_since(Position::START).write_json_lines(&mut lines).unwrap();
    lines.split(|b| *b == b'\n').filter(|line| !line.is_empty()).for_each(|line| {
        fits("change_line", &serde_json::from_slice(line).unwrap());
    });
}

#[test]
fn a_value_has_one_form_in_all_of_them() {
    let folder = tempfile::tempdir().unwrap();
    let (own, copy) = (folder.path().join("own.drawer"), folder.path().join("copy.drawer"));
    let drawer = drawer(&own);
    let (own, copy) = (own.to_str().unwrap(), copy.to_str().unwrap());
    succeeds(&["copy", own, "--to", copy]);
    let changed = drawer.records::<Glaze>().first().unwrap().unwrap();
    drawer.change(changed.key(), |g| *g = Glaze { name: "Red shino".into(), ..glaze("") }).unwrap();

    let forms = json!({ "food_safe": true, "soak": 5_400_000_000_000_i64, "parts": [{ "of": "silica", "percent": 30 }],
        "swatch": { "bytes": "00ff" }, "limit": { "real": "inf" }, "name": "Red shino" });
    let row = &report("rows", &["records", own, "glaze"])["rows"][0];
    let one = &report("one", &["one", own, "glaze", "Red shino"])["record"]["columns"];
    let exported: Value = serde_json::from_str(succeeds(&["export", own, "glaze"]).lines().next().unwrap()).unwrap();
    for (column, value) in forms.as_object().unwrap() {
        for found in [row, one, &exported] {
            assert_eq!(&found[column], value, "{column}");
        }
    }
    // Before and after, in a trail and in a comparison.
    let trail = report("trail", &["trail", own, "glaze", "#1", "--only", "changed", "--limit", "1"]);
    let entry = &trail["entries"][0];
    let compared = report("compare", &["compare", copy, own]);
    let difference = &compared["differences"][0];
    assert_eq!(
        (&entry["did"], &difference["did"], &difference["row"]),
        (&"changed".into(), &"changed".into(), &1.into())
    );
    assert_eq!(difference["made_by"]["entry"], entry["entry"]);
    for column in ["food_safe", "soak", "parts"] {
        assert_eq!(entry["columns"][column]["after"], forms[column]);
        assert_eq!(entry["columns"][column], difference["columns"][column]);
    }
    assert_eq!(entry["columns"]["supplier"], json!({ "before_not_told": "private", "after_not_told": "private" }));
    assert_eq!(entry["columns"]["price"], json!({ "before": null, "after_not_told": "sealed" }));
    assert_eq!(entry["columns"]["remarks"]["before_not_told"], "too-long");
    let inserted = report("trail", &["trail", own, "glaze", "#2", "--only", "inserted"]);
    assert_eq!(inserted["entries"][0]["columns"]["soak"], json!({ "after": 5_400_000_000_000_i64 }));
    // For people, in units.
    let told = succeeds(&["trail", own, "glaze", "#1", "--only", "changed"]);
    assert!(told.contains("soak 1h 30m → 1m") && told.contains("food_safe true → false"), "{told}");
    assert_eq!(report("sessions", &["sessions", own])["sessions"][0]["end"], "running");
}

#[test]
fn a_column_that_held_something_else_before_is_compared_by_what_is_stored() {
    let folder = tempfile::tempdir().unwrap();
    let (before, after) = (folder.path().join("before.drawer"), folder.path().join("after.drawer"));
    {
        #[derive(Record)]
        struct Pot {
            #[record(own_key)]
            mark: String,
            glazed: bool,
        }
        let pot = Pot { mark: "A".into(), glazed: true };
        Drawer::open(&before, Schema::new("pots").record::<Pot>()).unwrap().insert(pot).unwrap();
    }
    {
        #[derive(Record)]
        struct Pot {
            #[record(own_key)]
            mark: String,
            glazed: u8,
        }
        let pot = Pot { mark: "A".into(), glazed: 2 };
        Drawer::open(&after, Schema::new("pots").record::<Pot>()).unwrap().insert(pot).unwrap();
    }
    let compared = report("compare", &["compare", before.to_str().unwrap(), after.to_str().unwrap()]);
    assert_eq!(compared["differences"][0]["columns"]["glazed"], json!({ "before": 1, "after": 2 }));
    assert!(compared["structure"][0].as_str().unwrap().contains("`pot.glazed` holds bool before and u8 after"));
}

#[test]
fn a_trail_is_told_by_time_session_and_kind_of_write() {
    let file = newest();
    let all = report("trail", &["trail", &file])["entries"].as_array().unwrap().clone();
    let at = |entry: usize| all[entry]["at"].as_str().unwrap().trim_end_matches('Z').to_owned();
    let entries = |more: &[&str]| {
        let report = report("trail", &[&["trail", &file], more].concat());
        report["entries"].as_array().unwrap().iter().map(|e| e["entry"].as_u64().unwrap()).collect::<Vec<_>>()
    };
    let of = |pick: &dyn Fn(&Value) -> bool| -> Vec<u64> {
        all.iter().filter(|e| pick(e)).map(|e| e["entry"].as_u64().unwrap()).collect()
    };
    let middle = at(3);
    let stamp = |e: &Value| e["at"].as_str().unwrap().trim_end_matches('Z').to_owned();
    assert_eq!(entries(&["--since", &middle]), of(&|e| stamp(e) >= middle));
    assert_eq!(entries(&["--until", &middle]), of(&|e| stamp(e) < middle));
    assert!(!entries(&["--until", &middle]).is_empty() && entries(&["--since", "1h"]).len() == all.len());
    assert_eq!(entries(&["--only", "inserted"]), of(&|e| e["did"] == "inserted"));
    assert_eq!(entries(&["--session", "8", "--only", "changed"]), of(&|e| e["session"] == 8 && e["did"] == "changed"));
    assert!(entries(&["--only", "removed"]).is_empty());
    assert!(succeeds(&["trail", &file, "--until", "2025-01-01"]).contains("No entry of the trail matches"));
}

#[test]
fn a_limit_leaves_out_the_same_in_each_form_and_says_how_many_there_are() {
    let file = newest();
    let with = |arguments: &[&str], more: &[&str]| succeeds(&[&[arguments[0], &file], &arguments[1..], more].concat());
    let lists: [(&[&str], &str, u64, &str); 5] = [
        (&["records", "piece"], "rows", 28, "rows 1 to 2 of 28; more with --limit and --offset"),
        (&["sessions"], "sessions", 9, "the last 2 of 9 sessions; --limit shows more"),
        (&["trail"], "entries", 7, "the last 2 of 7 writes; --limit shows more"),
        (&["search", "shino"], "rows", 0, ""),
        (
            &["query", "SELECT key FROM article"],
            "rows",
            4800,
            "the first 2 rows; there are more, and --limit shows them",
        ),
    ];
    for (arguments, list, all, footer) in lists {
        let report: Value = serde_json::from_str(&with(arguments, &["--as", "json"])).unwrap();
        let all = if all == 0 { report["all"].as_u64().unwrap() } else { all };
        assert_eq!(
            (report["all"].as_u64(), report[list].as_array().unwrap().len()),
            (Some(all), all as usize),
            "{arguments:?}"
        );
        let limited: Value = serde_json::from_str(&with(arguments, &["--as", "json", "--limit", "2"])).unwrap();
        let is_counted = arguments[0] != "query";
        assert_eq!(limited[list].as_array().unwrap().len() as u64, all.min(2));
        assert_eq!(limited["all"].as_u64(), is_counted.then_some(all));
        assert!(with(arguments, &["--limit", "2"]).contains(footer));
    }
    let compared = report(
        "compare",
        &["compare", DEMO.0.path().join("yesterday.drawer").to_str().unwrap(), &file, "--limit", "1"],
    );
    let differing = compared["tables"].as_array().unwrap().iter().filter(|t| t["added"] != 0 || t["changed"] != 0);
    assert_eq!(compared["differences"].as_array().unwrap().len(), differing.count(), "one of each table");
    // Rows come back in from the form in which they came out.
    let folder = tempfile::tempdir().unwrap();
    let (empty, rows) = (folder.path().join("empty.drawer"), folder.path().join("rows.json"));
    fs::copy(DEMO.0.path().join("empty.drawer"), &empty).unwrap();
    fs::write(&rows, with(&["records", "shelf"], &["--as", "json"])).unwrap();
    let empty = empty.to_str().unwrap();
    assert!(succeeds(&["import", empty, rows.to_str().unwrap(), "--table", "shelf"]).contains("Imported 2 rows"));
    let out: Value = serde_json::from_str(&fs::read_to_string(&rows).unwrap()).unwrap();
    assert_eq!(report("rows", &["records", empty, "shelf"])["rows"], out["rows"]);
}

/// How wide the lines are that a person may read.
fn widest(told: &str) -> usize {
    told.lines().filter(|line| !line.contains('/')).map(|line| line.chars().count()).max().unwrap_or(0)
}

#[test]
fn all_that_people_read_fits_any_width_and_nothing_is_left_out_silently() {
    let demo = |name: &str| DEMO.0.path().join(name).to_str().unwrap().to_owned();
    let (file, old, history, damaged) =
        (demo("kiln.drawer"), demo("kiln-at-version-1.drawer"), demo("kilnbook.history.json"), demo("damaged.drawer"));
    let commands: [&[&str]; 15] = [
        &["overview", &file],
        &["overview", &demo("")],
        &["overview", &demo("pulled-alone")],
        &["records", &file, "piece"],
        &["records", &file, "firing"],
        &["one", &file, "piece", "K-104"],
        &["search", &file, "hairline"],
        &["query", &file, "SELECT * FROM piece"],
        &["structure", &file],
        &["structure", &old, "--history", &history],
        &["sessions", &file],
        &["trail", &file],
        &["compare", &old, &file],
        &["check", &damaged],
        &["rehearse", &old, "--history", &history],
    ];
    for arguments in commands {
        for width in [40, 60, 80, 100, 138, 200] {
            for more in [&[][..], &["--every-column"]] {
                let output = velvet(arguments).args(more).env("COLUMNS", width.to_string()).output().unwrap();
                let told = String::from_utf8(output.stdout).unwrap();
                // What cannot be broken: a hash, a statement's longest word.
                let allowed = if width < 80 && ["compare", "rehearse"].contains(&arguments[0]) { 80 } else { width };
                assert!(widest(&told) <= allowed, "{arguments:?} at {width}: {}\n{told}", widest(&told));
                assert!(more.is_empty() || !told.contains("not shown"), "{arguments:?} at {width}");
            }
        }
    }
    let at = |width: &str, more: &[&str]| {
        let output = velvet(&["records", &file, "piece", "--limit", "3"]).args(more).env("COLUMNS", width).output();
        String::from_utf8(output.unwrap().stdout).unwrap()
    };
    let narrow = at("60", &[]);
    assert!(narrow.contains("K-101") && narrow.contains("columns not shown: "), "{narrow}");
    let blocks = at("60", &["--every-column"]);
    assert!(blocks.contains("\nremarks    Foot trimmed twice; still a little heavy on the"), "{blocks}");
    assert_eq!(blocks.matches("\nmark       K-").count(), 3, "{blocks}");
    // Whatever is no width is not believed.
    for width in ["", "0", "wide", "7"] {
        assert_eq!(at(width, &[]), at("1000", &[]).replace("COLUMNS", ""), "{width}");
    }
}
