//! What a newcomer follows: the demo, the guide to its losses, every example of the help, and the words that people type.

use crate::common;
use assert_cmd::Command;
use common::{DEMO, fails, history, json, newest, pulled_alone, succeeds, told, velvet};
use serde_json::Value;
use std::fs;

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
    let guide = include_str!("../../../../docs/debugging.md");
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
fn shells_can_complete_every_command() {
    for shell in ["bash", "zsh", "fish"] {
        let script = succeeds(&["completions", shell]);
        assert!(["sessions", "salvage", "export"].iter().all(|word| script.contains(word)), "{shell}");
    }
}
