//! Every way an open can go, and what closing says.

use crate::common;
use common::{Glaze, Piece, folder, glaze, other_program, piece, schema};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;
use velvet_drawer::{Drawer, Error, KeptFor, Record, Schema};

#[test]
fn the_file_and_the_folders_above_it_are_made_and_found_again() {
    let (_folder, path) = folder();
    let path = path.with_file_name("a").join("b").join("kiln.drawer");
    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(drawer.path(), Some(path.as_path()));
    drawer.insert(piece("K-1")).unwrap();
    drawer.close().unwrap();
    let names: Vec<_> = fs::read_dir(path.parent().unwrap()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(names, ["kiln.drawer"], "a closed drawer is one file");
    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(drawer.count::<Piece>().unwrap(), 1);
}

#[test]
fn one_file_is_one_database_however_it_is_named() {
    let (_folder, path) = folder();
    let link = path.with_file_name("link.drawer");
    #[cfg(unix)]
    std::os::unix::fs::symlink(&path, &link).unwrap();
    let by_link = Drawer::open(&link, schema()).unwrap();
    assert_eq!(by_link.path(), Some(path.as_path()), "a link to a file that was not there yet is followed");

    let round = path.parent().unwrap().join("..").join(path.parent().unwrap().file_name().unwrap()).join("kiln.drawer");
    let relative = round.strip_prefix("/").map(|p| Path::new("/").join(".").join(p)).unwrap();
    let others = [&path, &round, &relative].map(|p| Drawer::open(p, schema()).unwrap());
    by_link.write(|tx| tx.insert(piece("K-1"))).unwrap();
    for other in &others {
        assert_eq!(other.count::<Piece>().unwrap(), 1);
    }
    let refused = others[0].read(|_| Ok(by_link.insert(piece("K-2")).unwrap_err().is_nested()));
    assert!(refused.unwrap(), "two handles to one file know that they are the same");
}

#[test]
fn closing_says_what_is_still_in_use() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let other = drawer.clone();
    let line = line!() - 1;
    let error = drawer.close().unwrap_err();
    assert!(error.is_in_use());
    let place = format!("1 other handle in use, taken at {}:{line}", file!());
    assert!(error.to_string().contains(&place), "{error}");
    let opened = Drawer::open(&path, schema()).unwrap();
    let line = line!() - 1;
    assert!(other.close().unwrap_err().to_string().contains(&format!("taken at {}:{line}", file!())));
    let background = Drawer::options().open_in_background(&path, schema());
    let line = line!() - 1;
    let other = background.wait().unwrap();
    assert!(opened.close().unwrap_err().to_string().contains(&format!("taken at {}:{line}", file!())));
    other.insert(piece("K-1")).unwrap();
    other.close().unwrap();
    assert!(!path.with_file_name("kiln.drawer-wal").exists());
}

/// Makes a file that must be refused, and checks that it is left as it was.
#[track_caller]
fn refused(make: impl FnOnce(&Path), is: fn(&Error) -> bool, says: &str) {
    let (_folder, path) = folder();
    make(&path);
    let all = || {
        let files = fs::read_dir(path.parent().unwrap()).unwrap().map(|e| e.unwrap().path());
        let file = |path: PathBuf| (fs::read(&path).unwrap(), fs::metadata(&path).unwrap().modified().unwrap(), path);
        files.map(file).collect::<Vec<_>>()
    };
    let before = all();
    let error = Drawer::options().lock_timeout(Duration::ZERO).open(&path, schema()).unwrap_err();
    assert!(is(&error), "{error:?}");
    let message = error.to_string();
    assert!(message.contains(says) && message.contains("The file was left untouched"), "{message}");
    assert_eq!(error.file(), Some(path.as_path()));
    assert!(before == all(), "a file was touched, or something left beside it");
}

fn made(path: &Path, schema: Schema) {
    let drawer = Drawer::open(path, schema).unwrap();
    drawer.close().unwrap();
}

#[test]
fn files_that_are_not_ours_are_refused_untouched() {
    refused(
        |path| fs::write(path, "not a database, but text that is long enough to be one").unwrap(),
        Error::is_not_a_database,
        "the file is no database, or an encrypted one",
    );
    refused(
        |path| other_program(path).execute_batch("CREATE TABLE notes (text); INSERT INTO notes VALUES ('x')").unwrap(),
        Error::is_other_app,
        "the file is a database of another program (1 tables, indexes and views); the table `glaze` is missing; ",
    );
    refused(
        |path| made(path, Schema::new("weavers").record::<Glaze>()),
        Error::is_other_app,
        "it belongs to the app \"weavers\", not to \"kilnbook\"; the table `photo` is missing; ",
    );
    // In the middle of a write that was killed: the engine would take it back as soon as it opens the file.
    refused(
        |path| {
            let program = other_program(&path.with_file_name("running"));
            program
                .execute_batch("CREATE TABLE notes (text); PRAGMA cache_size = 2; BEGIN; INSERT INTO notes VALUES (hex(zeroblob(90000)))")
                .unwrap();
            for end in ["", "-journal"] {
                let of = |name: &str| path.with_file_name(format!("{name}{end}"));
                fs::copy(of("running"), of("kiln.drawer")).unwrap();
            }
        },
        Error::is_other_app,
        "the file is a database of another program (1 tables, indexes and views); the table `glaze` is missing; ",
    );
    refused(
        |path| {
            made(path, schema());
            other_program(path).pragma_update(None, "user_version", 7).unwrap();
            other_program(path).pragma_update(None, "journal_mode", "DELETE").unwrap();
        },
        Error::is_newer_version,
        "a newer app wrote it (version 7; this app knows up to 1)",
    );
    refused(
        |path| {
            made(path, schema());
            let mut bytes = fs::read(path).unwrap();
            bytes[100..].fill(0xa5);
            fs::write(path, bytes).unwrap();
        },
        Error::is_damaged,
        "the file is damaged",
    );
}

#[test]
fn a_view_that_never_ends_in_the_place_of_a_table_is_refused_and_not_run() {
    let (_folder, path) = folder();
    made(&path, schema());
    let tables: Vec<String> = {
        let program = other_program(&path);
        let mut names = program
            .prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
            .unwrap();
        names.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    assert!(tables.len() > 4, "{tables:?}");
    for table in tables {
        let crafted = path.with_file_name(format!("{table}.drawer"));
        std::fs::copy(&path, &crafted).unwrap();
        let program = other_program(&crafted);
        program.pragma_update(None, "foreign_keys", false).unwrap();
        program.pragma_update(None, "legacy_alter_table", true).unwrap();
        program
            .execute_batch(&format!(
                "ALTER TABLE {table} RENAME TO was;
                 CREATE VIEW {table} AS WITH RECURSIVE n(i, name, value) AS (SELECT 1, 'app', '' UNION ALL SELECT i + 1, name, value FROM n) \
                     SELECT * FROM n WHERE i < 0",
            ))
            .unwrap();
        // What opening would notice the change by says that there was none.
        let facts = if table == "velvet_about" { "was" } else { "velvet_about" };
        let count: i64 = program.query_row("PRAGMA schema_version", [], |row| row.get(0)).unwrap();
        program
            .execute(&format!("UPDATE {facts} SET value = ?1 WHERE name = 'structure_count'"), [count.to_string()])
            .unwrap();
        program.close().unwrap();
        let before = std::fs::read(&crafted).unwrap();
        let mut refusals = vec![
            Drawer::open(&crafted, schema()).unwrap_err(),
            Drawer::options().read_only().open(&crafted, schema()).unwrap_err(),
        ];
        if table == "velvet_about" {
            refusals.push(Drawer::restore(&path, &crafted).unwrap_err());
            assert!(Drawer::restore(&crafted, &path).unwrap().is_some(), "a sound copy takes its place");
        }
        for error in refusals {
            assert!(error.to_string().contains("not a table"), "{table}: {error}");
        }
        assert!(table == "velvet_about" || std::fs::read(&crafted).unwrap() == before);
    }
}

#[test]
fn another_structure_is_refused_with_the_differences() {
    mod old {
        use super::*;
        #[derive(Record)]
        pub(super) struct Piece {
            #[record(own_key)]
            pub mark: String,
            pub grams: Option<f64>,
            pub shelf: String,
        }
    }
    let (_folder, path) = folder();
    made(&path, Schema::new("kilnbook").record::<old::Piece>());
    let error = Drawer::open(&path, schema()).unwrap_err();
    assert!(error.is_other_structure());
    let message = error.to_string();
    for difference in [
        "`piece.stage` is declared but not in the file",
        "`piece.grams` is declared as u32, optional but is f64, optional in the file",
        "`piece.shelf` is in the file but not declared",
        "the table `glaze` is declared but not in the file",
    ] {
        assert!(message.contains(difference), "{message}");
    }
    // What another program changed besides is told too.
    other_program(&path).execute_batch("ALTER TABLE piece ADD COLUMN colour TEXT").unwrap();
    let message = Drawer::open(&path, schema()).unwrap_err().to_string();
    assert!(
        message.contains("by another program: `piece.colour`") && message.contains("`piece.stage` is declared"),
        "{message}"
    );
    assert!(
        message.contains("VELVET_HISTORY=record cargo test") && message.contains("set_aside_other_structure"),
        "{message}"
    );
}

#[test]
fn an_empty_file_is_a_start_that_was_interrupted() {
    let (_folder, path) = folder();
    fs::write(&path, "").unwrap();
    Drawer::open(&path, schema()).unwrap().insert(piece("K-1")).unwrap();
}

#[test]
fn a_folder_and_a_place_below_a_file_are_no_drawers() {
    let (folder, path) = folder();
    let error = Drawer::open(folder.path(), schema()).unwrap_err();
    assert!(error.is_file_missing());
    assert!(error.to_string().contains("the path is a folder. Nothing was created"), "{error}");
    fs::write(&path, "").unwrap();
    let error = Drawer::open(path.join("kiln.drawer"), schema()).unwrap_err();
    assert!(error.to_string().contains("the folder above the file cannot be created"), "{error}");
}

#[test]
fn a_lock_is_waited_for_and_then_named() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().lock_timeout(Duration::from_millis(50)).open(&path, schema()).unwrap();
    let mut other = other_program(&path);
    let transaction = other.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).unwrap();
    let error = drawer.insert(piece("K-1")).unwrap_err();
    assert!(error.is_locked());
    assert!(error.to_string().contains("another program holds the file"), "{error}");
    assert_eq!(drawer.count::<Piece>().unwrap(), 0, "reads go on beside a writer");
    drop(transaction);
    drawer.insert(piece("K-1")).unwrap();
}

#[test]
fn the_same_file_under_another_schema_is_refused_while_it_is_open() {
    let (_folder, path) = folder();
    let _open = Drawer::open(&path, schema()).unwrap();
    let error = Drawer::open(&path, Schema::new("kilnbook").record::<Glaze>()).unwrap_err();
    assert!(error.is_schema());
    assert!(error.to_string().contains("open in this process with another schema"), "{error}");
    let error = Drawer::open(&path, Schema::new("bakery").record::<Glaze>()).unwrap_err();
    assert!(error.to_string().contains("the app is \"bakery\", and was \"kilnbook\""), "{error}");
}

#[test]
fn options_that_would_not_take_effect_are_said() {
    let (_folder, path) = folder();
    let with_a_trail = || Drawer::options().trail(velvet_drawer::Trail::Keys);
    let open = Drawer::open(&path, schema()).unwrap();
    for (options, name) in [
        (with_a_trail(), "`trail`"),
        (Drawer::options().relaxed(), "`relaxed`"),
        (Drawer::options().files_root("elsewhere"), "`files_root`"),
        (Drawer::options().without_sessions().relaxed(), "`relaxed` and `without_sessions`"),
    ] {
        let error = options.open(&path, schema()).unwrap_err();
        assert!(
            error.is_in_use() && error.to_string().contains(&format!("otherwise than {name} would have it")),
            "{error}"
        );
    }
    drop(open);
    let open = with_a_trail().open(&path, schema()).unwrap();
    Drawer::open(&path, schema()).unwrap();
    with_a_trail().open(&path, schema()).unwrap();
    assert!(with_a_trail().trail_kept(5, Duration::from_secs(1)).open(&path, schema()).unwrap_err().is_in_use());
    drop(open);
}

#[test]
fn a_schema_that_is_not_sound_opens_nothing() {
    #[derive(Record)]
    struct Broken {
        #[record(default = u64::MAX)]
        number: u64,
        link: velvet_drawer::Key<Glaze>,
    }
    let (_folder, path) = folder();
    let schema = Schema::new("kilnbook").record::<Broken>().record::<Piece>().record::<Piece>();
    let error = Drawer::open(&path, schema).unwrap_err();
    assert!(error.is_schema());
    let message = error.to_string();
    assert!(message.contains("two records are stored in the table `piece`"), "{message}");
    assert!(message.contains("the default of `broken.number`: 18446744073709551615 is above"), "{message}");
    assert!(message.contains("`piece.glaze` links to the table `glaze`"), "{message}");
    assert!(!path.exists());
}

#[test]
fn a_drawer_is_removed_with_all_that_belongs_to_it_but_only_when_nobody_uses_it() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    assert!(Drawer::remove_from_device(&path).unwrap_err().is_in_use());
    drawer.close().unwrap();
    let other = other_program(&path);
    other.query_row("SELECT count(*) FROM piece", [], |_| Ok(())).unwrap();
    let error = Drawer::remove_from_device(&path).unwrap_err();
    assert!(error.is_in_use() && error.to_string().contains("Nothing was removed"), "{error}");
    drop(other);
    assert!(Drawer::remove_from_device(&path).unwrap());
    assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 0);
    assert!(!Drawer::remove_from_device(&path).unwrap());

    other_program(&path).execute_batch("CREATE TABLE notes (text)").unwrap();
    assert!(Drawer::remove_from_device(&path).unwrap_err().is_other_app());
    assert!(path.exists());
}

#[test]
fn drawers_in_memory_are_apart_and_pass_through_bytes() {
    let (one, two) = (common::memory(), common::memory());
    one.insert(piece("K-1")).unwrap();
    assert_eq!(two.count::<Piece>().unwrap(), 0);
    let copy = Drawer::from_bytes(&one.to_bytes().unwrap(), schema()).unwrap();
    copy.insert(piece("K-2")).unwrap();
    assert_eq!((one.count::<Piece>().unwrap(), copy.count::<Piece>().unwrap()), (1, 2));

    let (_folder, path) = folder();
    let file = Drawer::open(&path, schema()).unwrap();
    file.insert(glaze("Celadon")).unwrap();
    let bytes = file.to_bytes().unwrap();
    assert_eq!(Drawer::from_bytes(&bytes, schema()).unwrap().count::<Glaze>().unwrap(), 1);
    let error = Drawer::from_bytes(&bytes[..50], schema()).unwrap_err();
    assert!(error.is_not_a_database() || error.is_damaged(), "{error:?}");
    file.close().unwrap();
    let bytes = fs::read(&path).unwrap();
    assert_eq!(Drawer::from_bytes(&bytes, schema()).unwrap().count::<Glaze>().unwrap(), 1);
}

#[cfg(unix)]
#[test]
fn a_second_name_of_an_open_file_is_refused_and_dots_lead_to_the_same_one() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert(glaze("Celadon")).unwrap();
    let other = folder.path().join("other.drawer");
    std::fs::hard_link(&path, &other).unwrap();
    let error = Drawer::open(&other, schema()).unwrap_err();
    assert!(error.is_in_use() && error.to_string().contains("has the same file open by another name"), "{error}");
    assert!(error.to_string().contains(&format!("{}", path.canonicalize().unwrap().display())), "{error}");
    let dotted = folder.path().join("a..b/..").join(path.file_name().unwrap());
    assert_eq!(Drawer::open(dotted, schema()).unwrap().count::<Glaze>().unwrap(), 1);
    drawer.close().unwrap();
    let log = path.with_file_name("kiln.drawer-wal");
    assert!(Drawer::open(&log, schema()).unwrap_err().is_already_there() && !log.exists());
    // Another process may have it open under the other name.
    for name in [&path, &other] {
        let error = Drawer::open(name, schema()).unwrap_err();
        assert!(error.is_in_use() && error.to_string().contains("1 other name (hard links)"), "{error}");
    }
    // A name that a kill left of the library's own making does no harm.
    std::fs::rename(&other, path.with_file_name("kiln.set-aside-2026-11-25T09-30-00Z.drawer")).unwrap();
    assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Glaze>().unwrap(), 1);
}

#[cfg(unix)]
#[test]
fn in_a_folder_that_cannot_be_written_the_folder_is_named() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    use std::os::unix::process::CommandExt;
    if let Some(folder) = std::env::var_os("FOLDER_OF_OTHERS") {
        for name in ["there.drawer", "new.drawer", "sub/new.drawer", "file_of_others/there.drawer"] {
            match Drawer::open(Path::new(&folder).join(name), schema()) {
                Ok(drawer) => {
                    println!("{name}: {:?}, {}", drawer.count::<Glaze>(), drawer.insert(glaze("b")).unwrap_err())
                }
                Err(error) => println!("{name}: {:?} {error}", error.is_read_only()),
            }
        }
        let there = Path::new(&folder).join("there.drawer");
        let only_read = Drawer::options().read_only().open(&there, schema()).unwrap_err();
        println!("only to be read: {:?} {only_read}", only_read.is_read_only());
        println!("looked into: {:?}", velvet_drawer::inspect::File::open(there).unwrap().check().unwrap().is_sound());
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let allow =
        |name: &str, mode| fs::set_permissions(folder.path().join(name), fs::Permissions::from_mode(mode)).unwrap();
    fs::create_dir_all(folder.path().join("others/file_of_others")).unwrap();
    for name in ["others/there.drawer", "others/file_of_others/there.drawer"] {
        Drawer::open(folder.path().join(name), schema()).unwrap().insert(glaze("a")).unwrap();
        allow(name, 0o444);
    }
    // Nothing is refused to the superuser, so another user runs this.
    let exe = folder.path().join("exe");
    fs::copy(std::env::current_exe().unwrap(), &exe).unwrap();
    let mut command = std::process::Command::new(exe);
    if folder.path().metadata().unwrap().uid() == 0 {
        command.uid(65_534).gid(65_534);
    }
    for (name, mode) in [("", 0o755), ("others/file_of_others", 0o777), ("others", 0o555)] {
        allow(name, mode);
    }
    let test = "in_a_folder_that_cannot_be_written_the_folder_is_named";
    let said =
        command.args([test, "--nocapture"]).env("FOLDER_OF_OTHERS", folder.path().join("others")).output().unwrap();
    allow("others", 0o755);
    let said = String::from_utf8(said.stdout).unwrap();
    let refused = "cannot open the drawer: the file or its folder cannot be written";
    let deep = (0..6).fold(folder.path().to_owned(), |path, _| path.join("b".repeat(100)));
    fs::create_dir_all(&deep).unwrap();
    let too_long = Drawer::open(deep.join("kiln.drawer"), schema()).unwrap_err().to_string();
    assert!(too_long.contains("bytes, and the engine opens up to 504"), "{too_long}");
    let too_long = Drawer::open(folder.path().join("a".repeat(300)), schema()).unwrap_err().to_string();
    assert!(too_long.contains("File name too long"), "{too_long}");
    for expected in [
        format!("there.drawer: true {refused}"),
        format!("new.drawer: true {refused}"),
        "sub/new.drawer: true cannot open the drawer: the folder above the file cannot be created: Permission denied"
            .into(),
        "only to be read: true cannot open the drawer: what belongs to the file while it is read cannot be put beside it (Permission denied (os error 13))".into(),
        "looked into: true".into(),
        "file_of_others/there.drawer: Ok(1), cannot insert a glaze: the file or its folder cannot be written".into(),
    ] {
        assert!(said.contains(&expected), "{expected}\n{said}");
    }
}

#[test]
fn folders_can_be_handed_in_once() {
    if !common::is_alone("opening::folders_can_be_handed_in_once") {
        return;
    }
    use velvet_drawer::place::{self, Folders};
    let folders = |root: &str| Folders {
        durable: format!("{root}/files").into(),
        cache: format!("{root}/cache").into(),
        temporary: format!("{root}/tmp").into(),
    };
    for name in ["", "..", "../kilnbook", "kilnbook/../..", "/etc", ".", "a\0b"] {
        let error = place::durable(name).unwrap_err();
        assert!(
            error.is_file_missing() && error.to_string().contains(&format!("{name:?} is no name of a folder")),
            "{error}"
        );
    }
    assert!(place::cache("studio/kiln..book").unwrap().ends_with("studio/kiln..book"));
    assert!(place::durable("kilnbook").unwrap().ends_with("kilnbook"));
    assert_ne!(place::durable("kilnbook").unwrap(), place::cache("kilnbook").unwrap());
    place::hand_in(folders("/data/app")).unwrap();
    place::hand_in(folders("/data/app")).unwrap();
    assert!(place::hand_in(folders("/data/other")).unwrap_err().is_in_use());
    assert_eq!(place::durable("kilnbook").unwrap(), Path::new("/data/app/files"));
    assert_eq!(place::temporary("kilnbook").unwrap(), Path::new("/data/app/tmp"));
}

/// A drawer at a path that was upgraded, and of which a file was set aside; with a stranger's file and one of another drawer beside it.
fn with_copies(path: &std::path::Path) {
    let old = Drawer::open(path, common::versions::schema(1)).unwrap();
    old.insert(common::versions::v1::Piece { mark: "K-1".into(), wt: None, glaze: String::new(), sketch: vec![] })
        .unwrap();
    old.close().unwrap();
    Drawer::open(path, common::versions::schema(3)).unwrap().close().unwrap();
    let newest = || Drawer::options().set_aside_newer_version().open(path, common::versions::schema(1)).unwrap();
    newest().close().unwrap();
    std::fs::write(path.with_file_name("kiln.velvet-unfinished-copy.drawer"), "half").unwrap();
    for name in ["kiln.at-version-x.drawer", "kiln2.at-version-1.drawer", "kiln.at-version-1.txt"] {
        std::fs::write(path.with_file_name(name), "not ours").unwrap();
    }
}

#[test]
fn a_drawer_that_is_removed_leaves_no_copy_of_its_data() {
    let (folder, path) = folder();
    with_copies(&path);
    let copies = Drawer::kept_copies(&path).unwrap();
    let reasons: Vec<_> = copies.iter().map(|c| c.reason).collect();
    assert!(
        reasons.contains(&KeptFor::SetAside) && reasons.contains(&KeptFor::Upgrade(1)) && reasons.len() == 2,
        "{copies:?}"
    );
    let open = Drawer::open(&copies[0].path, common::versions::schema(3)).unwrap();
    let error = Drawer::remove_from_device(&path).unwrap_err();
    assert!(error.is_in_use() && error.to_string().contains("the copy "), "{error}");
    open.close().unwrap();
    assert!(path.exists());
    assert!(Drawer::remove_but_keep_copies(&path).unwrap());
    assert!(!path.exists() && Drawer::kept_copies(&path).unwrap().len() == 2);
    assert!(Drawer::remove_from_device(&path).unwrap(), "the copies of a drawer that is gone");
    let mut left: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    left.sort();
    assert_eq!(left, ["kiln.at-version-1.txt", "kiln.at-version-x.drawer", "kiln2.at-version-1.drawer"]);
    assert!(!Drawer::remove_from_device(&path).unwrap());
}

#[test]
fn copies_are_bounded_in_number_and_age() {
    let (_folder, path) = folder();
    let day = std::time::Duration::from_secs(24 * 60 * 60);
    let schema = common::versions::schema;
    let upgrade = |options: velvet_drawer::Options, mark: &str| {
        let _ = std::fs::remove_file(&path);
        let old = Drawer::open(&path, schema(1)).unwrap();
        old.insert(common::versions::v1::Piece { mark: mark.into(), wt: None, glaze: String::new(), sketch: vec![] })
            .unwrap();
        old.close().unwrap();
        options.open(&path, schema(3)).unwrap().close().unwrap();
        Drawer::kept_copies(&path).unwrap().len()
    };
    let counts: Vec<usize> = (0..5).map(|n| upgrade(Drawer::options(), &n.to_string())).collect();
    assert_eq!(counts, [1, 2, 3, 3, 3]);
    assert_eq!(upgrade(Drawer::options().copies_kept(1, day), "six"), 1);
    // By age only what is not the newest of its version, and never by one reading of a clock that is wrong.
    assert_eq!(upgrade(Drawer::options(), "seven"), 2);
    let mut days = 0;
    let mut start_after = |ahead: u32| {
        days += ahead;
        let now = jiff::Timestamp::now() + days * day;
        let drawer = Drawer::options().clock(move || now).open(&path, schema(3)).unwrap();
        // Age is looked at next to the app.
        let counted = || -> Option<String> {
            let text = "SELECT value FROM velvet_about WHERE name = 'counted_time'";
            other_program(&path).query_row(text, [], |row| row.get(0)).ok()
        };
        while !counted().is_some_and(|counted| counted.starts_with(&now.as_second().to_string())) {
            std::thread::yield_now();
        }
        drawer.close().unwrap();
        Drawer::kept_copies(&path).unwrap().len()
    };
    assert_eq!([start_after(0), start_after(300), start_after(0)], [2, 2, 2]);
    assert_eq!((0..40).map(|_| start_after(6)).last(), Some(1));
}

#[test]
fn a_copy_is_restored_whole_with_what_stood_there_set_aside() {
    let (folder, path) = folder();
    with_copies(&path);
    let copies = Drawer::kept_copies(&path).unwrap();
    let before_upgrade = &copies.iter().find(|c| c.reason == KeptFor::Upgrade(1)).unwrap().path;
    // What is newest still stands in the log of a drawer that nobody closed.
    other_program(&path).execute_batch("INSERT INTO piece (mark, glaze, sketch) VALUES ('newest', '', x'')").unwrap();
    let refused = |from: &std::path::Path, says: &str| {
        let error = Drawer::restore(&path, from).unwrap_err();
        assert!(
            error.to_string().contains(says) && error.to_string().contains("The file was left as it was"),
            "{error}"
        );
    };
    let other = |name: &str| folder.path().join(name);
    refused(&other("nowhere"), "the copy does not exist");
    refused(&other("kiln.at-version-x.drawer"), "is no database");
    refused(&path, "the copy is the file itself");
    Drawer::open(other("weavers.drawer"), Schema::new("weavers").record::<Glaze>()).unwrap().close().unwrap();
    refused(&other("weavers.drawer"), "the copy belongs to the app \"weavers\", and the file to \"kilnbook\"");
    let mut damaged = std::fs::read(before_upgrade).unwrap();
    damaged[8192..12_288].fill(0x5a);
    std::fs::write(other("damaged.drawer"), damaged).unwrap();
    refused(&other("damaged.drawer"), "damaged");
    let open = Drawer::open(&path, common::versions::schema(1)).unwrap();
    refused(before_upgrade, "it is open in this process");
    open.close().unwrap();
    let elsewhere = other_program(&path);
    elsewhere.execute_batch("BEGIN; SELECT count(*) FROM piece").unwrap();
    refused(before_upgrade, "another process has it open");
    drop(elsewhere);

    let aside = Drawer::restore(&path, before_upgrade).unwrap().unwrap();
    assert!(Drawer::kept_copies(&path).unwrap().iter().any(|c| c.path == aside));
    let drawer = Drawer::open(&path, common::versions::schema(1)).unwrap();
    assert_eq!(drawer.records::<common::versions::v1::Piece>().only(|p| p.mark).collect().unwrap(), ["K-1"]);
    drawer.close().unwrap();
    let drawer = Drawer::open(&aside, common::versions::schema(1)).unwrap();
    assert_eq!(drawer.records::<common::versions::v1::Piece>().only(|p| p.mark).collect().unwrap(), ["newest"]);
    drawer.close().unwrap();
    // Also where nothing stands, and where what stands there is damaged.
    Drawer::remove_but_keep_copies(&path).unwrap();
    assert_eq!(Drawer::restore(&path, before_upgrade).unwrap(), None);
    std::fs::write(&path, "damaged beyond its first page").unwrap();
    let aside = Drawer::restore(&path, before_upgrade).unwrap().unwrap();
    assert_eq!(std::fs::read(aside).unwrap(), b"damaged beyond its first page");
    assert_eq!(
        Drawer::open(&path, common::versions::schema(1)).unwrap().count::<common::versions::v1::Piece>().unwrap(),
        1
    );
}
