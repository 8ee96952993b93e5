//! The command on encrypted files: with the key it shows what it shows of the plain file, and leaves nothing that can be read.

use crate::common;
use assert_cmd::Command;
use common::{DEMO, fails, fits, newest, succeeds, velvet};
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use velvet_drawer::{Drawer, FileKey, PassPhrase, SecretKey};

/// A copy of the demo's file in the clear, and one that is encrypted, in a folder with the file of its key.
fn files() -> (tempfile::TempDir, [String; 3]) {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let [plain, locked, key] = ["plain.drawer", "locked.drawer", "key"].map(at);
    for copy in [&plain, &locked] {
        succeeds(&["copy", &newest(), "--to", copy]);
    }
    Drawer::change_file_key(&locked).to(&FileKey::of_bytes(SecretKey::from_bytes([0xab; 32]))).run().unwrap();
    fs::write(&key, format!("{}\n", "ab".repeat(32))).unwrap();
    (folder, [plain, locked, key])
}

/// The files below a folder in which a name can be read that stands in the demo's records.
fn readable(folder: &Path) -> Vec<String> {
    let files = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let read = |path: &std::path::PathBuf| {
        let bytes = fs::read(path).unwrap();
        [&b"Tenmoku"[..], b"SQLite format"].iter().any(|word| bytes.windows(word.len()).any(|part| part == *word))
    };
    files.filter(read).map(|path| path.file_name().unwrap().to_string_lossy().into_owned()).collect()
}

#[test]
fn with_the_key_every_command_shows_what_it_shows_of_the_plain_file() {
    let (folder, [plain, locked, key]) = files();
    let table: &[&[&str]] = &[
        &["records", "FILE", "piece"],
        &["records", "FILE", "glaze", "--as", "json"],
        &["one", "FILE", "piece", "#1"],
        &["search", "FILE", "celadon"],
        &["query", "FILE", "select count(*) from piece"],
        &["sessions", "FILE"],
        &["trail", "FILE"],
        &["structure", "FILE"],
        &["check", "FILE"],
        &["export", "FILE"],
        &["export", "FILE", "glaze", "--as", "csv"],
        &["attachment", "FILE", "1"],
    ];
    for arguments in table {
        let of = |file: &str| {
            let named: Vec<&str> = arguments.iter().map(|word| if *word == "FILE" { file } else { *word }).collect();
            let output = velvet(&named).args(["--key-file", &key]).output().unwrap();
            assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
            output.stdout
        };
        assert!(of(&plain) == of(&locked), "{arguments:?}");
    }
    let overview = |file: &str| -> Value {
        let mut overview: Value =
            serde_json::from_str(&succeeds(&["overview", file, "--as", "json", "--key-file", &key])).unwrap();
        for name in ["path", "bytes"] {
            overview.as_object_mut().unwrap().remove(name);
        }
        overview["tables"]
            .as_array_mut()
            .unwrap()
            .iter_mut()
            .for_each(|t| drop(t.as_object_mut().unwrap().remove("bytes")));
        overview
    };
    assert_eq!(overview(&plain), overview(&locked));
    succeeds(&["compare", &plain, &locked, "--key-file", &key]);

    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    succeeds(&["copy", &locked, "--to", &at("copy"), "--key-file", &key]);
    succeeds(&["salvage", &locked, "--to", &at("saved"), "--key-file", &key]);
    succeeds(&["compact", &locked, "--key-file", &key]);
    for made in ["copy", "saved", "locked.drawer"] {
        succeeds(&["compare", &plain, &at(made), "--key-file", &key]);
    }
    assert_eq!(readable(folder.path()), ["plain.drawer"]);
    fs::remove_file(&plain).unwrap();
    let listed = succeeds(&["overview", folder.path().to_str().unwrap(), "--key-file", &key]);
    assert!(listed.contains("3 databases") && listed.matches("kilnbook").count() == 3, "{listed}");
}

/// Runs the command with a folder of its own for temporary files, and looks into these while it does. Returns what it wrote, how many files
/// were seen, and those in which something could be read.
fn watched(arguments: &[&str]) -> (String, usize, Vec<String>) {
    let temporary = tempfile::tempdir().unwrap();
    let running = AtomicBool::new(true);
    std::thread::scope(|scope| {
        let looking = scope.spawn(|| {
            let (mut seen, mut found) = (BTreeSet::new(), Vec::new());
            while running.load(Ordering::Relaxed) {
                for folder in fs::read_dir(temporary.path()).unwrap().map(|entry| entry.unwrap().path()) {
                    let Ok(files) = fs::read_dir(folder) else { continue };
                    for path in files.flatten().map(|file| file.path()) {
                        let Ok(bytes) = fs::read(&path) else { continue };
                        let is_plain = |word: &[u8]| bytes.windows(word.len()).any(|part| part == word);
                        if is_plain(b"tenmoku") || is_plain(b"SQLite format") || is_plain(b"porcelain") {
                            found.push(path.display().to_string());
                        }
                        seen.extend((!bytes.is_empty()).then_some(path));
                    }
                }
            }
            (seen.len(), found)
        });
        let output = velvet(arguments).env("TMPDIR", temporary.path()).output().unwrap();
        running.store(false, Ordering::Relaxed);
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        let (seen, found) = looking.join().unwrap();
        assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0, "nothing is left");
        (String::from_utf8(output.stdout).unwrap(), seen, found)
    })
}

#[test]
fn what_is_made_for_a_moment_is_encrypted_too() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let demo = |name: &str| DEMO.0.path().join(name).to_str().unwrap().to_owned();
    let (old, key) = (at("old.drawer"), at("key"));
    succeeds(&["copy", &demo("kiln-at-version-1.drawer"), "--to", &old]);
    Drawer::change_file_key(&old).to(&FileKey::of_bytes(SecretKey::from_bytes([0xab; 32]))).run().unwrap();
    fs::write(&key, "ab".repeat(32)).unwrap();
    let with_key = |arguments: &[&str]| watched(&[arguments, &["--key-file", &key]].concat());

    let (told, seen, found) = with_key(&["rehearse", &old, "--history", &demo("kilnbook.history.json")]);
    assert!(told.contains("The migration succeeds") && seen > 0, "{told}");
    assert_eq!(found, [""; 0]);
    // It keeps no trail, so it is compared with a copy.
    let (_, seen, found) = with_key(&["follow", &old, "--seconds", "1"]);
    assert!(seen > 0);
    assert_eq!(found, [""; 0]);
    let (told, _, found) = with_key(&["check", &old]);
    assert!(told.starts_with("Sound: ") && found.is_empty(), "{told} {found:?}");

    let rows = at("rows.jsonl");
    fs::write(&rows, "{\"number\":\"P-9999\",\"name\":\"porcelain slip\",\"cents\":990,\"in_stock\":true}\n").unwrap();
    let (told, _, found) = with_key(&["import", &old, &rows, "--table", "article"]);
    assert!(told.starts_with("Imported 1 row") && found.is_empty(), "{told} {found:?}");
    let shown = succeeds(&["search", &old, "P-9999", "--key-file", &key]);
    assert!(shown.contains("1 row"), "{shown}");
    assert_eq!(readable(folder.path()), [""; 0]);
}

#[test]
fn without_the_key_what_can_be_known_is_said() {
    let (folder, [plain, locked, key]) = files();
    let shown = succeeds(&["overview", &locked]);
    let pages = fs::metadata(&locked).unwrap().len() / 4096;
    let salt: String = fs::read(&locked).unwrap()[..16].iter().map(|byte| format!("{byte:02x}")).collect();
    for expected in [
        format!("It seems to be encrypted: {pages} pages of 4,096 bytes that look random."),
        format!("file/{salt}"),
        "Give its key with --key-file FILE, or type it with --ask-key.".into(),
    ] {
        assert!(shown.contains(&expected), "{expected}\n{shown}");
    }
    let json: Value = serde_json::from_str(&succeeds(&["overview", &locked, "--as", "json"])).unwrap();
    fits("overview_encrypted", &json);
    fits(
        "overview_folder",
        &serde_json::from_str(&succeeds(&["overview", folder.path().to_str().unwrap(), "--as", "json"])).unwrap(),
    );
    assert!(fails(&["overview", &locked, "--as", "csv"]).contains("seems to be encrypted"));
    assert_eq!((&json["encrypted"], &json["salt"], &json["pages"]), (&true.into(), &salt.into(), &pages.into()));
    let listed = succeeds(&["overview", folder.path().to_str().unwrap()]);
    assert!(listed.contains("2 databases") && listed.contains("locked.drawer: It seems to be encrypted"), "{listed}");
    for command in [&["check", &locked][..], &["records", &locked, "piece"], &["compare", &plain, &locked]] {
        let said = fails(command);
        assert!(said.contains("seems to be encrypted") && said.contains("--key-file FILE"), "{said}");
    }
    let other = folder.path().join("other");
    fs::write(&other, "0".repeat(64)).unwrap();
    let said = fails(&["check", &locked, "--key-file", other.to_str().unwrap()]);
    assert!(said.contains("the key opens no page of the file: it is another key"), "{said}");
    fs::write(&other, "\n").unwrap();
    assert!(
        fails(&["check", &locked, "--key-file", other.to_str().unwrap()]).contains("is no key: 64 hexadecimal digits")
    );
    fs::write(&other, [0xab; 32]).unwrap();
    succeeds(&["check", &locked, "--key-file", &key, "--key-file", other.to_str().unwrap()]);
    succeeds(&["check", &locked, "--key-file", other.to_str().unwrap()]);
    assert!(fails(&["check", &locked, "--key-file", "/nowhere"]).contains("the key file /nowhere cannot be read"));
}

#[test]
fn a_pass_phrase_is_asked_for_and_not_shown() {
    let (_folder, [_, locked, _]) = files();
    let from = FileKey::of_bytes(SecretKey::from_bytes([0xab; 32]));
    let phrase = FileKey::of_pass_phrase(PassPhrase::new("four pots").cost(64, 2));
    Drawer::change_file_key(&locked).from(&from).to(&phrase).run().unwrap();
    let typed = |phrase: &str, cost: &str| {
        let script = "import pty, sys\npty.spawn(sys.argv[1:])";
        let program = assert_cmd::cargo::cargo_bin("velvet");
        let mut python = Command::new("python3");
        python.args([
            "-c",
            script,
            program.to_str().unwrap(),
            "records",
            &locked,
            "glaze",
            "--ask-key",
            "--cost",
            cost,
        ]);
        let output = python.env("TERM", "xterm").write_stdin(format!("{phrase}\n")).output().unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    let shown = typed("four pots", "64,2");
    // What was typed before it was asked for, the terminal shows itself.
    let (_, shown) = shown.split_once("Key or pass phrase: ").unwrap();
    assert!(shown.contains("Tenmoku") && !shown.contains("four pots"), "{shown}");
    assert!(typed("five pots", "64,2").contains("it is another key"));
    assert!(typed("four pots", "64,3").contains("it is another key"));
    assert!(typed("four pots", "64").contains("memory in KiB, and passes"));
}
