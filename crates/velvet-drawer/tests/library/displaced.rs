//! What happens where the file of an open drawer is deleted, moved, replaced or upgraded by others, or the process forks.

use crate::common;
use common::versions::{self, v1};
use common::{Piece, folder, other_program, piece, schema};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::{File, Page};
use velvet_drawer::{Drawer, Error, KeptFor};

fn companion(path: &Path, end: &str) -> PathBuf {
    PathBuf::from(format!("{}{end}", path.display()))
}

/// The marks of all pieces in a file, as another reader of the format sees them.
fn marks(path: &Path) -> Vec<String> {
    let program = other_program(path);
    let mut statement = program.prepare("SELECT mark FROM Piece ORDER BY rowid").unwrap();
    statement.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
}

fn set_aside(path: &Path) -> Vec<PathBuf> {
    let kept = Drawer::kept_copies(path).unwrap();
    assert!(kept.iter().all(|copy| copy.reason == KeptFor::SetAside));
    kept.into_iter().map(|copy| copy.path).collect()
}

/// A drawer that holds K-1 and K-2, and a copy beside it from when it held K-1 only.
fn with_copy(path: &Path) -> (Drawer, PathBuf) {
    let drawer = Drawer::open(path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    let copy = path.with_file_name("restored");
    drawer.copy_to(&copy).unwrap();
    drawer.insert(piece("K-2")).unwrap();
    (drawer, copy)
}

/// Sees that the drawer writes nothing any more, and that it and its closing say why and where all that it held is.
fn is_over(drawer: Drawer, path: &Path) {
    let says = |error: &Error| {
        assert!(error.is_displaced(), "{error}");
        assert_eq!(error.file(), Some(path));
        let kept = set_aside(path);
        assert_eq!(kept.len(), 1);
        assert!(error.to_string().contains(kept[0].to_str().unwrap()), "{error}");
    };
    says(&drawer.insert(piece("K-3")).unwrap_err());
    says(&drawer.write(|tx| tx.insert(piece("K-4"))).unwrap_err());
    says(&drawer.read(|view| view.count::<Piece>()).unwrap_err());
    says(&Drawer::open(path, schema()).unwrap_err());
    assert_eq!(drawer.count::<Piece>().unwrap(), 2, "what it held can still be read");
    says(&drawer.close().unwrap_err());
    assert_eq!(marks(&set_aside(path)[0]), ["K-1", "K-2"]);
}

#[test]
fn a_file_that_is_deleted_or_moved_is_noticed_kept_and_not_created_again() {
    for is_moved in [false, true] {
        let (_folder, path) = folder();
        let (drawer, _) = with_copy(&path);
        match is_moved {
            true => fs::rename(&path, path.with_file_name("moved")).unwrap(),
            false => fs::remove_file(&path).unwrap(),
        }
        is_over(drawer, &path);
        assert!(!path.exists() && !companion(&path, "-wal").exists() && !companion(&path, "-shm").exists());
        Drawer::restore(&path, &set_aside(&path)[0]).unwrap();
        assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Piece>().unwrap(), 2);
    }
}

#[test]
fn a_file_that_is_put_in_place_of_another_stays_as_it_is() {
    // Noticed by a transaction, by closing, by dropping.
    for noticed_by in 0..3 {
        let (_folder, path) = folder();
        let (drawer, copy) = with_copy(&path);
        fs::rename(&copy, &path).unwrap();
        match noticed_by {
            0 => is_over(drawer, &path),
            1 => assert!(drawer.close().unwrap_err().is_displaced()),
            _ => drop(drawer),
        }
        assert_eq!(marks(&path), ["K-1"]);
        assert_eq!(marks(&set_aside(&path)[0]), ["K-1", "K-2"]);
        let drawer = Drawer::open(&path, schema()).unwrap();
        assert_eq!((drawer.count::<Piece>().unwrap(), drawer.opened().log_set_aside.as_ref()), (1, None));
        drawer.insert(piece("K-5")).unwrap();
        drawer.close().unwrap();
        assert_eq!(marks(&path), ["K-1", "K-5"]);
    }
}

#[test]
fn where_the_folder_is_gone_the_drawer_can_still_be_copied_elsewhere() {
    let (root, path) = folder();
    let inner = path.with_file_name("app").join("kiln.drawer");
    let (drawer, _) = with_copy(&inner);
    fs::remove_dir_all(inner.parent().unwrap()).unwrap();
    let error = drawer.insert(piece("K-3")).unwrap_err();
    assert!(error.is_displaced() && error.to_string().contains("Drawer::copy_to"), "{error}");
    let rescued = root.path().join("rescued");
    drawer.copy_to(&rescued).unwrap();
    assert!(drawer.close().unwrap_err().is_displaced());
    assert_eq!(marks(&rescued), ["K-1", "K-2"]);
    assert!(!inner.parent().unwrap().exists());
}

#[test]
fn where_only_the_log_is_gone_what_was_acknowledged_is_in_the_file() {
    let (_folder, path) = folder();
    let (drawer, _) = with_copy(&path);
    fs::remove_file(companion(&path, "-wal")).unwrap();
    let error = drawer.insert(piece("K-3")).unwrap_err();
    assert!(error.is_displaced() && error.to_string().contains("is in the file"), "{error}");
    assert!(drawer.close().unwrap_err().is_displaced());
    assert_eq!(marks(&path), ["K-1", "K-2"]);
    assert_eq!(set_aside(&path), [""; 0].map(PathBuf::from));
}

#[test]
fn the_log_of_an_app_that_was_killed_is_not_laid_over_a_copy_that_was_put_in_its_place() {
    for sessions_before in [0, 1, 4] {
        let (_folder, path) = folder();
        for n in 0..sessions_before {
            let drawer = Drawer::open(&path, schema()).unwrap();
            drawer.insert(piece(&format!("{n}"))).unwrap();
            drawer.close().unwrap();
        }
        let (drawer, copy) = with_copy(&path);
        let killed = path.with_file_name("killed.drawer");
        // What a kill leaves: the file and its log, as they are at this moment.
        for end in ["", "-wal", "-shm"] {
            fs::copy(companion(&path, end), companion(&killed, end)).unwrap();
        }
        drawer.close().unwrap();
        let before = marks(&copy);
        fs::rename(&copy, &killed).unwrap();
        let (file, log) = (fs::read(&killed).unwrap(), fs::read(companion(&killed, "-wal")).unwrap());
        let refused = Drawer::open(&killed, schema()).unwrap_err();
        assert!(refused.is_foreign_log() && !refused.is_damaged(), "{refused}");
        assert!(fs::read(&killed).unwrap() == file && fs::read(companion(&killed, "-wal")).unwrap() == log);
        let answered = || Drawer::options().set_aside_foreign_log().open(&killed, schema());
        let drawer = answered().unwrap();
        let aside = drawer.opened().log_set_aside.clone().expect("the log was set aside");
        let kept = set_aside(&killed);
        assert!(kept.len() == 2 && kept.contains(&aside) && fs::read(&aside).unwrap() == log);
        let copy = kept.iter().find(|place| **place != aside).unwrap();
        assert!(fs::read(copy).unwrap() == file, "the file is kept as it was");
        drawer.close().unwrap();
        assert_eq!(marks(&killed), before);
        assert_eq!(Drawer::open(&killed, schema()).unwrap().opened().log_set_aside, None, "it was answered");
        let refused = Drawer::bring_back_log(&killed, &aside).unwrap_err();
        assert!(refused.is_foreign_log() && marks(&killed) == before, "{refused}");
        assert!(Drawer::remove_from_device(&killed).unwrap());
        assert_eq!(set_aside(&killed), [""; 0].map(PathBuf::from), "the log too");
    }
}

#[test]
fn a_log_that_somebody_has_open_is_left_to_them_whatever_it_looks_like() {
    let (_folder, path) = folder();
    let (drawer, _) = with_copy(&path);
    let other = path.with_file_name("other.drawer");
    for end in ["", "-wal"] {
        fs::copy(companion(&path, end), companion(&other, end)).unwrap();
    }
    drawer.close().unwrap();
    let mut bytes = fs::read(&other).unwrap();
    // As it looks to whoever reads it while it is written over: its count is none that the log goes on from.
    for at in velvet_core::file::header::Header::COUNT_AT {
        bytes[at..at + 4].copy_from_slice(&(u32::MAX - 5).to_be_bytes());
    }
    fs::write(&other, bytes).unwrap();
    let program = other_program(&other);
    let count = || program.query_row("SELECT count(*) FROM piece", [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(count(), 2);
    let log = fs::metadata(companion(&other, "-wal")).unwrap().len();
    let drawer = Drawer::open(&other, schema()).unwrap();
    assert!(log > 0 && drawer.opened().log_set_aside.is_none());
    drawer.insert(piece("K-3")).unwrap();
    assert_eq!((drawer.count::<Piece>().unwrap(), count()), (3, 3));
    drawer.close().unwrap();
    assert_eq!((count(), set_aside(&other)), (3, vec![]));
}

#[test]
fn an_app_whose_file_a_newer_one_upgrades_writes_nothing_more() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, versions::schema(1)).unwrap();
    let piece = |mark: &str| v1::Piece { mark: mark.into(), wt: None, glaze: String::new(), sketch: vec![] };
    let key = drawer.insert(piece("K-1")).unwrap().key();
    assert_eq!(drawer.records::<v1::Piece>().collect().unwrap().len(), 1);
    // Under a second name the same file would be refused, so another process upgrades it.
    let upgrade = std::process::Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "displaced::the_newer_app", "--nocapture"])
        .env("VELVET_TEST_UPGRADES", &path)
        .status();
    assert!(upgrade.unwrap().success());
    let before = fs::read(&path).unwrap();
    let refusals = [
        drawer.insert(piece("K-2")).unwrap_err(),
        drawer.write(|tx| tx.remove(key)).unwrap_err(),
        drawer.records::<v1::Piece>().update(|p| p.glaze.set("Shino")).unwrap_err(),
        drawer.remove_all::<v1::Photo>().unwrap_err(),
        drawer.read(|view| view.count::<v1::Piece>()).unwrap_err(),
        drawer.get(key).unwrap_err(),
        drawer.records::<v1::Piece>().collect().unwrap_err(),
    ];
    for error in refusals {
        assert!(error.is_newer_version() && error.to_string().contains("version 3"), "{error}");
    }
    drawer.close().unwrap();
    assert!(fs::read(&path).unwrap() == before || !companion(&path, "-wal").exists());
    let drawer = Drawer::open(&path, versions::schema(3)).unwrap();
    assert_eq!(drawer.count::<versions::v3::Piece>().unwrap(), 1);
}

/// The other process of the test above; nothing where this is run as an ordinary test.
#[test]
fn the_newer_app() {
    let Ok(path) = std::env::var("VELVET_TEST_UPGRADES") else { return };
    Drawer::open(path, versions::schema(3)).unwrap().close().unwrap();
}

#[cfg(unix)]
#[test]
fn a_fork_neither_writes_nor_closes_what_its_parent_has_open() {
    if !common::is_alone("displaced::a_fork_neither_writes_nor_closes_what_its_parent_has_open") {
        return;
    }
    let (_folder, path) = folder();
    let (drawer, _) = with_copy(&path);
    match fork::fork().unwrap() {
        fork::Fork::Child => {
            let later = drawer.later(|d| d.count::<Piece>()).wait();
            assert!(later.is_err(), "it does not wait for threads that the child does not have");
            let refused = drawer.insert(piece("K-3")).is_err_and(|error| error.is_in_use());
            drop(drawer);
            std::process::exit(if refused { 0 } else { 1 });
        }
        fork::Fork::Parent(child) => assert_eq!(fork::waitpid(child).unwrap(), 0),
    }
    drawer.insert(piece("K-4")).unwrap();
    drawer.close().unwrap();
    assert_eq!(marks(&path), ["K-1", "K-2", "K-4"]);
}

#[test]
fn a_file_that_was_cut_to_nothing_keeps_the_log_that_may_hold_everything() {
    for bytes in 0..2 {
        let (_folder, path) = folder();
        let (drawer, _) = with_copy(&path);
        let cut = path.with_file_name("cut.drawer");
        fs::copy(companion(&path, "-wal"), companion(&cut, "-wal")).unwrap();
        fs::write(&cut, vec![b'S'; bytes]).unwrap();
        drawer.close().unwrap();
        let log = fs::read(companion(&cut, "-wal")).unwrap();
        for error in [
            velvet_drawer::inspect::File::open(&cut).map(drop).unwrap_err(),
            Drawer::open(&cut, schema()).map(drop).unwrap_err(),
        ] {
            assert!(error.is_damaged() && error.to_string().contains("something in the write-ahead log"), "{error}");
            assert!(fs::read(companion(&cut, "-wal")).unwrap() == log, "the log is as it was");
        }
        let drawer = Drawer::options().set_aside_unreadable().open(&cut, schema()).unwrap();
        let aside = drawer.opened().set_aside.clone().unwrap();
        assert!(fs::read(companion(&aside, "-wal")).unwrap() == log);
        assert_eq!(drawer.count::<Piece>().unwrap(), 0);
    }
    // Where the file is gone, its log is kept too; where nothing is in the log, nothing is asked.
    let (_folder, path) = folder();
    fs::write(companion(&path, "-wal"), [7; 5_000]).unwrap();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    let (drawer, _) = with_copy(&path);
    let alone = path.with_file_name("alone.drawer");
    fs::copy(companion(&path, "-wal"), companion(&alone, "-wal")).unwrap();
    drawer.close().unwrap();
    let log = fs::read(companion(&alone, "-wal")).unwrap();
    let refused = Drawer::open(&alone, schema()).unwrap_err();
    assert!(refused.is_foreign_log() && !alone.exists() && fs::read(companion(&alone, "-wal")).unwrap() == log);
    let drawer = Drawer::options().set_aside_foreign_log().open(&alone, schema()).unwrap();
    assert!(fs::read(drawer.opened().log_set_aside.clone().unwrap()).unwrap() == log);
    drop(drawer);
    assert!(Drawer::remove_from_device(&alone).unwrap() && set_aside(&alone).is_empty());
}

#[test]
fn a_log_that_was_set_aside_is_answered_for_before_the_file_is_opened_and_can_be_brought_back() {
    let (_folder, path) = folder();
    let (drawer, _) = with_copy(&path);
    let killed = path.with_file_name("killed.drawer");
    for end in ["", "-wal"] {
        fs::copy(companion(&path, end), companion(&killed, end)).unwrap();
    }
    drawer.close().unwrap();
    // As earlier versions did of themselves.
    let aside = path.with_file_name("killed.set-aside-2026-11-25T09-30-00Z.drawer-wal");
    fs::rename(companion(&killed, "-wal"), &aside).unwrap();
    let refused = Drawer::open(&killed, schema()).unwrap_err();
    assert!(refused.is_foreign_log() && refused.to_string().contains(aside.to_str().unwrap()), "{refused}");
    let file = velvet_drawer::inspect::File::open(&killed).unwrap();
    let names = |text: &str| text.contains(aside.to_str().unwrap()) && text.contains("transactions");
    assert!(file.notes().unwrap().iter().any(|note| names(note)));
    assert!(file.check().unwrap().problems.iter().any(|problem| names(&problem.what)));
    let salvaged =
        velvet_drawer::inspect::salvage(&killed, path.with_file_name("salvaged"), &Default::default()).unwrap();
    assert!(!salvaged.is_whole() && salvaged.lost.iter().any(|what| names(what)));
    drop(file);
    let kept = Drawer::bring_back_log(&killed, &aside).unwrap().unwrap();
    assert_eq!(marks(&killed), ["K-1", "K-2"]);
    assert!(kept.exists() && !aside.exists() && set_aside(&killed).len() == 2, "the file without it, and the log");
    Drawer::open(&killed, schema()).unwrap().close().unwrap();
    // One in which nothing counts is nobody's.
    fs::write(&aside, [7; 5_000]).unwrap();
    Drawer::open(&killed, schema()).unwrap().close().unwrap();
    assert!(Drawer::bring_back_log(&killed, &aside).unwrap_err().to_string().contains("no transaction"));
}

/// What a kill leaves of an open drawer, at another path.
fn as_after_a_kill(path: &Path, name: &str) -> PathBuf {
    let killed = path.with_file_name(name);
    for end in ["", "-wal", "-shm"] {
        fs::copy(companion(path, end), companion(&killed, end)).unwrap();
    }
    killed
}

#[test]
fn looking_into_a_file_never_keeps_the_own_drawer_from_writing_to_it() {
    let (_folder, path) = folder();
    let (running, _) = with_copy(&path);
    let killed = as_after_a_kill(&path, "killed.drawer");
    running.close().unwrap();
    let look = File::open(&killed).unwrap();
    let rows = |look: &File| look.count(&look.table("piece").unwrap(), &Page::default()).unwrap();
    assert_eq!(rows(&look), 2);
    let drawer = Drawer::open(&killed, schema()).unwrap();
    drawer.insert(piece("K-3")).unwrap();
    assert_eq!(rows(&look), 3, "it goes on, next to the drawer");
    drawer.close().unwrap();
    assert!(!companion(&killed, "-wal").exists(), "the look does not keep the log from being merged");
    assert_eq!(rows(&look), 3);
    drop(look);
    assert_eq!(marks(&killed), ["K-1", "K-2", "K-3"]);
}

#[test]
fn opening_beside_looks_restoring_and_removing_in_one_process_gives_a_drawer_that_can_be_written() {
    let (_folder, path) = folder();
    let (running, copy) = with_copy(&path);
    let is_done = AtomicBool::new(false);
    thread::scope(|scope| {
        for n in 0..2 {
            let (place, is_done, copy) = (as_after_a_kill(&path, &format!("killed-{n}.drawer")), &is_done, &copy);
            let looked_at = place.clone();
            scope.spawn(move || {
                while !is_done.load(Ordering::Relaxed) {
                    let looked = File::open(&looked_at).and_then(|file| file.overview());
                    if n == 1 {
                        let _ = (looked, Drawer::restore(&looked_at, copy), Drawer::remove_from_device(&looked_at));
                    }
                }
            });
            scope.spawn(move || {
                for round in 0..60 {
                    let drawer = loop {
                        match Drawer::open(&place, schema()) {
                            Ok(drawer) => break drawer,
                            Err(error) => assert!(n == 1 && (error.is_locked() || error.is_in_use()), "{error}"),
                        }
                    };
                    drawer.insert(piece(&format!("{n}-{round}"))).unwrap();
                    assert!(drawer.records::<Piece>().filter(|p| p.mark.is(&format!("{n}-{round}"))).any().unwrap());
                    drawer.close().unwrap();
                }
                is_done.store(true, Ordering::Relaxed);
            });
        }
    });
    drop(running);
}

/// Overwrites a file as `cp` does: it stays the same file.
fn overwrite(path: &Path, with: &[u8]) {
    use std::io::Write;
    fs::File::options().write(true).truncate(true).open(path).unwrap().write_all(with).unwrap();
}

#[test]
fn a_file_that_is_overwritten_in_place_is_noticed_before_anything_is_acknowledged() {
    let (_folder, other) = folder();
    for session in 0..8 {
        let drawer = Drawer::open(&other, schema()).unwrap();
        drawer.insert_all((0..60).map(|n| piece(&format!("{session} {n}")))).unwrap();
        drawer.close().unwrap();
    }
    let of_more_sessions = fs::read(&other).unwrap();
    // An older state of it, by `cp`; a complete copy by the library; nothing; the beginning of another program's file; another file of the app.
    for (with, in_background) in (0..5).flat_map(|with| [(with, false), (with, true)]) {
        // Where no log says what the engine wrote, only the header's count tells, which says nothing of an encrypted file.
        let is_encrypted = std::env::var_os(common::WITH_KEYS).is_some();
        if in_background && (with == 4 || with < 2 && is_encrypted) || with == 4 && is_encrypted {
            continue;
        }
        let (_folder, path) = folder();
        let drawer = Drawer::open(&path, schema()).unwrap();
        drawer.insert(piece("K-1")).unwrap();
        drawer.close().unwrap();
        let older = fs::read(&path).unwrap();
        let drawer = Drawer::open(&path, schema()).unwrap();
        for n in 2..40 {
            drawer.insert(piece(&format!("K-{n}"))).unwrap();
        }
        let copy = path.with_file_name("copy");
        drawer.copy_to(&copy).unwrap();
        let there =
            [older, fs::read(&copy).unwrap(), Vec::new(), b"GIF89a and so on".repeat(1_000), of_more_sessions.clone()]
                [with]
                .clone();
        if in_background {
            drawer.going_to_background(Duration::from_secs(30)).unwrap();
        } else {
            // Merged now and then, as by the log's own bound.
            other_program(&path).execute_batch("PRAGMA wal_checkpoint(PASSIVE)").unwrap();
            drawer.insert_all(["K-40", "K-41"].map(piece)).unwrap();
            drawer.insert(piece("K-42")).unwrap();
        }
        overwrite(&path, &there);
        for _ in 0..2 {
            let error = drawer.insert(piece("lost")).unwrap_err();
            assert!(error.is_displaced() && error.to_string().contains("overwrote"), "{with} {in_background}: {error}");
        }
        drop(drawer);
        assert!(fs::read(&path).unwrap() == there, "{with} {in_background}: the file that is there now is left alone");
        let opened = Drawer::open(&path, schema());
        match (with, in_background) {
            (0 | 1, true) => assert_eq!(opened.unwrap().count::<Piece>().unwrap(), if with == 0 { 1 } else { 39 }),
            (2, true) => assert!(opened.unwrap().opened().created),
            (_, true) => assert!(opened.is_err_and(|error| error.is_not_a_database() || is_encrypted)),
            // What is only in the log is kept, and the app has to answer for it.
            (_, false) => assert!(opened.unwrap_err().is_foreign_log(), "{with}"),
        }
    }
}
