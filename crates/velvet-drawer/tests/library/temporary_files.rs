//! Temporary files on a device that has no folder for them but the one that the app hands in.

use crate::common;
use common::{Piece, other_program, piece, schema, versions};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use velvet_drawer::Drawer;
use velvet_drawer::inspect::{File, Following, Limits};
use velvet_drawer::place::{self, Folders};

/// Says to the process where the files are.
const HOME: &str = "VELVET_TEST_HOME";

/// A file with the way back out of an unfinished transaction beside it, which is looked at in a copy.
fn unfinished(path: &Path) {
    let program = other_program(&path.with_file_name("running"));
    program
        .execute_batch(
            "CREATE TABLE notes (text); PRAGMA cache_size = 2; BEGIN; INSERT INTO notes VALUES (hex(zeroblob(90000)))",
        )
        .unwrap();
    for end in ["", "-journal"] {
        let of = |name: &Path| PathBuf::from(format!("{}{end}", name.display()));
        fs::copy(of(&path.with_file_name("running")), of(path)).unwrap();
    }
}

#[test]
fn the_folder_that_the_app_handed_in_is_enough() {
    let home = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    unfinished(&home.path().join("unfinished.db"));
    let old = Drawer::open(home.path().join("old.drawer"), versions::schema(1)).unwrap();
    old.close().unwrap();
    // Nothing else can be written there: neither the usual folders, nor where the process begins.
    let alone = "mount -t tmpfs none /mnt && mkdir /mnt/home /mnt/bin && mount --bind \"$HOME_OF_TEST\" /mnt/home && \
        mount --bind \"$(dirname \"$0\")\" /mnt/bin && mount -t tmpfs -o ro none /tmp && mount -t tmpfs -o ro none /var/tmp && \
        cd /proc && exec /mnt/bin/\"$(basename \"$0\")\" --exact temporary_files::app --nocapture";
    let run = Command::new("unshare")
        .args(["--mount", "--map-root-user", "sh", "-c", alone, std::env::current_exe().unwrap().to_str().unwrap()])
        .env("HOME_OF_TEST", home.path())
        .env(HOME, "/mnt/home")
        .env_remove("TMPDIR")
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&run.stdout).into_owned() + &String::from_utf8_lossy(&run.stderr);
    assert!(run.status.success() && said.contains("all of it was done"), "{said}");
    assert_eq!(fs::read_dir(home.path().join("temporary")).unwrap().count(), 0, "nothing is left there");
}

/// The process on that device; nothing where this is run as an ordinary test.
#[test]
fn app() {
    let Some(home) = std::env::var_os(HOME).map(PathBuf::from) else { return };
    let refused = File::open(home.join("unfinished.db")).map(drop).unwrap_err();
    assert!(refused.is_read_only(), "{refused}");
    assert!(refused.to_string().contains("no folder for temporary files can be written, of /tmp"), "{refused}");
    assert!(refused.to_string().contains("place::hand_in"), "{refused}");
    let [durable, cache, temporary] = ["durable", "cache", "temporary"].map(|name| home.join(name));
    place::hand_in(Folders { durable, cache, temporary }).unwrap();

    assert!(File::open(home.join("unfinished.db")).unwrap().check().unwrap().is_sound());
    let old = File::open(home.join("old.drawer")).unwrap();
    old.rehearse(&versions::schema(3)).unwrap();
    let drawer = Drawer::options().relaxed().open(home.join("kiln.drawer"), schema()).unwrap();
    Following::begin(home.join("kiln.drawer"), &Limits::default()).unwrap();
    // More than the engine sorts in memory.
    let large = |n: u32| common::Piece {
        remarks: format!("{:05}{}", n * 7_919 % 20_000, "x".repeat(1_000)),
        ..piece(&n.to_string())
    };
    drawer.insert_all((0..20_000).map(large)).unwrap();
    let sorted = drawer.records::<Piece>().sort_by(|p| p.remarks.descending()).collect().unwrap();
    assert!(sorted[0].remarks.starts_with("19999") && sorted.len() == 20_000);
    drawer.records::<Piece>().filter(|p| p.key().at_least(velvet_drawer::Key::from_number(2_000))).remove().unwrap();
    assert!(drawer.compact().unwrap().bytes < 10_000_000);
    drawer.close().unwrap();
    println!("all of it was done");
}
