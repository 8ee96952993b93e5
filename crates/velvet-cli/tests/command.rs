//! The real command on the demo's data, which the real demo makes.

mod common;

use assert_cmd::Command;
use common::{DEMO, fits, newest, on_a_terminal, succeeds, velvet};
use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};
use velvet_drawer::{Drawer, KeysInMemory, Record, Schema, Trail};

/// The copy from before the upgrades.
fn drawer() -> String {
    DEMO.0.path().join("kiln-at-version-1.drawer").to_str().unwrap().to_owned()
}

fn history() -> String {
    DEMO.0.path().join("kilnbook.history.json").to_str().unwrap().to_owned()
}

/// Runs what cannot be done, and returns the message.
fn fails(arguments: &[&str]) -> String {
    let output = velvet(arguments).output().unwrap();
    assert_eq!(output.status.code(), Some(2), "{arguments:?}");
    assert!(output.stdout.is_empty(), "nothing half done comes out");
    let message = String::from_utf8(output.stderr).unwrap();
    assert!(message.starts_with("velvet: "), "{message}");
    message
}

fn records(more: &[&str]) -> String {
    let file = drawer();
    let mut arguments = vec!["records", &file];
    arguments.extend(more);
    succeeds(&arguments)
}

fn json(more: &[&str]) -> Vec<Value> {
    let report: Value = serde_json::from_str(&records(&[more, &["--as", "json"]].concat())).unwrap();
    report["rows"].as_array().unwrap().clone()
}

#[test]
fn the_demo_keeps_what_was_acknowledged_through_four_real_starts() {
    let told = &DEMO.1;
    for line in [
        "stored 3 firings, 24 pieces and 4800 articles",
        "found 3 firings, 24 pieces and 4800 articles",
        "moved K-117 to bisque",
        "stored K-125: the drawer has acknowledged it",
        "in the middle of a transaction: 30 pieces if it ended well",
        "✗ killed",
        "found 25 pieces, the newest being K-123, K-124, K-125",
        "put 17 pieces on 2 shelves",
        "kept the file as it was, in kiln.at-version-2.drawer",
        "upgraded to version 2: add column `piece.shelf`",
        "found 25 pieces, 10 of 1000 grams or more, and the glazes ash over iron, celadon, tenmoku",
    ] {
        assert!(told.contains(line), "{line} is missing in:\n{told}");
    }
    assert!(told.contains("rows 1 to 8 of 28; more with --limit and --offset"), "{told}");
    let bisque = json(&["piece", "--filter", "mark = 'K-117'"]);
    assert_eq!(bisque[0]["stage"], "bisque");
}

#[test]
fn the_demo_replaces_its_own_folder_and_no_other() {
    let folder = tempfile::tempdir().unwrap();
    let into = folder.path().to_str().unwrap();
    succeeds(&["demo", "--into", into]);
    succeeds(&["demo", "--into", into]);
    let other = folder.path().join("other");
    fs::create_dir(&other).unwrap();
    fs::write(other.join("diary.txt"), "mine").unwrap();
    let message = fails(&["demo", "--into", other.to_str().unwrap()]);
    assert!(message.contains("has something in it that the demo did not make. Nothing was changed"), "{message}");
    assert_eq!(fs::read_to_string(other.join("diary.txt")).unwrap(), "mine");
}

#[test]
fn overview_tells_what_a_file_and_a_folder_hold() {
    let file = drawer();
    let text = succeeds(&["overview", &file]);
    assert!(text.starts_with("kiln-at-version-1.drawer, 5"), "{text}");
    assert!(text.contains("App kilnbook, schema version 1, created 20"), "{text}");
    assert!(text.contains("article  records  4800        5   467 KB"), "{text}");
    assert!(!text.contains('\u{1b}'), "no colour in a pipe");

    let overview: Value = serde_json::from_str(&succeeds(&["overview", &file, "--as", "json"])).unwrap();
    assert_eq!(overview["tables"][0]["name"], "piece");
    assert_eq!(overview["tables"][0]["rows"], 25);
    assert_eq!(overview["notes"], Value::Array(vec![]));

    let folder = velvet(&["overview", DEMO.0.path().to_str().unwrap(), "--as", "csv"]).output().unwrap();
    let beside = String::from_utf8(folder.stderr).unwrap();
    assert!(beside.contains("Note: damaged.drawer: the rows of `article` cannot be counted."), "{beside}");
    let folder = String::from_utf8(folder.stdout).unwrap();
    let rows: Vec<&str> = folder.lines().collect();
    assert_eq!((rows[0], rows.len()), ("file,app,version,tables,rows,bytes", 13));
    let bytes = fs::metadata(&file).unwrap().len();
    assert_eq!(rows[3], format!("kiln-at-version-1.drawer,kilnbook,1,3,4828,{bytes}"));

    let grown = succeeds(&["overview", &newest()]);
    assert!(grown.contains("\nVersions: 1 by app 1.0 on 20"), "{grown}");
    let grown: Value = serde_json::from_str(&succeeds(&["overview", &newest(), "--as", "json"])).unwrap();
    assert_eq!(grown["versions"][2]["app_version"], "3.0");
}

#[test]
fn records_show_missing_empty_bytes_and_numbers_each_in_its_way() {
    let filter = "mark in ('K-121', 'K-124', 'K-101')";
    let columns = "mark,wt,glaze,firing,thumbnail,remarks";
    assert_eq!(
        records(&["piece", "--filter", filter, "--columns", columns]),
        [
            "mark     wt  glaze  firing  thumbnail                                           remarks\n",
            &"─".repeat(189),
            "\nK-101  0.24  \"\"          1  <438 bytes: 89 50 4e 47 0d 0a 1a 0a 00 00 00 0d …>  \"\"\n",
            "K-121  1.08  \"\"          –  <427 bytes: 89 50 4e 47 0d 0a 1a 0a 00 00 00 0d …>  ",
            "Gift for the neighbour\\nwho lent us the trailer\n",
            "K-124     –  \"\"          –  –                                                   Test of the new clay: ",
            "throws well, dries slowly, and the surface takes a stamp better than anything before it\n\n3 rows\n",
        ]
        .concat()
    );
}

#[test]
fn records_come_out_as_json_and_csv_with_their_types() {
    let firing = &json(&["firing", "--limit", "1"])[0];
    assert_eq!(firing["even"], true);
    assert_eq!(firing["readings"][1]["celsius"], 385);
    assert_eq!(firing["wood"], 212.5);
    assert_eq!(firing["lit_at"], "2025-03-02T06:15:00.000000000Z");
    let piece = &json(&["piece", "--filter", "mark = 'K-124'"])[0];
    assert_eq!((&piece["wt"], &piece["glaze"]), (&Value::Null, &Value::String(String::new())));
    assert_eq!(json(&["piece", "--filter", "mark = 'none'"]), [Value::Null; 0]);
    assert_eq!(json(&["article"]).len(), 4800, "only a table is cut");

    let csv = records(&[
        "piece",
        "--filter",
        "mark in ('K-105', 'K-124')",
        "--columns",
        "mark,wt,glaze,remarks",
        "--as",
        "csv",
    ]);
    let lines: Vec<&str> = csv.split('\n').collect();
    assert_eq!(lines[0], "mark,wt,glaze,remarks");
    assert_eq!(lines[1], "K-105,0.788,ash over iron,\"Gift for the neighbour");
    assert_eq!(lines[2], "who lent us the trailer\"");
    assert!(lines[3].starts_with("K-124,\\N,,\"Test of the new clay"), "{}", lines[3]);
}

#[test]
fn records_sort_page_and_say_where_they_are() {
    let marks = |more: &[&str]| -> String {
        let rows = json(&[&["piece", "--columns", "mark"], more].concat());
        rows.iter()
            .map(|r| r["mark"].as_str().unwrap().trim_start_matches("K-").to_owned())
            .collect::<Vec<_>>()
            .join(" ")
    };
    assert_eq!(marks(&["--sort", "wt desc,mark", "--limit", "3"]), "113 112 125");
    assert_eq!(marks(&["--sort", "STAGE, mark desc", "--limit", "2", "--offset", "1"]), "116 115");
    let table = records(&["art", "--limit", "2", "--offset", "10", "--columns", "numb"]);
    assert!(table.ends_with("\nrows 11 to 12 of 4800; more with --limit and --offset\n"), "{table}");
    assert!(records(&["article"]).contains("rows 1 to 50 of 4800"));
    assert!(records(&["piece", "--offset", "99"]).contains("no row after the first 99; there are 25 rows"));
}

#[test]
fn what_cannot_be_done_is_said_with_the_nearest_name() {
    let file = drawer();
    let empty = tempfile::tempdir().unwrap();
    let text = empty.path().join("notes.txt");
    fs::write(&text, "x".repeat(200)).unwrap();
    let (empty, text) = (empty.path().to_str().unwrap(), text.to_str().unwrap());
    let says = |arguments: &[&str], words: &str| {
        let message = fails(arguments);
        assert!(message.contains(words), "{message}");
    };
    says(&["overview", "nowhere.drawer"], "it does not exist. Check the path. File: ");
    says(&["overview", empty], "no drawer in");
    says(&["records", empty, "piece"], "no drawer in");
    says(&["overview", text], "the file is no database, or an encrypted one");
    says(&["records", &file, "peice"], "there is no table `peice` in the file. Did you mean `piece`?");
    says(
        &["records", &file, "piece", "--sort", "th"],
        "could be several of the columns of `piece`: thrown_on, thumbnail",
    );
    says(&["records", &file, "piece", "--filter", "stag = 'x'"], "Did you mean `stage`?");
    says(
        &["records", &file, "piece", "--columns", "mark,grams"],
        "there is no column `grams` in `piece`. It has: key, mark",
    );
}

#[test]
fn structure_comes_out_for_people_programs_and_drawings() {
    let text = succeeds(&["structure", &drawer()]);
    assert!(text.starts_with("piece\ncolumn     stored as  rules              holds\n"), "{text}");
    assert!(
        text.contains("\nfiring     integer    optional, indexed  a link to firing, cleared when that is removed\n"),
        "{text}"
    );
    let json: Value = serde_json::from_str(&succeeds(&["structure", &drawer(), "--as", "json"])).unwrap();
    assert_eq!(json["tables"][0]["columns"][7]["links_to"]["table"], "firing");
    let sql = succeeds(&["structure", &drawer(), "--as", "sql"]);
    assert!(sql.starts_with("CREATE TABLE \"piece\" (\n  \"key\" INTEGER PRIMARY KEY AUTOINCREMENT,"), "{sql}");
    let diagram = succeeds(&["structure", &newest(), "--as", "diagram"]);
    assert!(
        diagram.starts_with("digraph drawer {") && diagram.contains("\"piece\" -> \"glaze\" [label = \"glaze\"]"),
        "{diagram}"
    );
}

#[test]
fn a_file_is_stood_against_a_history_and_its_upgrade_rehearsed() {
    let (file, history) = (drawer(), history());
    let against = succeeds(&["structure", &file, "--history", &history]);
    assert!(against.contains("The file is at version 1; the newest version of the history is 3."), "{against}");
    assert!(against.contains("A migration to version 3 would:\n  - rename column `piece.wt` to `grams`"), "{against}");
    assert!(
        succeeds(&["structure", &newest(), "--history", &history])
            .ends_with("The file has the structure that version 3 has in the history.\n")
    );

    let before = fs::read(&file).unwrap();
    let told = succeeds(&["rehearse", &file, "--history", &history]);
    assert!(told.contains("Dry run on a complete copy, from version 1 to 3:"), "{told}");
    assert!(told.contains("lost: the values of `piece.glaze` from before they are filled"), "{told}");
    assert!(told.contains("Not run: the app's code `split_glazes`, which only the app has"), "{told}");
    assert!(
        told.contains("The migration succeeds: the result has the structure of version 3 in the history."),
        "{told}"
    );
    let json: Value =
        serde_json::from_str(&succeeds(&["rehearse", &file, "--history", &history, "--as", "json"])).unwrap();
    assert_eq!((&json["rehearsal"]["from"], &json["rehearsal"]["versions"][1]["rows"]), (&1.into(), &25.into()));
    assert!(succeeds(&["rehearse", &newest(), "--history", &history]).contains("there is nothing to migrate"));
    assert!(before == fs::read(&file).unwrap());
}

#[test]
fn what_differs_or_would_fail_ends_with_1_and_what_could_not_be_tried_with_2() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: String| {
        let path = folder.path().join(name);
        fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let text = fs::read_to_string(history()).unwrap();
    let fails_on_rows = write("fails.json", text.replace("round(grams * 1000)", "'heavy'"));
    let output = velvet(&["rehearse", &drawer(), "--history", &fails_on_rows]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(
        told.starts_with(
            "The migration would fail: cannot upgrade the drawer from version 1 to 3, in step (change column `piece.grams`"
        ),
        "{told}"
    );
    assert!(told.contains("this was a copy"), "{told}");

    let copy = folder.path().join("changed.drawer");
    fs::copy(newest(), &copy).unwrap();
    let change = "import sqlite3, sys; sqlite3.connect(sys.argv[1]).execute('ALTER TABLE piece ADD COLUMN color TEXT')";
    assert!(std::process::Command::new("python3").args(["-c", change]).arg(&copy).status().unwrap().success());
    let output = velvet(&["structure", copy.to_str().unwrap(), "--history", &history()]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8(output.stdout).unwrap().contains("  - `piece.color` is there but not declared"));

    let broken = write("broken.json", text.replacen("\"newest\": 3", "\"newest\": 4", 1));
    assert!(
        fails(&["rehearse", &drawer(), "--history", &broken])
            .contains("its newest version is 4, but the versions listed are [3, 2, 1]")
    );
    assert!(
        fails(&["rehearse", &drawer(), "--history", "nowhere.json"])
            .contains("the history nowhere.json cannot be read")
    );
}

#[test]
fn a_folder_with_one_drawer_stands_for_it_and_with_several_is_asked_about() {
    let folder = tempfile::tempdir().unwrap();
    let copy = |name: &str| fs::copy(drawer(), folder.path().join(name)).unwrap();
    copy("one.drawer");
    let path = folder.path().to_str().unwrap();
    assert!(succeeds(&["records", path, "firing"]).ends_with("3 rows\n"));
    copy("two.drawer");
    let message = fails(&["records", path, "firing"]);
    assert!(message.contains("has 2 drawers; name the one you mean:\n  "), "{message}");
    assert!(message.contains("two.drawer"), "{message}");
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let file = drawer();
    let program = assert_cmd::cargo::cargo_bin("velvet");
    for form in ["table", "json", "csv"] {
        let pipe = format!(
            "'{}' records '{file}' article --limit 4800 --as {form} | head -n 1; exit ${{PIPESTATUS[0]}}",
            program.display()
        );
        let output = std::process::Command::new("bash").args(["-c", &pipe]).output().unwrap();
        assert!(output.stderr.is_empty(), "{form}: {}", String::from_utf8_lossy(&output.stderr));
        assert!(output.status.success(), "{form}");
    }
}

#[test]
fn looking_at_a_file_of_a_killed_app_shows_its_newest_rows_and_leaves_no_trace() {
    let phone = velvet_phone::Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let start = |name: &str| {
        let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin("velvet"));
        command.args(["demo-app", name]);
        sandbox.start(command).unwrap()
    };
    let mut first = start("first");
    first.wait_for("stored").unwrap();
    first.quit().unwrap();
    let mut third = start("third");
    third.wait_for("in the middle").unwrap();
    let look = |file: &Path| {
        let trace = || {
            let mut all: Vec<(PathBuf, Vec<u8>)> = fs::read_dir(file.parent().unwrap())
                .unwrap()
                .map(|e| e.unwrap().path())
                .filter(|p| !p.to_string_lossy().ends_with("-shm"))
                .map(|p| (p.clone(), fs::read(p).unwrap()))
                .collect();
            all.sort();
            all
        };
        // The app itself notes within a second what it wrote.
        let mut before = trace();
        while {
            std::thread::sleep(std::time::Duration::from_millis(1200));
            std::mem::replace(&mut before, trace()) != before
        } {}
        let path = file.to_str().unwrap();
        let overview = succeeds(&["overview", path]);
        let rows = succeeds(&[
            "records",
            path,
            "piece",
            "--sort",
            "key desc",
            "--limit",
            "1",
            "--columns",
            "mark",
            "--as",
            "csv",
        ]);
        assert!(before == trace(), "something changed");
        (overview, rows)
    };
    let pulled = sandbox.pull("kiln.drawer", &phone.folder().join("pulled")).unwrap();
    let running = sandbox.durable().join("kiln.drawer");
    let (overview, rows) = look(&running);
    assert!(
        overview.contains("Note: the newest changes are not in this file but in kiln.drawer-wal beside it"),
        "{overview}"
    );
    assert_eq!(rows, "mark\nK-125\n");
    assert_eq!(look(&pulled).1, "mark\nK-125\n");
    third.kill().unwrap();
    assert_eq!(look(&running).1, "mark\nK-125\n");
}

#[test]
fn compare_tells_each_record_that_differs_and_the_exit_code_whether_any_does() {
    let (old, new) = (drawer(), newest());
    let output = velvet(&["compare", &old, &new, "--limit", "2"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(told.starts_with("piece\n  ~ key 1, mark K-101: "), "{told}");
    assert!(told.contains("more differences; --limit shows more"), "{told}");
    assert!(told.contains("Structure: `piece.wt` is only in the file before"), "{told}");
    assert!(
        told.lines().any(|l| l.starts_with("article") && l.contains("4800") && l.ends_with("row number")),
        "{told}"
    );

    assert!(succeeds(&["compare", &old, &old]).ends_with("The files hold the same records.\n"));

    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join("copy.drawer");
    fs::copy(&old, &copy).unwrap();
    let file = rusqlite::Connection::open(&copy).unwrap();
    file.execute_batch(
        "UPDATE piece SET wt = NULL, remarks = char(27) || '[31mred' WHERE key = 2; DELETE FROM piece WHERE key = 3",
    )
    .unwrap();
    drop(file);
    let copy = copy.to_str().unwrap();
    let output = velvet(&["compare", &old, copy]).output().unwrap();
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(
        told.contains("  ~ key 2, mark K-102: wt ")
            && told.contains(" → –; remarks ")
            && told.contains("  - key 3, mark K-"),
        "{told}"
    );
    assert!(!told.contains('\u{1b}'), "nothing in a file acts on the terminal: {told:?}");
    let output = velvet(&["compare", &old, copy, "--as", "json"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(told["differences"].as_array().unwrap().len(), 2);
    assert_eq!(told["differences"][0]["columns"]["wt"]["after"], Value::Null);
    assert_eq!((&told["differences"][1]["did"], &told["differences"][1]["row"]), (&"removed".into(), &3.into()));
    assert_eq!((&told["tables"][0]["changed"], &told["same"]), (&1.into(), &false.into()));
    assert!(fails(&["compare", &old, "nowhere.drawer"]).contains("it does not exist"));
}

#[test]
fn check_says_whether_a_file_is_sound_and_what_is_wrong() {
    assert!(succeeds(&["check", &newest()]).starts_with("Sound: "));
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join("copy.drawer");
    fs::copy(drawer(), &copy).unwrap();
    let file = rusqlite::Connection::open(&copy).unwrap();
    let wrong = "PRAGMA foreign_keys = OFF; UPDATE piece SET thrown_on = char(27) || '[31m' WHERE key = 3; UPDATE piece SET firing = 99 WHERE key = 4";
    file.execute_batch(wrong).unwrap();
    drop(file);
    let copy = copy.to_str().unwrap();
    let output = velvet(&["check", copy]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(
        told.starts_with("link: piece 4 links to a firing that does not exist\nvalue: piece 3: in `thrown_on`, "),
        "{told}"
    );
    assert!(told.contains("2 problems; 4828 rows checked") && !told.contains('\u{1b}'), "{told}");
    let output = velvet(&["check", copy, "--as", "json"]).output().unwrap();
    let told: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(
        (&told["sound"], &told["problems"][1]["kind"], &told["problems"][1]["row"]),
        (&false.into(), &"value".into(), &3.into())
    );
    fs::write(folder.path().join("text"), "no database, but text that is long enough to be looked at").unwrap();
    assert!(fails(&["check", folder.path().join("text").to_str().unwrap()]).contains("the file is no database"));
}

/// What a command tells as JSON.
fn told(arguments: &[&str]) -> Value {
    let mut all = arguments.to_vec();
    all.extend(["--as", "json"]);
    serde_json::from_str(&succeeds(&all)).unwrap()
}

fn pulled_alone() -> String {
    DEMO.0.path().join("pulled-alone/kiln.drawer").to_str().unwrap().to_owned()
}

/// Follows `docs/debugging.md`: each loss of the demo has its cause found.
#[test]
fn the_cause_of_each_loss_in_the_demo_is_found() {
    let file = newest();
    // The cups: a start was killed before its transaction ended, and what it had not kept is nowhere.
    let sessions = &told(&["sessions", &file])["sessions"];
    let ends: Vec<&str> = sessions.as_array().unwrap().iter().map(|s| s["end"].as_str().unwrap()).collect();
    assert_eq!(ends, ["closed", "closed", "killed", "closed", "closed", "closed", "killed", "closed", "closed"]);
    assert_eq!(sessions[6]["found_by"], 8);
    assert_eq!(sessions[2]["wrote"][0]["inserted"], 1, "what it kept before it was killed is counted");
    let trail = &told(&["trail", &file, "--session", "7"])["entries"];
    assert!(trail.as_array().unwrap().iter().all(|e| e["did"] == "changed"), "{trail}");
    assert_eq!(told(&["search", &file, "K-128"])["rows"], Value::Array(Vec::new()));

    // K-104: its mark was changed.
    let hits = told(&["search", &file, "k-104"]);
    assert_eq!(hits["rows"][0]["known_by"]["key"], 4);
    let one = told(&["one", &file, "piece", "#4"]);
    assert_eq!(one["record"]["columns"]["mark"], "K-140");
    let entry = &one["trail"].as_array().unwrap()[0];
    assert_eq!(entry["columns"]["mark"]["before"], "K-104");
    assert_eq!(
        (&entry["session"], &one["record"]["links"][0]["known_by"]["name"]),
        (&Value::from(8), &Value::from("celadon"))
    );

    // K-129: the file was pulled without what stands beside it.
    let rows = ["records", &pulled_alone(), "piece", "--sort", "key desc", "--limit", "1", "--columns", "mark"];
    let text = succeeds(&rows);
    assert!(text.find("Note: this file was possibly copied without ").unwrap() < text.find("K-127").unwrap(), "{text}");
    let output = velvet(&rows).args(["--as", "csv"]).output().unwrap();
    assert_eq!(String::from_utf8(output.stdout).unwrap(), "mark\nK-127\n");
    assert!(String::from_utf8(output.stderr).unwrap().starts_with("Note: this file was possibly copied without "));
    for command in ["check", "structure"] {
        let output = velvet(&[command, &pulled_alone()]).output().unwrap();
        assert_eq!(output.status.code(), Some(i32::from(command == "check")));
        let said = String::from_utf8(output.stdout).unwrap();
        assert!(said.starts_with("Note: this file was possibly copied without "), "{said}");
    }
    let checked = velvet(&["check", &pulled_alone(), "--as", "json"]).output().unwrap();
    let checked: Value = serde_json::from_slice(&checked.stdout).unwrap();
    assert!(checked["sound"] == true && checked["notes"][0].as_str().unwrap().contains("session 9"), "{checked}");
    let copied = velvet(&["copy", &pulled_alone(), "--to"]).arg(DEMO.0.path().join("not-all.drawer")).output().unwrap();
    let said = String::from_utf8(copied.stdout).unwrap();
    assert!(said.starts_with("Note: ") && said.contains("everything that is here, at one moment"), "{said}");
    fs::remove_file(DEMO.0.path().join("not-all.drawer")).unwrap();
    let rehearsed = velvet(&["rehearse", &pulled_alone(), "--history", &history()]).output().unwrap();
    assert!(String::from_utf8(rehearsed.stdout).unwrap().starts_with("Note: "));
    let overview = told(&["overview", &pulled_alone()]);
    assert!(
        overview["notes"][0]
            .as_str()
            .unwrap()
            .contains("copied without its write-ahead log, kiln.drawer-wal: session 9"),
        "{overview}"
    );
    assert_eq!(overview["sessions"].as_array().unwrap().last().unwrap()["end"], "open");
    let output = velvet(&["compare", &pulled_alone(), &file]).output().unwrap();
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(told.contains("mark K-129") && told.contains("    by session 9, "), "{told}");
    let text = succeeds(&["trail", &file, "piece", "K-140"]);
    assert!(text.contains("mark K-104 → K-140"), "{text}");
    assert!(
        DEMO.1.contains("refused: cannot open the drawer: a newer app wrote it (version 3; this app knows up to 1)")
    );
}

#[test]
fn any_reading_statement_is_run_and_no_other() {
    let query = |text: &str| succeeds(&["query", &drawer(), text, "--as", "csv"]);
    assert_eq!(
        query("select clay, count(*) as n from piece group by clay order by n"),
        "clay,n\nearthenware,6\nporcelain,6\nstoneware,13\n"
    );
    assert_eq!(query("select 1 as empty where 0"), "empty\n");
    let limited = succeeds(&["query", &drawer(), "select key from article", "--limit", "2"]);
    assert!(limited.ends_with("the first 2 rows; there are more, and --limit shows them\n"), "{limited}");
    for (text, said) in [
        ("delete from piece", "it does more than read"),
        ("select * from peice", "there is no table `peice`. Nothing was read. Did you mean `piece`?"),
        ("select makr from piece", "there is no column `makr`. Nothing was read. Did you mean `mark`?"),
        ("select mak from firing", "there is no column `mak`. Nothing was read. `velvet structure FILE` shows"),
        ("select 1; select 2", "it is more than one statement"),
        ("vacuum into '/tmp/velvet-must-not-be.db'", "it does more than read"),
        ("attach '/tmp/velvet-must-not-be.db' as x", "not authorized"),
    ] {
        let message = fails(&["query", &drawer(), text]);
        assert!(message.contains(said) && message.contains("Nothing was read"), "{message}");
    }
    assert!(!Path::new("/tmp/velvet-must-not-be.db").exists());
}

#[test]
fn files_are_copied_saved_compacted_and_exchanged() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (file, copy) = (newest(), path("copy.drawer"));
    assert!(succeeds(&["copy", &file, "--to", &copy]).contains("everything, at one moment"));
    assert!(fails(&["copy", &file, "--to", &copy]).contains("there is a file of that name already"));
    for command in ["copy", "salvage", "export"] {
        assert!(fails(&[command, &file, "--to", &path("")]).contains("a folder has that name"), "{command}");
        assert!(
            fails(&[command, &file, "--to", &path("no/x")]).contains(&format!("there is no folder {}", path("no")))
        );
    }
    assert!(
        succeeds(&["copy", &file, "--to", &path("b.drawer"), "--without-private"])
            .contains("No column of this file is private")
    );
    assert!(succeeds(&["compact", &copy]).contains("freed"));
    assert!(succeeds(&["compare", &file, &copy]).ends_with("The files hold the same records.\n"));

    succeeds(&["export", &file, "--to", &path("all.sql")]);
    succeeds(&["import", &path("new.drawer"), &path("all.sql")]);
    succeeds(&["compare", &file, &path("new.drawer")]);
    // Pictures go with the pieces that show them, but not here.
    let emptied = |text: &str| {
        let program = rusqlite::Connection::open(path("new.drawer")).unwrap();
        program.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false).unwrap();
        program.execute_batch(text).unwrap();
    };
    emptied("DELETE FROM piece");
    succeeds(&["export", &file, "piece", "--to", &path("piece.csv")]);
    assert!(
        succeeds(&["import", &path("new.drawer"), &path("piece.csv"), "--table", "piece"]).contains("Imported 28 rows")
    );
    succeeds(&["compare", &file, &path("new.drawer")]);
    // What `records` writes can be imported too, in both of its forms.
    for form in ["csv", "json"] {
        emptied("DELETE FROM piece; DELETE FROM firing");
        for table in ["firing", "piece"] {
            let from = path(&format!("{table}-records.{form}"));
            fs::write(&from, succeeds(&["records", &file, table, "--as", form, "--limit", "1000"])).unwrap();
            succeeds(&["import", &path("new.drawer"), &from, "--table", table]);
        }
        succeeds(&["compare", &file, &path("new.drawer")]);
    }
    let again = fails(&["import", &path("new.drawer"), &path("piece.csv"), "--table", "piece"]);
    assert!(again.contains("line 2 has the same ") && again.contains("Nothing was written"), "{again}");

    let mut bytes = fs::read(&copy).unwrap();
    let end = bytes.len() - 8 * 4096;
    bytes[end..].fill(0);
    fs::write(path("damaged.drawer"), bytes).unwrap();
    let output =
        velvet(&["salvage", &path("damaged.drawer"), "--to", &path("saved.drawer"), "--as", "json"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(report["whole"], false);
    assert_eq!(velvet(&["check", &path("saved.drawer")]).output().unwrap().status.code(), Some(0));
}

#[test]
fn what_an_app_writes_is_followed_from_outside() {
    let folder = tempfile::tempdir().unwrap();
    for (file, keeps_trail) in [(newest(), true), (drawer(), false)] {
        let copy = folder.path().join("followed.drawer");
        fs::copy(&file, &copy).unwrap();
        let mut following = std::process::Command::new(assert_cmd::cargo::cargo_bin("velvet"))
            .args(["follow", copy.to_str().unwrap(), "--as", "json"])
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let lines = std::io::BufRead::lines(std::io::BufReader::new(following.stdout.take().unwrap()));
        let (send, told) = std::sync::mpsc::channel();
        std::thread::spawn(move || lines.map_while(Result::ok).for_each(|line| drop(send.send(line))));
        // It may not have begun yet, so the same is written until it is seen.
        let app = rusqlite::Connection::open(&copy).unwrap();
        let mut n = 0;
        let line = loop {
            n += 1;
            app.execute("UPDATE piece SET remarks = ?1 WHERE key = 1", [format!("seen {n}")]).unwrap();
            if let Ok(line) = told.recv_timeout(std::time::Duration::from_millis(500)) {
                break line;
            }
            assert!(n < 100, "nothing was told");
        };
        following.kill().unwrap();
        following.wait().unwrap();
        let line: Value = serde_json::from_str(&line).unwrap();
        fits("follow_line", &line);
        assert_eq!(keeps_trail, line["written"].get("session").is_some(), "{line}");
        let after = &line["written"]["columns"]["remarks"]["after"];
        assert!(after.as_str().unwrap().starts_with("seen "), "{line}");
        drop(app);
        fs::remove_file(copy).unwrap();
    }
}

#[test]
fn shells_can_complete_every_command() {
    for shell in ["bash", "zsh", "fish"] {
        let script = succeeds(&["completions", shell]);
        assert!(["sessions", "salvage", "export"].iter().all(|word| script.contains(word)), "{shell}");
    }
}

#[test]
fn rows_come_in_the_order_of_insertion_or_of_keys_or_of_declared_choices() {
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join("copy.drawer");
    fs::copy(drawer(), &copy).unwrap();
    let other = rusqlite::Connection::open(&copy).unwrap();
    other
        .execute_batch("UPDATE piece SET mark = 'K-000' WHERE key = 25; UPDATE piece SET stage = 'lost' WHERE key = 1")
        .unwrap();
    drop(other);
    let first = |more: &[&str]| {
        let mut all =
            vec!["records", copy.to_str().unwrap(), "piece", "--limit", "2", "--columns", "mark,stage", "--as", "csv"];
        all.extend(more);
        succeeds(&all).lines().skip(1).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(first(&[]), "K-101,lost K-102,glazed");
    assert_eq!(first(&["--order", "own-key"]), "K-000,thrown K-101,lost");
    assert_eq!(first(&["--sort", "stage declared"]), "K-118,thrown K-119,thrown");
    assert_eq!(first(&["--sort", "stage declared desc", "--order", "own-key"]), "K-101,lost K-102,glazed");
    let message = fails(&["records", copy.to_str().unwrap(), "piece", "--sort", "mark declared"]);
    assert!(message.contains("`mark` has no declared order: it holds no choice"), "{message}");
}

/// The words of a text, without days and times, sizes, where a folder is, and lines that are drawn.
fn without_moments(text: &str) -> String {
    let is_moment = |word: &str| word.contains(|c: char| c.is_ascii_digit()) && (word.matches(['-', ':']).count() == 2);
    let words =
        text.split_whitespace().filter(|w| !w.starts_with(['─', '/']) && !is_moment(w.trim_matches(['(', ',', ')'])));
    let words: Vec<&str> = words.collect();
    let sized = |at: &usize| words.get(at + 1).is_some_and(|unit| unit.starts_with("KB"));
    (0..words.len()).filter(|at| !sized(at)).map(|at| words[at]).collect::<Vec<_>>().join(" ")
}

#[test]
fn every_example_of_the_help_runs_in_the_folder_of_the_demo() {
    let folder = tempfile::tempdir().unwrap();
    succeeds(&["demo", "--into", folder.path().to_str().unwrap()]);
    let program = assert_cmd::cargo::cargo_bin("velvet");
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    let help = succeeds(&["--help"]);
    let commands = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let (mut run, mut without) = (0, Vec::new());
    for command in
        commands.filter(|l| l.starts_with("  ") && !l.starts_with("   ")).map(|l| l.split_whitespace().next().unwrap())
    {
        let help = if command == "help" { String::new() } else { succeeds(&[command, "--help"]) };
        let examples: Vec<&str> = help.lines().map(str::trim).filter(|l| l.starts_with("velvet ")).collect();
        if examples.is_empty() {
            without.push(command.to_owned());
        }
        for example in examples {
            // What draws the diagram is none of ours, and nobody is there to end what goes on.
            let example = example.split(" | dot").next().unwrap().replace("--seconds 60", "--seconds 1");
            let example =
                if example.ends_with("follow kiln.drawer") { format!("{example} --seconds 1") } else { example };
            let mut shell = Command::new("bash");
            shell.args(["-c", &example]).current_dir(&folder).env("PATH", &path);
            let output = shell.output().unwrap();
            let (code, said) = (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned());
            // The file that was pulled alone is none to be called sound.
            let differs = ["compare", "salvage"].contains(&command) || example.starts_with("velvet check pulled-alone");
            assert_eq!(code, Some(i32::from(differs)), "{example}: {said}");
            run += 1;
        }
    }
    assert!(run > 30, "{run}");
    // And those of the guide, which finds the causes of losses.
    let guide = include_str!("../../../docs/debugging.md");
    for block in guide.split("```console\n$ ").skip(1) {
        let (line, shown) = block.split_once("```").unwrap().0.split_once('\n').unwrap();
        let mut shell = Command::new("bash");
        let output = shell.args(["-c", line]).current_dir(&folder).env("PATH", &path).output().unwrap();
        assert!(output.status.code().unwrap() < 2, "{line}: {}", String::from_utf8_lossy(&output.stderr));
        let said = without_moments(&String::from_utf8_lossy(&output.stdout));
        let mut rest = &said[..];
        for part in shown.split('…').map(without_moments).filter(|part| !part.is_empty()) {
            let at =
                rest.find(&part).unwrap_or_else(|| panic!("{line}: the guide shows {part:?}, but it says {said:?}"));
            rest = &rest[at + part.len()..];
        }
    }
    assert_eq!(without, ["demo", "help"]);
}

#[test]
fn long_output_goes_through_the_pager_of_a_terminal() {
    let shown = on_a_terminal(&["records", &drawer(), "article", "--limit", "60"], "sed s/^/paged:/");
    assert_eq!(shown.lines().filter(|l| l.starts_with("paged:")).count(), 64, "{shown}");
    // Colours go through, and so does what is wrong.
    assert!(shown.contains("\u{1b}["), "{shown}");
    let said = on_a_terminal(&["records", &drawer(), "nothing"], "sed s/^/paged:/");
    assert!(said.contains("there is no table `nothing`") && !said.contains("paged:"), "{said}");
    // Where there is no such pager, or nobody wants one, it is shown all the same.
    for pager in ["velvet-no-such-pager", ""] {
        let shown = on_a_terminal(&["records", &drawer(), "firing"], pager);
        assert!(shown.contains("lit_at"), "{pager}: {shown}");
    }
}

#[test]
fn an_attachment_comes_out_byte_for_byte_and_on_a_screen_is_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("bowl.png");
    let arguments = ["attachment", &newest(), "K-104.png"];
    let said = succeeds(&[&arguments[..], &["--to", to.to_str().unwrap()]].concat());
    assert!(
        said.starts_with("Wrote attachment 4 K-104.png (image/png) to ") && said.contains("with the right hash"),
        "{said}"
    );
    let written = fs::read(&to).unwrap();
    assert!(written.starts_with(b"\x89PNG") && written.ends_with(b"IEND\xaeB`\x82"));
    let piped = velvet(&arguments).output().unwrap();
    assert!(piped.status.success() && piped.stdout == written);
    let seen = on_a_terminal(&arguments, "");
    assert!(
        seen.contains("This is attachment 4 K-104.png (image/png), 36.3 KB, with the right hash: ")
            && seen.contains("--to NEW_FILE"),
        "{seen}"
    );
    let message = fails(&[&arguments[..], &["--to", to.to_str().unwrap()]].concat());
    assert!(message.contains("bowl.png") && fs::read(&to).unwrap() == written, "{message}");
    let message = fails(&["attachment", &newest(), "K-999.png"]);
    assert!(message.contains("no attachment has that number, name or hash"), "{message}");
}

#[derive(Record)]
struct Client {
    #[record(own_key, searchable)]
    name: String,
    #[record(sealed)]
    phone: Option<String>,
}

#[test]
fn what_is_sealed_is_shown_as_sealed_by_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("kiln.drawer");
    let schema = Schema::new("kilnbook").record::<Client>();
    let drawer = Drawer::options().trail(Trail::Before).keys(KeysInMemory::default()).open(&path, schema).unwrap();
    let ann = drawer.insert(Client { name: "Ann".into(), phone: Some("555 0100".into()) }).unwrap();
    drawer.change(ann.key(), |c| c.phone = Some("555 0199".into())).unwrap();
    drawer.insert(Client { name: "Bo".into(), phone: None }).unwrap();
    drawer.close().unwrap();
    let file = path.to_str().unwrap();
    let copy = folder.path().join("copy.drawer").to_str().unwrap().to_owned();
    let commands: [(&[&str], &str); 9] = [
        (&["overview", file], "Sealed columns: client.phone; only the app, with its key, can read them"),
        (&["records", file, "client"], "Ann   (sealed)"),
        (&["one", file, "client", "Ann"], "phone  (sealed)"),
        (&["search", file, "ann"], "Ann"),
        (&["query", file, "SELECT phone FROM client"], "(sealed)"),
        (&["structure", file], "text, sealed as `client.phone`"),
        (&["trail", file], "phone (sealed) → (sealed)"),
        (&["records", file, "client", "--as", "json"], "\"phone\":{\"sealed\":\"01"),
        (&["copy", file, "--to", &copy], "copy.drawer"),
    ];
    for (command, shows) in commands {
        let said = succeeds(command);
        assert!(said.contains(shows) && !said.contains("555 0100"), "{command:?}: {said}");
    }
    assert!(succeeds(&["compare", file, &copy]).contains("The files hold the same records."));
}

#[test]
fn a_record_with_another_key_or_none_is_found_by_the_one_it_had() {
    let file = newest();
    let shown = succeeds(&["one", &file, "piece", "K-104"]);
    assert!(shown.starts_with("Note: piece K-104 (row 4) is now K-140, changed by session 8 at "), "{shown}");
    assert!(shown.contains("piece, row 4\n") && shown.contains("Its trail:"), "{shown}");
    assert!(succeeds(&["trail", &file, "piece", "K-104"]).contains("mark K-104 → K-140"));
    assert!(succeeds(&["search", &file, "K-104"]).contains("Note: piece K-104 (row 4) is now K-140"));
    assert!(!succeeds(&["search", &file, "K-140"]).contains("Note:"));
    let json: Value = serde_json::from_str(&succeeds(&["one", &file, "piece", "K-104", "--as", "json"])).unwrap();
    assert_eq!((&json["record"]["row"], &json["formerly"][0]["now"]), (&4.into(), &"K-140".into()));

    #[derive(Record)]
    struct Pot {
        #[record(own_key)]
        mark: String,
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("pots.drawer");
    let drawer = Drawer::options().trail(Trail::Before).open(&path, Schema::new("pots").record::<Pot>()).unwrap();
    let pots = drawer.insert_all(["A", "B", "C"].map(|mark| Pot { mark: mark.into() })).unwrap();
    drawer.remove(pots[0].key()).unwrap();
    drawer.change(pots[1].key(), |pot| pot.mark = "A".into()).unwrap();
    drawer.change(pots[1].key(), |pot| pot.mark = "D".into()).unwrap();
    drawer.change(pots[2].key(), |pot| pot.mark = "E".into()).unwrap();
    drawer.remove(pots[2].key()).unwrap();
    drawer.close().unwrap();
    let file = path.to_str().unwrap();
    let both = succeeds(&["one", file, "pot", "A"]);
    assert!(
        both.contains("pot A (row 2) is now D, changed by session 1") && both.contains("with # before it"),
        "{both}"
    );
    assert!(both.contains("pot A (row 1) was removed by session 1 at "), "{both}");
    let gone = succeeds(&["one", file, "pot", "C"]);
    assert!(
        gone.contains("pot C (row 3) got another key by session 1 at ") && gone.contains("was removed by"),
        "{gone}"
    );
    assert!(gone.contains("Its trail:") && gone.contains("removed"), "{gone}");
    assert!(succeeds(&["search", file, "E"]).contains("pot E (row 3) was removed by session 1"));
    assert!(fails(&["one", file, "pot", "Z"]).contains("there is no row \"Z\" in `pot`"));
    let none = succeeds(&["trail", file, "--session", "9"]);
    assert!(none.contains("No entry of the trail matches") && !none.contains("Options::trail"), "{none}");
}

#[test]
fn what_people_type_for_a_thing_leads_to_the_command_that_does_it() {
    for (typed, ours) in
        [("diff", "compare"), ("dump", "export"), ("backup", "copy"), ("VACUUM", "compact"), ("history", "trail")]
    {
        let said = fails(&[typed, "x"]);
        assert!(said.contains(&format!("there is no command `{typed}`; `velvet {ours}` does that")), "{said}");
    }
    assert!(fails(&["recods"]).contains("did you mean `velvet records`?"));
    assert!(fails(&["nothing.drawer"]).contains("no file of that name. `velvet --help` lists the commands"));
    assert!(fails(&["records"]).starts_with("velvet: the following required arguments were not provided"));
    assert_eq!(succeeds(&[&newest()]), succeeds(&["overview", &newest()]), "a file alone is looked at");
    let help = succeeds(&["--help"]) + &succeeds(&["completions", "bash"]);
    assert!(!help.contains("demo-app") && !fails(&["demo-ap"]).contains("demo-app"));
}

#[test]
fn colours_reach_only_a_pager_that_shows_them() {
    let folder = tempfile::tempdir().unwrap();
    let pager = folder.path().join("less");
    fs::write(&pager, "#!/bin/sh\necho \"LESS=$LESS $*\"; cat\n").unwrap();
    std::process::Command::new("chmod").arg("+x").arg(&pager).status().unwrap();
    let shown = |options: Option<&str>, pager: &str| {
        // The options are those of the process that this starts.
        let set = options.map(|options| format!("LESS={options} ")).unwrap_or_default();
        let script = folder.path().join("velvet");
        let program = assert_cmd::cargo::cargo_bin("velvet");
        let unset = if options.is_none() { "unset LESS; " } else { "" };
        fs::write(&script, format!("#!/bin/sh\n{unset}{set}exec {} \"$@\"\n", program.display())).unwrap();
        std::process::Command::new("chmod").arg("+x").arg(&script).status().unwrap();
        let python = "import os, pty, sys\nos.environ['PAGER'] = sys.argv[1]\npty.spawn(sys.argv[2:])";
        let mut command = Command::new("python3");
        command.args(["-c", python, pager, script.to_str().unwrap(), "records", &drawer(), "firing"]);
        command.env("TERM", "xterm").env_remove("NO_COLOR");
        String::from_utf8(command.output().unwrap().stdout).unwrap()
    };
    let less = pager.to_str().unwrap();
    for (options, pager, coloured) in [
        (None, less.to_owned(), true),
        (Some("-S"), less.to_owned(), false),
        (Some("-SR"), less.to_owned(), true),
        (Some("-S"), format!("{less} -R"), true),
        (Some("-S"), "cat".to_owned(), true),
    ] {
        let shown = shown(options, &pager);
        assert_eq!(shown.contains('\u{1b}'), coloured, "{options:?} {pager}: {shown}");
        assert!(shown.contains("lit_at"), "{shown}");
    }
}
