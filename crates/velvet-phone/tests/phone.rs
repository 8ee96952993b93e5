//! The pretend phone does what a phone does: it keeps, moves, hands out and forgets.

use std::fs;
use std::process::Command;
use velvet_core::sealing::SecretKey;
use velvet_core::sealing::keys::{KeyKeeper, KeyRefusal};
use velvet_phone::Phone;

#[test]
fn keys_stay_until_they_are_forgotten_are_locked_and_do_not_leave_the_phone() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let keys = sandbox.key_store();
    let key = SecretKey::from_bytes([7; 32]);
    assert_eq!(keys.find("../drawer").unwrap(), None);
    keys.keep("../drawer", &key).unwrap();
    assert_eq!(sandbox.key_store().find("../drawer").unwrap(), Some(key.clone()));
    assert_eq!(
        phone.sandbox("weavers").unwrap().key_store().find("../drawer").unwrap(),
        None,
        "another app has its own"
    );
    keys.lock().unwrap();
    assert_eq!(keys.find("../drawer"), Err(KeyRefusal::Locked));
    assert_eq!(keys.keep("other", &key), Err(KeyRefusal::Locked));
    keys.unlock().unwrap();
    fs::write(sandbox.durable().join("kiln.drawer"), "main").unwrap();
    let new = Phone::temporary().unwrap();
    let other = new.sandbox("kilnbook").unwrap();
    sandbox.restore_on(&other).unwrap();
    assert!(other.durable().join("kiln.drawer").exists() && other.key_store().find("../drawer").unwrap().is_none());
    keys.forget("../drawer").unwrap();
    keys.forget("../drawer").unwrap();
    assert_eq!(keys.find("../drawer").unwrap(), None);
    keys.keep("other", &key).unwrap();
    keys.wipe().unwrap();
    assert_eq!(keys.find("other").unwrap(), None);
}

#[test]
fn a_sandbox_is_moved_whole_and_its_files_are_pulled_with_or_without_what_stands_beside_them() {
    let phone = Phone::temporary().unwrap();
    let mut sandbox = phone.sandbox("kilnbook").unwrap();
    fs::write(sandbox.durable().join("kiln.drawer"), "main").unwrap();
    fs::write(sandbox.durable().join("kiln.drawer-wal"), "log").unwrap();
    sandbox.relocate(phone.folder().join("moved")).unwrap();
    let whole = sandbox.pull("kiln.drawer", &phone.folder().join("whole")).unwrap();
    let alone = sandbox.pull_alone("kiln.drawer", &phone.folder().join("alone")).unwrap();
    assert_eq!(fs::read_to_string(&whole).unwrap(), "main");
    assert!(whole.with_file_name("kiln.drawer-wal").exists());
    assert!(!alone.with_file_name("kiln.drawer-wal").exists());
    assert!(sandbox.pull("nothing", phone.folder()).is_err());
}

#[test]
fn an_app_is_told_what_happens_to_it_and_what_it_said_is_in_the_error_when_it_falls_silent() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("echo").unwrap();
    let script =
        "echo in $VELVET_PHONE_DURABLE; while read line; do [ \"$line\" = quit ] && exit 0; echo told $line; done";
    let mut command = Command::new("bash");
    command.args(["-c", script]);
    let mut running = sandbox.start(command).unwrap();
    assert!(running.wait_for("in ").unwrap().ends_with("echo/durable"));
    running.to_background().unwrap();
    running.wait_for("told background").unwrap();
    running.to_foreground().unwrap();
    running.tap("save").unwrap();
    running.wait_for("told tap save").unwrap();
    let (status, said) = running.quit().unwrap();
    assert!(status.success());
    assert_eq!(said.len(), 4, "{said:?}");

    let mut command = Command::new("bash");
    command.args(["-c", "echo only this"]);
    let error = sandbox.start(command).unwrap().wait_for("something else").unwrap_err().to_string();
    assert!(error.contains("ended without saying \"something else\"; it said:\nonly this"), "{error}");
}
