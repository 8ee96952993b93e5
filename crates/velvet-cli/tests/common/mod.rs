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

pub fn velvet(arguments: &[&str]) -> Command {
    let mut command = Command::cargo_bin("velvet").unwrap();
    command.args(arguments).env_remove("CLICOLOR_FORCE");
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
        .env_remove("NO_COLOR");
    String::from_utf8(python.output().unwrap().stdout).unwrap().replace('\r', "")
}
