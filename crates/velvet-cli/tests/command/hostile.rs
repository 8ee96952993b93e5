//! Every command on files that were made to hurt whoever looks at them.

use crate::common;
use common::{newest, on_a_terminal, velvet};
use rusqlite::Connection;
use std::path::{Path, PathBuf};
use velvet_core::exchange::show::acts;

/// Ends the line and begins one of its own, clears the screen, hides text, turns its direction, rings.
const EVIL: &str = "x\nFAKED \u{1b}[2J\u{1b}[8m\u{9b}31m\u{202e}\u{2066}\u{feff}\u{7}\rz";

fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A database of another program, every name and value of which is hostile.
fn of_another_program(folder: &Path) -> PathBuf {
    let path = folder.join("other.db");
    let (table, column, other) = (quoted(EVIL), quoted(&format!("c {EVIL}")), quoted(&format!("t {EVIL}")));
    let file = Connection::open(&path).unwrap();
    file.pragma_update(None, "foreign_keys", false).unwrap();
    file.execute_batch(&format!(
        "CREATE TABLE {other} ({column} TEXT PRIMARY KEY, n INTEGER CHECK (n > 0));
         CREATE TABLE {table} (id INTEGER PRIMARY KEY, {column} TEXT DEFAULT '{EVIL}' REFERENCES {other} ({column}), b BLOB);
         CREATE INDEX {} ON {table} ({column}, b);
         CREATE VIEW {} AS SELECT {column} FROM {table};
         CREATE TRIGGER {} AFTER INSERT ON {other} BEGIN SELECT 1; END;",
        quoted(&format!("i {EVIL}")),
        quoted(&format!("v {EVIL}")),
        quoted(&format!("g {EVIL}")),
    ))
    .unwrap();
    file.execute(&format!("INSERT INTO {other} VALUES (?1, 1)"), [EVIL]).unwrap();
    file.execute(&format!("INSERT INTO {table} VALUES (1, ?1, x'00')"), [EVIL]).unwrap();
    file.execute(&format!("INSERT INTO {table} VALUES (2, 'dangling', NULL)"), []).unwrap();
    path
}

/// A drawer of the demo's whose own bookkeeping is hostile.
fn drawer(folder: &Path) -> PathBuf {
    let path = folder.join("kiln.drawer");
    std::fs::copy(newest(), &path).unwrap();
    let file = Connection::open(&path).unwrap();
    let tables = |like: &str| -> Vec<String> {
        let mut names = file.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name LIKE ?1").unwrap();
        names.query_map([like], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    for table in tables("velvet_s%").iter().chain(&tables("velvet_trail%")).chain(&tables("velvet_a%")) {
        let columns: Vec<String> = file
            .prepare("SELECT name FROM pragma_table_info(?1) WHERE type = 'TEXT' AND name NOT IN ('name', 'fact')")
            .and_then(|mut s| s.query_map([table], |row| row.get(0)).map(|rows| rows.map(Result::unwrap).collect()))
            .unwrap();
        for column in columns {
            // Where a rule refuses it, it stays.
            let text =
                format!("UPDATE OR IGNORE {table} SET {column} = {column} || ?1 WHERE json_valid({column}) IS NOT 1");
            let _ = file.execute(&text, [EVIL]);
        }
    }
    file.execute("UPDATE Piece SET remarks = ?1", [EVIL]).unwrap();
    path
}

/// All that can be asked of a file, but for what comes out for programs.
fn asked(file: &Path, folder: &Path, table: &str) -> Vec<Vec<String>> {
    let (path, new) = (file.to_str().unwrap(), |name: &str| folder.join(name).to_str().unwrap().to_owned());
    let lines: Vec<Vec<&str>> = vec![
        vec!["overview", path],
        vec!["overview", folder.to_str().unwrap()],
        vec!["records", path, table],
        vec!["records", path, table, "--filter", EVIL],
        vec!["records", path, table, "--sort", EVIL],
        vec!["records", path, EVIL],
        vec!["records", path, "no such"],
        vec!["one", path, table, "1"],
        vec!["one", path, table, EVIL],
        vec!["search", path, "FAKED"],
        vec!["search", path, EVIL],
        vec!["query", path, "SELECT 1 AS \"a\n\u{1b}[2J\""],
        vec!["query", path, EVIL],
        vec!["sessions", path],
        vec!["trail", path],
        vec!["trail", path, table, "1"],
        vec!["follow", path, "--seconds", "1"],
        vec!["structure", path],
        vec!["structure", path, "--history", path],
        vec!["check", path],
        vec!["rehearse", path, "--history", path],
    ];
    let mut all: Vec<Vec<String>> = lines.into_iter().map(|l| l.into_iter().map(str::to_owned).collect()).collect();
    let line = |words: &[&str]| words.iter().map(|&w| w.to_owned()).collect::<Vec<_>>();
    all.push(line(&["compare", path, &newest()]));
    all.push(line(&["compare", &newest(), path]));
    let other = new("another");
    std::fs::copy(path, &other).unwrap();
    let change = Connection::open(&other).unwrap();
    change.pragma_update(None, "foreign_keys", false).unwrap();
    let named: String = change
        .query_row("SELECT name FROM sqlite_schema WHERE type = 'table' AND name LIKE ?1 || '%'", [table], |row| {
            row.get(0)
        })
        .unwrap();
    change.execute(&format!("DELETE FROM {} WHERE rowid = 1", quoted(&named)), []).unwrap();
    change
        .execute(
            &format!("UPDATE {} SET {} = NULL", quoted(&named), quoted(if table == "x" { "b" } else { "remarks" })),
            [],
        )
        .unwrap_or_default();
    all.push(line(&["compare", path, &other]));
    all.push(line(&["compare", &other, path]));
    all.push(line(&["copy", path, "--to", &new("copy")]));
    all.push(line(&["copy", path, "--to", &new(EVIL)]));
    all.push(line(&["salvage", path, "--to", &new("saved")]));
    all.push(line(&["compact", &new("copy")]));
    all.push(line(&["export", path, "--as", "csv", "--to", &new("none/x\u{202e}")]));
    all.push(line(&["import", &new("copy"), path, "--table", EVIL]));
    all.push(line(&["overview", &new("none \u{1b}[2J")]));
    all
}

#[test]
fn nothing_that_a_person_sees_acts_on_a_terminal() {
    let folder = tempfile::tempdir().unwrap();
    let mut wrong = Vec::new();
    for (file, table) in [(of_another_program(folder.path()), "x"), (drawer(folder.path()), "Piece")] {
        let place = folder.path().join(table);
        std::fs::create_dir(&place).unwrap();
        for arguments in asked(&file, &place, table) {
            let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
            let output = velvet(&words).output().unwrap();
            assert!(output.status.code().is_some_and(|code| code <= 2), "{words:?}");
            for said in [output.stdout, output.stderr] {
                let said = String::from_utf8(said).unwrap();
                let is_dirty =
                    said.chars().any(|c| c != '\n' && acts(c)) || said.lines().any(|l| l.starts_with("FAKED"));
                wrong.extend(is_dirty.then(|| format!("{words:?}:\n{said:?}")));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

#[test]
fn what_comes_out_for_programs_is_cleaned_where_a_person_looks_at_it() {
    let folder = tempfile::tempdir().unwrap();
    let file = of_another_program(folder.path());
    let path = file.to_str().unwrap();
    for arguments in [
        vec!["export", path, "--as", "sql"],
        vec!["export", path, "x", "--as", "csv"],
        vec!["export", path, "x"],
        vec!["records", path, "x", "--as", "csv"],
        vec!["records", path, "x", "--as", "json"],
        vec!["structure", path, "--as", "sql"],
        vec!["structure", path, "--as", "json"],
        vec!["structure", path, "--as", "diagram"],
        vec!["overview", path, "--as", "json"],
        vec!["search", path, "FAKED", "--as", "json"],
        vec!["check", path, "--as", "json"],
    ] {
        // Where a bar tells how far it is, it clears its line.
        let shown = on_a_terminal(&arguments, "").rsplit("\u{1b}[2K").next().unwrap().to_owned();
        assert!(shown.contains("FAKED"), "{arguments:?}: {shown}");
        assert!(!shown.chars().any(|c| c != '\n' && acts(c)), "{arguments:?}: {shown:?}");
    }
    // A program gets every character.
    let sql = velvet(&["export", path, "--as", "sql"]).output().unwrap().stdout;
    assert!(String::from_utf8(sql).unwrap().contains("\u{1b}[2J\u{1b}[8m\u{9b}31m\u{202e}"));
}

/// A file with a plain table, and what is made to hurt whoever looks.
fn hurtful(folder: &Path, name: &str, statements: &str) -> String {
    let path = folder.join(name);
    let file = Connection::open(&path).unwrap();
    file.pragma_update(None, "foreign_keys", false).unwrap();
    file.execute_batch("CREATE TABLE plain (a TEXT); INSERT INTO plain VALUES ('one'), ('two')").unwrap();
    file.execute_batch(statements).unwrap();
    path.to_str().unwrap().to_owned()
}

/// Runs the command with little memory, and little time for what files define.
fn bounded(arguments: &[&str]) -> (i32, String) {
    let program = assert_cmd::cargo::cargo_bin("velvet");
    let mut shell = assert_cmd::Command::new("bash");
    shell.args(["-c", "ulimit -v 500000; exec \"$@\"", "velvet", program.to_str().unwrap(), "--within", "1"]);
    let output = shell.args(arguments).timeout(std::time::Duration::from_secs(30)).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    (output.status.code().unwrap_or_else(|| panic!("{arguments:?} took too long, or too much: {said}")), said)
}

#[test]
fn files_that_are_made_to_hurt_cost_little_and_the_rest_of_them_is_shown() {
    let folder = tempfile::tempdir().unwrap();
    let twice = |n: u32| format!("CREATE VIEW v{n} AS SELECT x.a FROM v{} x, v{} y;", n - 1, n - 1);
    let files = [
        hurtful(
            folder.path(),
            "endless",
            "CREATE VIEW v AS WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n",
        ),
        hurtful(
            folder.path(),
            "twice",
            &("CREATE VIEW v0 AS SELECT a FROM plain;".to_owned() + &(1..41).map(twice).collect::<String>()),
        ),
        hurtful(
            folder.path(),
            "large",
            "CREATE TABLE v (a, b AS (hex(zeroblob(400000000)))); INSERT INTO v (a) VALUES ('one');
             CREATE VIEW w AS SELECT hex(zeroblob(450000000)) AS h FROM plain",
        ),
    ];
    for file in &files {
        let new = |name: &str| format!("{file}.{name}");
        for arguments in [
            vec!["overview", file],
            vec!["records", file, "plain"],
            vec!["one", file, "plain", "#1"],
            vec!["search", file, "one"],
            vec!["query", file, "SELECT * FROM plain"],
            vec!["structure", file],
            vec!["export", file, "plain"],
            vec!["compare", file, file],
        ] {
            let (code, said) = bounded(&arguments);
            assert!(code == 0 && (said.contains("plain") || said.contains("one")), "{arguments:?}: {said}");
            // Counting the rows of a large view is no work.
            let counts = arguments[0] == "overview" && !file.ends_with("large");
            if counts || ["search", "compare"].contains(&arguments[0]) {
                assert!(said.contains("Note: `"), "{arguments:?} names what it does not show: {said}");
            }
        }
        for arguments in
            [vec!["check", file], vec!["copy", file, "--to", &new("copy")], vec!["export", file, "--as", "sql"]]
        {
            let (code, said) = bounded(&arguments);
            assert_eq!(code, 0, "{arguments:?}: {said}");
        }
        for arguments in [
            vec!["records", file, "v"],
            vec!["records", file, "v40"],
            vec!["records", file, "w"],
            vec!["query", file, "SELECT count(*) FROM v40"],
            vec!["salvage", file, "--to", &new("saved")],
            vec!["compact", &new("copy")],
            vec!["import", &new("copy"), &new("none.jsonl"), "--table", "v"],
            vec!["sessions", file],
            vec!["trail", file],
            vec!["follow", file, "--seconds", "1"],
        ] {
            assert!(bounded(&arguments).0 <= 2, "{arguments:?}");
        }
    }
    // What is stored beside a computed column is shown.
    assert!(bounded(&["records", &files[2], "v"]).1.contains("what is computed in `v` (b) is not shown"));
    let pipe = folder.path().join("pipe");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    for command in ["overview", "check", "export", "sessions"] {
        let (code, said) = bounded(&[command, pipe.to_str().unwrap()]);
        assert!(code == 2 && said.contains("it is a pipe or a device"), "{said}");
    }
    let (code, said) = bounded(&["overview", folder.path().to_str().unwrap()]);
    assert!(code == 0 && said.contains("9 databases"), "{said}");
}

#[test]
fn a_file_of_thousands_of_tables_is_looked_through_in_one_go() {
    let folder = tempfile::tempdir().unwrap();
    let table = |n: u32| format!("CREATE TABLE t{n} (a TEXT, n REFERENCES t{n}); INSERT INTO t{n} VALUES ('one', 1);");
    let file =
        hurtful(folder.path(), "many", &("BEGIN;".to_owned() + &(0..3_000).map(table).collect::<String>() + "COMMIT"));
    for arguments in
        [vec!["overview", &file], vec!["search", &file, "two"], vec!["structure", &file], vec!["compare", &file, &file]]
    {
        let (code, said) = bounded(&arguments);
        assert_eq!(code, 0, "{arguments:?}: {said}");
    }
}

#[test]
fn ctrl_c_ends_what_is_running_and_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let file = hurtful(folder.path(), "plain", "");
    let temporary = folder.path().join("temporary");
    std::fs::create_dir(&temporary).unwrap();
    let endless = "SELECT count(*) FROM plain a, plain b, plain c, plain d, plain e, plain f, plain g, plain h, plain i, plain j, \
        plain k, plain l, plain m, plain n, plain o, plain p, plain q, plain r, plain s, plain t, plain u, plain v, plain w, plain x, \
        plain y, plain z, plain aa, plain bb, plain cc, plain dd, plain ee, plain ff, plain gg, plain hh, plain ii, plain jj, plain kk";
    for (arguments, code) in [(vec!["follow", &file], 0), (vec!["query", &file, endless], 130)] {
        let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin("velvet"));
        let child =
            command.args(&arguments).env("TMPDIR", &temporary).stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(700));
        let pid = child.id().to_string();
        assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
        assert_eq!(child.wait_with_output().unwrap().status.code(), Some(code), "{arguments:?}");
        assert_eq!(std::fs::read_dir(&temporary).unwrap().count(), 0);
    }
}
