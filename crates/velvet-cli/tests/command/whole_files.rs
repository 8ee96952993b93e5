//! Files as a whole: checked, compared, copied, salvaged, exchanged, followed, and held against a history.

use crate::common;
use common::{drawer, fails, fits, history, newest, succeeds, velvet};
use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};

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

#[test]
fn files_are_copied_saved_compacted_and_exchanged() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (file, copy) = (newest(), path("copy.drawer"));
    assert!(succeeds(&["copy", &file, "--to", &copy]).contains("everything, at one moment"));
    assert!(fails(&["copy", &file, "--to", &copy]).contains("there is a file of that name already"));
    for (command, end) in [("copy", "-shm"), ("export", "-wal"), ("salvage", "-journal")] {
        let belongs = format!("{copy}{end}");
        assert!(fails(&[command, &file, "--to", &belongs]).contains("a file of this name belongs to"), "{command}");
        assert!(!Path::new(&belongs).exists(), "{command}");
    }
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
