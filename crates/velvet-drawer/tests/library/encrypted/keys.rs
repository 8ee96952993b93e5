//! The keys of files: wrong, lost, changed.

use super::*;

#[test]
fn whatever_is_wrong_with_a_key_is_an_error_of_its_own_and_the_file_stays_as_it_is() {
    let (folder, path) = folder();
    let store = Store::default();
    let key = FileKey::kept_by(store.clone());
    let open = |key: &FileKey| with(key).without_sessions().open(&path, schema());
    type Is = fn(&Error) -> bool;
    let refused = |opened: Result<Drawer, Error>, is: Is, says: &str, untouched: &str| {
        let error = opened.unwrap_err();
        assert!(is(&error) && error.to_string().contains(says) && error.to_string().contains(untouched), "{error}");
    };
    for (state, is, says) in [
        (LOCKED, Error::is_key_locked as Is, "it is locked"),
        (FORGETFUL, Error::is_key_missing, "which does not have it now"),
    ] {
        store.state.store(state, Relaxed);
        refused(open(&key), is, says, "The file was left untouched");
        assert_eq!(contents(folder.path()), BTreeMap::new());
    }
    store.state.store(0, Relaxed);
    open(&key).unwrap().insert(client(1)).unwrap();
    let before = contents(folder.path());
    let others = FileKey::of_bytes(SecretKey::from_bytes([9; 32]));
    let phrase = FileKey::of_pass_phrase(PassPhrase::new("four pots").cost(8, 1));
    for (state, key, is, says) in [
        (LOCKED, &key, Error::is_key_locked as Is, "Try again once the device is unlocked"),
        (BROKEN, &key, Error::is_key_missing, "the chip does not answer"),
        (WIPED, &key, Error::is_key_missing, "its keeper knows none by the name \"file/"),
        (OTHERS, &key, Error::is_wrong_key, "it is another key, or the first 16 bytes of the file are damaged"),
        (0, &others, Error::is_wrong_key, "which cannot be told apart"),
        (0, &phrase, Error::is_wrong_key, "which cannot be told apart"),
    ] {
        store.state.store(state, Relaxed);
        refused(open(key), is, says, "The file was left untouched");
        refused(with(key).read_only().open(&path, schema()), is, says, "The file was left untouched");
        assert!(key.unlock(&path).is_err_and(|error| is(&error)));
        assert_eq!(contents(folder.path()), before);
    }
    store.state.store(0, Relaxed);
    let says = "no database, or an encrypted one";
    refused(Drawer::open(&path, schema()), Error::is_not_a_database, says, "The file was left untouched");
    assert_eq!(contents(folder.path()), before);
    assert_eq!(open(&key).unwrap().count::<Client>().unwrap(), 1);

    // A file of one page says less; a plain one, a short one and a text say what they are.
    let other = path.with_file_name("other.drawer");
    fs::write(&other, &fs::read(&path).unwrap()[..4096]).unwrap();
    refused(with(&others).open(&other, schema()), Error::is_wrong_key, "the one page that the file has", "untouched");
    fs::write(&other, "not long").unwrap();
    refused(
        with(&others).open(&other, schema()),
        Error::is_not_a_database,
        "less than a page of 4,096 bytes",
        "untouched",
    );
    fs::remove_file(&other).unwrap();
    Drawer::open(&other, schema()).unwrap().close().unwrap();
    let plain = fs::read(&other).unwrap();
    refused(with(&key).open(&other, schema()), Error::is_not_encrypted, "Drawer::change_file_key", "untouched");
    assert_eq!(fs::read(&other).unwrap(), plain);
    assert!(!format!("{key:?} {others:?} {phrase:?} {:?}", with(&others)).contains("09"), "{others:?}");
}

#[test]
fn a_file_without_its_key_is_set_aside_where_the_app_asks_for_it_and_only_then() {
    let (_folder, path) = folder();
    let store = Store::default();
    let key = FileKey::kept_by(store.clone());
    let open = || with(&key).set_aside_without_key().open(&path, schema());
    open().unwrap().insert(client(1)).unwrap();
    for state in [LOCKED, BROKEN] {
        store.state.store(state, Relaxed);
        assert!(open().is_err(), "it may answer the next time");
    }
    store.state.store(0, Relaxed);
    assert_eq!(open().unwrap().count::<Client>().unwrap(), 1);
    for (at, name) in ["another device", "pass phrase"].iter().enumerate() {
        let other = if at == 0 { kept() } else { FileKey::of_pass_phrase(PassPhrase::new(*name).cost(8, 1)) };
        let before = Drawer::kept_copies(&path).unwrap().len();
        let drawer = with(&other).set_aside_without_key().open(&path, schema()).unwrap();
        assert_eq!((drawer.count::<Client>().unwrap(), before), (0, at));
        let aside = drawer.opened().set_aside.clone().unwrap();
        drawer.close().unwrap();
        if at == 0 {
            assert_eq!(with(&key).open(aside, schema()).unwrap().count::<Client>().unwrap(), 1);
        }
    }
}

#[test]
fn a_file_is_encrypted_gets_another_key_and_goes_back_with_all_that_is_kept_beside_it() {
    let (folder, path) = folder();
    let schema = everything::schema;
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let written = write_everything(&drawer);
    drawer.close().unwrap();
    // What an upgrade kept, what was set aside, and what is damaged.
    let kept_copy = path.with_file_name("kiln.at-version-1.drawer");
    fs::copy(&path, &kept_copy).unwrap();
    let damaged = path.with_file_name("kiln.set-aside-2025-03-08T10-00-00Z.drawer");
    fs::write(&damaged, WORD.repeat(1_000)).unwrap();

    let (first, second) = (kept(), FileKey::of_pass_phrase(PassPhrase::new("four pots").cost(8, 1)));
    let keys: [Option<&FileKey>; 6] = [None, Some(&first), Some(&first), Some(&second), Some(&first), None];
    let options = |key: Option<&FileKey>| key.map_or(Drawer::options(), |key| Drawer::options().encrypted(key.clone()));
    for pair in keys.windows(2) {
        let mut change = Drawer::change_file_key(&path);
        if let Some(from) = pair[0] {
            change = change.from(from);
        }
        if let Some(to) = pair[1] {
            change = change.to(to);
        }
        let kept_at = || fs::metadata(&kept_copy).unwrap().modified().unwrap();
        let before = kept_at();
        let (changed, done) = with_last_progress(move || change.run());
        assert_eq!(kept_at(), before, "how old it is says how long it is kept");
        let changed = changed.unwrap();
        assert!(done > 0, "pages are told");
        assert_eq!(changed.copies, std::slice::from_ref(&kept_copy));
        assert_eq!(changed.left.iter().map(|left| &left.path).collect::<Vec<_>>(), [&damaged]);
        changed.forget_old_key().unwrap();
        for place in [&path, &kept_copy] {
            let drawer = options(pair[1]).open(place, schema()).unwrap();
            assert_eq!(all_of(&drawer), written, "{pair:?}");
            assert!(drawer.opened().upgraded.is_none());
            drawer.close().unwrap();
            let bytes = fs::read(place).unwrap();
            assert_eq!(bytes.starts_with(b"SQLite"), pair[1].is_none());
            if pair[1].is_none() {
                assert_eq!(bytes[20], 0, "no room is kept in its pages");
                Drawer::open(place, schema()).unwrap().compact().unwrap();
            }
        }
        if let Some(key) = pair[1] {
            let unlocked = key.unlock(&path).unwrap();
            let file = File::open(&path).unwrap();
            assert!(file.check().unwrap().is_sound() && file.overview().is_ok());
            drop(unlocked);
        }
    }
    let left = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap());
    assert_eq!(left.filter(|name| name.contains("unfinished")).count(), 0);
    let file = File::open(&path).unwrap();
    assert!(file.check().unwrap().is_sound());
    assert!(Drawer::open(&path, schema()).is_ok(), "another program changed nothing");
}

#[test]
fn a_file_of_another_program_keeps_its_row_numbers_and_all_else_there_and_back() {
    let (_folder, path) = folder();
    let text = "PRAGMA page_size = 1024; PRAGMA auto_vacuum = 2; PRAGMA encoding = 'UTF-16le'; PRAGMA user_version = -7;
        PRAGMA application_id = 99; PRAGMA journal_mode = WAL; PRAGMA foreign_keys = OFF;
        CREATE TABLE bare (a, rowid, \"b c\"); INSERT INTO bare (_rowid_, a, rowid) VALUES (9, 'x', 1), (-3, x'00ff', NULL);
        CREATE TABLE keyed (id INTEGER PRIMARY KEY, \"select\" TEXT UNIQUE, twice AS (id * 2) STORED); INSERT INTO keyed (id) VALUES (-5), (7);
        CREATE TABLE counted (id INTEGER PRIMARY KEY AUTOINCREMENT); INSERT INTO counted VALUES (40); DELETE FROM counted;
        CREATE TABLE flat (a, b REFERENCES keyed CHECK (a > 0), PRIMARY KEY (a, b)) WITHOUT ROWID; INSERT INTO flat VALUES (1, 1);
        CREATE VIRTUAL TABLE words USING fts5(text); INSERT INTO words (rowid, text) VALUES (12, 'celadon bowl');
        CREATE INDEX partial ON bare (a DESC) WHERE a > 1; CREATE VIEW seen AS SELECT a FROM bare;
        CREATE TRIGGER heard AFTER INSERT ON bare BEGIN INSERT INTO flat VALUES (2, new.a); END; ANALYZE;";
    other_program(&path).execute_batch(text).unwrap();
    let copy = path.with_file_name("copy.db");
    fs::copy(&path, &copy).unwrap();
    let key = FileKey::of_pass_phrase(PassPhrase::new("pots").cost(8, 1));
    Drawer::change_file_key(&path).to(&key).run().unwrap();
    assert!(!fs::read(&path).unwrap().starts_with(b"SQLite"));
    Drawer::change_file_key(&path).from(&key).run().unwrap();
    let (before, after) = (other_program(&copy), other_program(&path));
    for question in [
        "SELECT group_concat(quote(_rowid_) || quote(a) || quote(rowid) || quote(\"b c\"), ' ') FROM bare",
        "SELECT group_concat(id || ' ' || twice) FROM keyed",
        "SELECT group_concat(name || seq) FROM sqlite_sequence",
        "SELECT group_concat(a || b) FROM flat",
        "SELECT rowid || text FROM words WHERE words MATCH 'bowl'",
        "SELECT group_concat(type || name || ifnull(sql, ''), x'0a') FROM (SELECT * FROM sqlite_schema ORDER BY name)",
        "SELECT group_concat(tbl || ifnull(idx, '') || stat) FROM sqlite_stat1",
        "SELECT user_version || ' ' || application_id || ' ' || encoding || ' ' || auto_vacuum
            FROM pragma_user_version, pragma_application_id, pragma_encoding, pragma_auto_vacuum",
        "SELECT group_concat(a) FROM seen",
        "SELECT group_concat(integrity_check) FROM pragma_integrity_check",
    ] {
        let of = |file: &rusqlite::Connection| file.query_row(question, [], |row| row.get::<_, String>(0)).unwrap();
        assert_eq!(of(&before), of(&after), "{question}");
    }
    after.execute_batch("INSERT INTO counted DEFAULT VALUES; INSERT INTO bare (a) VALUES (7); VACUUM").unwrap();
    assert_eq!(after.query_row("SELECT max(id) FROM counted", [], |row| row.get::<_, i64>(0)).unwrap(), 41);
    assert_eq!(after.query_row("SELECT count(*) FROM flat", [], |row| row.get::<_, i64>(0)).unwrap(), 2, "heard");
}

#[test]
fn a_change_of_key_that_cannot_be_done_leaves_the_file_as_it_was() {
    let (folder, path) = folder();
    let key = kept();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..5_000).map(client)).unwrap();
    let change = || Drawer::change_file_key(&path).to(&key);
    let in_use = change().run().unwrap_err();
    assert!(in_use.is_in_use() && in_use.to_string().contains("open in this process"), "{in_use}");
    drawer.close().unwrap();
    let cancel = Cancel::default();
    cancel.cancel();
    let cancelled = cancel.during(|| change().run()).unwrap_err();
    assert!(cancelled.is_cancelled() && cancelled.to_string().contains("The file is as it was"), "{cancelled}");
    let before = contents(folder.path());
    let refused = |error: Error, is: fn(&Error) -> bool, says: &str| {
        assert!(is(&error) && error.to_string().contains(says), "{error}");
        assert!(error.to_string().starts_with("cannot change the key of the file: "), "{error}");
        assert_eq!(contents(folder.path()), before, "{error}");
    };
    let background = Cancel::default();
    let slow = background.during(|| {
        Progress::told(
            {
                let stop = background.clone();
                move |at| {
                    if at.doing.contains("rewriting") {
                        stop.cancel()
                    }
                }
            },
            || change().run(),
        )
    });
    refused(slow.unwrap_err(), Error::is_cancelled, "it was cancelled");
    let from = Drawer::change_file_key(&path).from(&key);
    refused(from.run().unwrap_err(), Error::is_not_encrypted, "the file is not encrypted");
    let locked = Store::default();
    locked.state.store(LOCKED, Relaxed);
    let to_locked = Drawer::change_file_key(&path).to(&FileKey::kept_by(locked));
    refused(to_locked.run().unwrap_err(), Error::is_key_locked, "it is locked");
    let nowhere = Drawer::change_file_key(path.with_file_name("none")).to(&key).run().unwrap_err();
    assert!(nowhere.is_file_missing(), "{nowhere}");
    let other = other_program(&path);
    other.execute_batch("BEGIN; SELECT count(*) FROM client_that_is_not; ").unwrap_err();
    other.execute_batch("SELECT count(*) FROM velvet_about").unwrap();
    let used = change().run().unwrap_err();
    assert!(used.is_in_use() && used.to_string().contains("another process has it open"), "{used}");
    drop(other);
    let done = change().in_background().wait().unwrap();
    assert!(done.copies.is_empty() && done.left.is_empty());
    let again = change().run().unwrap_err();
    assert!(again.is_not_a_database() && again.to_string().contains("FileKeyChange::from"), "{again}");
    assert_eq!(with(&key).open(&path, schema()).unwrap().count::<Client>().unwrap(), 5_000);
}

/// Counts the keys that a keeper has.
#[derive(Clone, Default)]
struct Counting(Arc<Mutex<BTreeMap<String, [u8; 32]>>>);

impl KeyKeeper for Counting {
    fn find(&self, name: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        Ok(self.0.lock().unwrap().get(name).copied().map(SecretKey::from_bytes))
    }

    fn keep(&self, name: &str, key: &SecretKey) -> Result<(), KeyRefusal> {
        assert!(self.0.lock().unwrap().insert(name.to_owned(), *key.expose()).is_none(), "{name} was kept already");
        Ok(())
    }

    fn forget(&self, name: &str) -> Result<(), KeyRefusal> {
        self.0.lock().unwrap().remove(name);
        Ok(())
    }
}

#[test]
fn a_change_of_the_key_that_is_refused_leaves_no_key_and_nobody_is_told_that_the_file_is_damaged_meanwhile() {
    let (_folder, path) = folder();
    let keeper = Counting::default();
    let key = FileKey::kept_by(keeper.clone());
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..50).map(client)).unwrap();
    drawer.close().unwrap();
    let count = || keeper.0.lock().unwrap().len();
    let change = || Drawer::change_file_key(&path).from(&key).to(&key).run();
    {
        let _unlocked = key.unlock(&path).unwrap();
        let program = other_program(&path);
        program.execute_batch("BEGIN; SELECT count(*) FROM token").unwrap();
        for _ in 0..5 {
            assert!(change().unwrap_err().is_in_use());
        }
    }
    assert_eq!(count(), 1);
    let is_done = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            for _ in 0..30 {
                match change() {
                    Ok(changed) => changed.forget_old_key().unwrap(),
                    Err(error) => assert!(error.is_in_use(), "{error}"),
                }
            }
            is_done.store(true, Relaxed);
        });
        while !is_done.load(Relaxed) {
            match with(&key).open(&path, schema()) {
                Ok(drawer) => assert_eq!(drawer.count::<Client>().unwrap(), 50),
                Err(error) => assert!(error.is_in_use() || error.is_locked(), "{error}"),
            }
        }
    });
    assert_eq!(count(), 1, "each change that was done forgot the key before it, and each other one its own");
}
