//! What the tests of the command share: the demo's data, and the command itself.
#![allow(dead_code, unreachable_pub)]

use assert_cmd::Command;
use std::sync::LazyLock;

/// The demo, run once: its folder, and what it told.
pub static DEMO: LazyLock<(tempfile::TempDir, String)> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    let told = succeeds(&["demo", "--into", folder.path().to_str().unwrap()]);
    (folder, told)
});

/// The file as the newest version of the app left it.
pub fn newest() -> String {
    DEMO.0.path().join("phone/kilnbook/durable/kiln.drawer").to_str().unwrap().to_owned()
}

/// The copy from before the upgrades.
pub fn drawer() -> String {
    DEMO.0.path().join("kiln-at-version-1.drawer").to_str().unwrap().to_owned()
}

pub fn history() -> String {
    DEMO.0.path().join("kilnbook.history.json").to_str().unwrap().to_owned()
}

/// Runs what cannot be done, and returns the message.
pub fn fails(arguments: &[&str]) -> String {
    let output = velvet(arguments).output().unwrap();
    assert_eq!(output.status.code(), Some(2), "{arguments:?}");
    assert!(output.stdout.is_empty(), "nothing half done comes out");
    let message = String::from_utf8(output.stderr).unwrap();
    assert!(message.starts_with("velvet: "), "{message}");
    message
}

/// What a command tells as JSON.
pub fn told(arguments: &[&str]) -> serde_json::Value {
    let mut all = arguments.to_vec();
    all.extend(["--as", "json"]);
    serde_json::from_str(&succeeds(&all)).unwrap()
}

pub fn pulled_alone() -> String {
    DEMO.0.path().join("pulled-alone/kiln.drawer").to_str().unwrap().to_owned()
}

pub fn records(more: &[&str]) -> String {
    let file = drawer();
    let mut arguments = vec!["records", &file];
    arguments.extend(more);
    succeeds(&arguments)
}

pub fn json(more: &[&str]) -> Vec<serde_json::Value> {
    let report: serde_json::Value = serde_json::from_str(&records(&[more, &["--as", "json"]].concat())).unwrap();
    report["rows"].as_array().unwrap().clone()
}

pub fn velvet(arguments: &[&str]) -> Command {
    let mut command = Command::cargo_bin("velvet").unwrap();
    command.args(arguments).env_remove("CLICOLOR_FORCE").env_remove("COLUMNS");
    command
}

pub fn succeeds(arguments: &[&str]) -> String {
    let output = velvet(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(output.stderr.is_empty());
    String::from_utf8(output.stdout).unwrap()
}

/// Runs the command on a terminal that does not exist, by another program that can make one.
pub fn on_a_terminal(arguments: &[&str], pager: &str) -> String {
    let script = "import os, pty, sys\nos.environ['PAGER'] = sys.argv[1]\npty.spawn(sys.argv[2:])";
    let program = assert_cmd::cargo::cargo_bin("velvet");
    let mut python = Command::new("python3");
    python
        .args(["-c", script, pager, program.to_str().unwrap()])
        .args(arguments)
        .env("TERM", "xterm")
        .env_remove("NO_COLOR")
        .env_remove("COLUMNS");
    String::from_utf8(python.output().unwrap().stdout).unwrap().replace('\r', "")
}

/// The published schema of what comes out as JSON.
static SCHEMA: LazyLock<serde_json::Value> =
    LazyLock::new(|| serde_json::from_str(include_str!("../../../../../docs/output.schema.json")).unwrap());

/// Sees that a report has the form of this name in the schema; any of the schema's forms without one.
pub fn fits(form: &str, report: &serde_json::Value) {
    let mut schema = SCHEMA.clone();
    if !form.is_empty() {
        schema["anyOf"] = serde_json::json!([{ "$ref": format!("#/$defs/{form}") }]);
    }
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let wrong: Vec<String> = validator.iter_errors(report).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(wrong.is_empty(), "{form} does not fit: {}\n{report:#}", wrong.join("\n"));
}
