//! A few rounds of each trial, with a new seed each time.

use assert_cmd::Command;

fn holds(trial: &str, rounds: u32) {
    let mut fire = Command::cargo_bin("velvet-fire").unwrap();
    let output = fire.args(["run", trial, "--rounds", &rounds.to_string()]).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && said.contains("; 0 did not hold"), "{said}");
}

#[test]
fn processes_are_killed() {
    holds("kills", 40);
}

#[cfg(target_os = "linux")]
#[test]
fn devices_fail() {
    holds("devices", 15);
    holds("every-call", 24);
    holds("clocks", 1);
}

#[test]
fn files_are_displaced() {
    holds("displaced", 12);
    holds("beside", 8);
}

#[test]
fn a_crowd_writes() {
    holds("crowd", 3);
}

#[test]
fn files_are_mutated_and_crafted() {
    holds("mutants", 16);
    holds("crafted", 5);
}

#[test]
fn devices_exchange_and_rows_are_replaced() {
    holds("exchange", 60);
    holds("replaced", 10);
}

#[test]
fn texts_are_changed() {
    holds("texts", 60);
}

#[test]
fn screens_follow() {
    holds("screens", 8);
}

#[test]
fn values_at_their_limits_pass_through_every_form() {
    holds("limits", 6);
}

#[test]
fn what_is_sealed_is_killed_and_changed() {
    holds("seals", 12);
    holds("copies", 12);
}

#[cfg(feature = "encryption")]
#[test]
fn encrypted_files_are_killed_and_changed() {
    holds("ciphers", 24);
}

#[test]
fn many_transactions_and_opens_leave_nothing() {
    holds("endurance", 10);
}
