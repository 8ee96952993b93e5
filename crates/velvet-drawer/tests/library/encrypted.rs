//! Files that are encrypted as a whole: what is written, refused, converted and saved, and never seen in the clear.

use crate::common;
use common::everything::{self, Everything, Owner, at_limits, the_rest_is_there, write_the_rest};
use common::store::{BROKEN, FORGETFUL, LOCKED, OTHERS, Store, WIPED};
use common::{folder, other_program, versions, with_last_progress};
use memchr::memmem;
use std::collections::BTreeMap;
use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::Read;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Mutex};
use velvet_drawer::inspect::{self, Exchange, File, Limits};
use velvet_drawer::{
    Attachment, Cancel, Drawer, Error, FileKey, KeptFor, KeyKeeper, KeyRefusal, KeysInMemory, Options, PassPhrase,
    Progress, Record, Schema, SecretKey, Settings, Trail,
};

/// A word that stands everywhere, and is to be seen nowhere.
const WORD: &str = "tenmoku-under-the-floor";

#[derive(Record, Clone, Debug, PartialEq)]
#[record(name = "select")]
struct Client {
    #[record(own_key)]
    name: String,
    #[record(searchable)]
    notes: String,
    #[record(link(on_delete = clear))]
    portrait: Option<velvet_drawer::Key<Attachment>>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
struct Token {
    name: String,
    value: String,
}

#[derive(Settings, Clone, Debug, Default, PartialEq)]
struct Account {
    pass_phrase: String,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Client>().record::<Token>().settings::<Account>().attachments()
}

fn client(number: u32) -> Client {
    Client { name: format!("{WORD} {number}"), notes: format!("{WORD} is what {number} likes"), portrait: None }
}

fn with(key: &FileKey) -> Options {
    Drawer::options().encrypted(key.clone())
}

fn kept() -> FileKey {
    FileKey::kept_by(KeysInMemory::default())
}

/// The files below a folder in which the word is, or a part of it that says enough.
fn seen_in(folder: &Path) -> Vec<String> {
    let mut seen = Vec::new();
    for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if entry.is_dir() {
            seen.extend(seen_in(&entry));
            continue;
        }
        let bytes = fs::read(&entry).unwrap_or_default();
        let utf16: Vec<u8> = WORD.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let forms = [WORD.as_bytes(), b"tenmoku", b"the-floor", b"SQLite format", b"CREATE TABLE", &utf16];
        if forms.iter().any(|form| memmem::find(&bytes, form).is_some()) {
            seen.push(entry.display().to_string());
        }
    }
    seen
}

fn write_everything(drawer: &Drawer) -> Vec<Everything> {
    let all = at_limits().to_vec();
    drawer.insert_all(all.iter().cloned()).unwrap();
    drawer.insert(Owner::named("Ann")).unwrap();
    write_the_rest(drawer).unwrap();
    all
}

fn all_of(drawer: &Drawer) -> Vec<Everything> {
    the_rest_is_there(drawer).unwrap();
    drawer.records::<Everything>().collect().unwrap().into_iter().map(|s| s.into_record()).collect()
}

#[test]
fn everything_is_read_back_by_every_way_with_the_key_and_by_none_without() {
    let (folder, path) = folder();
    let beside = |name: &str| folder.path().canonicalize().unwrap().join(name);
    let (key, schema) = (kept(), everything::schema);
    let drawer = with(&key).trail(Trail::Before).open(&path, schema()).unwrap();
    assert!(drawer.opened().created);
    let written = write_everything(&drawer);
    let sees = |drawer: &Drawer| assert_eq!(all_of(drawer), written);
    sees(&drawer);
    // While it is open, this process knows the key.
    let log = fs::metadata(beside("kiln.drawer-wal")).unwrap().len();
    let file = File::open(&path).unwrap();
    assert!(log > 0 && file.check().unwrap().is_sound());
    assert_eq!(file.notes().unwrap().len(), 1, "{:?}", file.notes());
    drop(file);
    drawer.copy_to(beside("copy.drawer")).unwrap();
    drawer.copy_without_private_to(beside("handed-out.drawer")).unwrap();
    let bytes = drawer.to_bytes().unwrap();
    let in_memory = with(&key).from_bytes(&bytes, schema()).unwrap();
    in_memory.compact().unwrap();
    sees(&in_memory);
    drop(in_memory);
    assert!(Drawer::from_bytes(&bytes, schema()).unwrap_err().is_not_a_database());
    assert!(with(&kept()).from_bytes(&bytes, schema()).unwrap_err().is_key_missing());
    drawer.compact().unwrap();
    drawer.close().unwrap();
    assert_eq!(seen_in(folder.path()), [""; 0]);

    let drawer = with(&key).open(&path, schema()).unwrap();
    sees(&drawer);
    for other in [Drawer::options(), with(&kept())] {
        let error = other.open(&path, schema()).unwrap_err();
        assert!(error.to_string().contains("The open drawer is not affected"), "{error}");
    }
    drawer.close().unwrap();
    sees(&with(&key).read_only().open(&path, schema()).unwrap());
    sees(&with(&key).open(beside("copy.drawer"), schema()).unwrap());
    let handed_out = with(&key).open(beside("handed-out.drawer"), schema()).unwrap();
    assert!(handed_out.records::<Everything>().collect().unwrap().iter().all(|e| e.secret.is_none()));
    drop(handed_out);

    // Without the key, only that is said.
    assert!(File::open(&path).is_err_and(|error| error.is_not_a_database()));
    assert_eq!(inspect::drawers_in(folder.path()).unwrap(), []);
    let unlocked = key.unlock(&path).unwrap();
    let file = File::open(&path).unwrap();
    assert_eq!(file.notes().unwrap(), [""; 0]);
    assert_eq!(inspect::drawers_in(folder.path()).unwrap().len(), 3, "the copies have the same key");
    let compared = file.compare(&File::open(beside("copy.drawer")).unwrap(), &mut |_| Ok(())).unwrap();
    assert!(compared.tables.iter().all(|t| t.added + t.removed + t.changed == 0), "{compared:?}");
    let mut lines = Vec::new();
    file.export(&file.table("select").unwrap(), Exchange::JsonLines, &mut lines).unwrap();
    file.copy_to(beside("looked.drawer"), false).unwrap();
    drop(file);
    let saved = beside("saved.drawer");
    assert!(inspect::salvage(&path, &saved, &Limits::default()).unwrap().is_whole());
    inspect::compact(&path, &Cancel::default()).unwrap();
    for copy in ["looked.drawer", "saved.drawer", "kiln.drawer"] {
        sees(&with(&key).open(beside(copy), schema()).unwrap());
    }
    assert_eq!(seen_in(folder.path()), [""; 0]);

    // What was removed comes back from an export, and from a copy, whole.
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.remove_all::<Everything>().unwrap();
    drawer.close().unwrap();
    inspect::import(&path, Some("select"), Exchange::JsonLines, &mut &lines[..], &Limits::default()).unwrap();
    sees(&with(&key).open(&path, schema()).unwrap());
    let aside = Drawer::restore(&path, beside("copy.drawer")).unwrap().unwrap();
    sees(&with(&key).open(&path, schema()).unwrap());
    sees(&with(&key).open(&aside, schema()).unwrap());
    // A plain copy, and one with another key, get the key of the file.
    let (plain, other) = (beside("plain.drawer"), self::kept());
    fs::copy(beside("copy.drawer"), &plain).unwrap();
    Drawer::change_file_key(&plain).from(&key).run().unwrap();
    let others = beside("others.drawer");
    fs::copy(&plain, &others).unwrap();
    Drawer::change_file_key(&others).to(&other).run().unwrap();
    assert!(
        Drawer::restore(&path, &others)
            .is_err_and(|error| error.is_not_a_database() && error.to_string().contains("FileKey::unlock"))
    );
    let other = other.unlock(&others).unwrap();
    for copy in [&plain, &others] {
        Drawer::restore(&path, copy).unwrap();
        sees(&with(&key).open(&path, schema()).unwrap());
    }
    drop(other);
    assert!(Drawer::remove_from_device(&path).unwrap() && !aside.exists());
    drop(unlocked);
}

/// What tells the contents of all files of a folder from others.
fn contents(folder: &Path) -> BTreeMap<String, u64> {
    let told = |path: &Path| {
        let mut hasher = DefaultHasher::new();
        fs::read(path).unwrap().hash(&mut hasher);
        hasher.finish()
    };
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap());
    entries.map(|e| (e.file_name().to_string_lossy().into_owned(), told(&e.path()))).collect()
}

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
fn new_files_are_encrypted_from_their_first_byte_wherever_they_come_from() {
    let (folder, path) = folder();
    let key = FileKey::of_pass_phrase(PassPhrase::new("four pots in the cellar").cost(64, 2));
    let shipped = path.with_file_name("shipped");
    let from = Drawer::open(&shipped, schema()).unwrap();
    from.insert(client(1)).unwrap();
    from.close().unwrap();
    let bytes: &'static [u8] = Box::leak(fs::read(&shipped).unwrap().into_boxed_slice());
    for (name, options) in [("a", with(&key).shipped_bytes(bytes)), ("b", with(&key).shipped_file(&shipped))] {
        let place = path.with_file_name(name);
        let drawer = options.open(&place, schema()).unwrap();
        assert!(drawer.opened().shipped && drawer.count::<Client>().unwrap() == 1);
    }
    fs::remove_file(&shipped).unwrap();
    // An empty file, as some systems hand them out, and one beside which the log of another stands.
    fs::write(path.with_file_name("c"), "").unwrap();
    let running = Drawer::open(path.with_file_name("plain"), schema()).unwrap();
    running.insert(client(2)).unwrap();
    fs::copy(path.with_file_name("plain-wal"), path.with_file_name("d-wal")).unwrap();
    drop(running);
    fs::remove_file(path.with_file_name("plain")).unwrap();
    for name in ["c", "d"] {
        let drawer = with(&key).set_aside_foreign_log().open(path.with_file_name(name), schema()).unwrap();
        assert!(drawer.opened().created && drawer.opened().log_set_aside.is_some() == (name == "d"));
        drawer.insert(client(3)).unwrap();
    }
    assert_eq!(with(&key).open(path.with_file_name("c"), schema()).unwrap().count::<Client>().unwrap(), 1);
    let seen = seen_in(folder.path());
    assert!(seen.len() == 1 && seen[0].contains("set-aside"), "the plain log that was there: {seen:?}");

    // A plain log in which the first page is not, beside an encrypted file: laid over it, it would spoil a page.
    let other = path.with_file_name("other");
    let program = other_program(&other);
    let text = "PRAGMA journal_mode = WAL; CREATE TABLE a (b); INSERT INTO a VALUES (1); PRAGMA wal_checkpoint(TRUNCATE); UPDATE a SET b = 2";
    program.execute_batch(text).unwrap();
    let encrypted = path.with_file_name("c");
    fs::copy(path.with_file_name("other-wal"), path.with_file_name("c-wal")).unwrap();
    assert!(with(&key).open(&encrypted, schema()).unwrap_err().is_foreign_log());
    let drawer = with(&key).set_aside_foreign_log().open(&encrypted, schema()).unwrap();
    assert!(drawer.opened().log_set_aside.is_some() && drawer.count::<Client>().unwrap() == 1);
    drawer.close().unwrap();
    let _unlocked = key.unlock(&encrypted).unwrap();
    assert!(File::open(&encrypted).unwrap().check().unwrap().is_sound());
}

#[test]
fn no_word_is_in_the_clear_in_any_file_whatever_is_done() {
    let (folder, path) = folder();
    let aside = tempfile::tempdir().unwrap();
    let (key, at) = (kept(), path.clone());
    let copy = aside.path().canonicalize().unwrap().join("copy.drawer");
    let photo = WORD.repeat(100_000);
    let nothing_seen = |when: &str| {
        let seen = [seen_in(folder.path()), seen_in(aside.path())].concat();
        assert!(seen.is_empty(), "{when}: {seen:?}");
    };
    let drawer = with(&key).trail(Trail::Before).open(&path, schema()).unwrap();
    drawer.insert_all((0..2_000).map(client)).unwrap();
    let portrait = drawer.attachments().add(photo.as_bytes()).named(WORD).media_type("text/plain").run().unwrap();
    let first = drawer.get_by_own_key::<Client>(&client(0).name).unwrap().unwrap();
    drawer.change(first.key(), |c| (c.portrait, c.notes) = (Some(portrait.key()), WORD.into())).unwrap();
    drawer.named::<Token>().set(WORD, WORD.to_owned()).unwrap();
    drawer.settings::<Account>().change(|a| a.pass_phrase = WORD.into()).unwrap();
    assert_eq!(drawer.records::<Client>().search("tenmoku likes").count().unwrap(), 1_999);
    // Large enough that it does not fit into memory that is set aside for it.
    let sorted = drawer.records::<Client>().sort_by(|c| c.notes.descending()).collect().unwrap();
    assert_eq!(sorted.len(), 2_000);
    nothing_seen("while it is open");
    drawer.copy_to(&copy).unwrap();
    drawer.compact().unwrap();
    nothing_seen("copied and compacted");
    drop(drawer);
    nothing_seen("closed");
    let unlocked = key.unlock(&path).unwrap();
    Drawer::restore(&path, &copy).unwrap();
    inspect::salvage(&path, aside.path().join("saved"), &Limits::default()).unwrap();
    let file = File::open(&path).unwrap();
    assert!(file.check().unwrap().is_sound());
    drop((file, unlocked));
    nothing_seen("restored, set aside and salvaged");
    let drawer = with(&key).open(&path, schema()).unwrap();
    let mut read = String::new();
    drawer.attachments().open(portrait.key()).unwrap().read_to_string(&mut read).unwrap();
    assert!(read == photo && drawer.settings::<Account>().get().unwrap().pass_phrase == WORD);
    assert_eq!(drawer.named::<Token>().get(WORD).unwrap().as_deref(), Some(WORD));
    drop(drawer);

    // Upgrades that write tables anew, and keep a copy from before.
    let at = at.with_file_name("older.drawer");
    let drawer = with(&key).open(&at, versions::schema(1)).unwrap();
    drop(drawer);
    let newest = with(&key).open(&at, versions::schema(3)).unwrap();
    assert!(newest.opened().upgraded.is_some());
    drop(newest);
    let kept = Drawer::kept_copies(&at).unwrap();
    assert!(kept.iter().any(|copy| matches!(copy.reason, KeptFor::Upgrade(_))), "{kept:?}");
    nothing_seen("upgraded");
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

#[test]
fn damage_is_named_and_what_is_whole_is_saved() {
    let (_folder, path) = folder();
    let key = kept();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..3_000).map(client)).unwrap();
    drawer.close().unwrap();
    let whole = fs::read(&path).unwrap();
    let saved = path.with_file_name("saved.drawer");
    let pages = whole.len() / 4096;
    let _unlocked = key.unlock(&path).unwrap();
    let mut some_lost = false;
    for page in (1..pages).step_by(pages / 12) {
        let mut bytes = whole.clone();
        bytes[page * 4096 + 100] ^= 1;
        fs::write(&path, &bytes).unwrap();
        let listed = with(&key).without_sessions().open(&path, schema()).and_then(|d| d.records::<Client>().collect());
        assert!(listed.is_ok() || listed.as_ref().is_err_and(|e| e.is_damaged()), "page {page}: {:?}", listed.err());
        fs::write(&path, &bytes).unwrap();
        let checked = File::open(&path).and_then(|file| file.check());
        assert!(!checked.as_ref().is_ok_and(|checked| checked.is_sound()), "page {page}: {checked:?}");
        let salvaged = inspect::salvage(&path, &saved, &Limits::default()).unwrap();
        let back = with(&key).open(&saved, schema()).unwrap();
        let records = back.records::<Client>().collect().unwrap();
        assert!(records.iter().all(|c| c.name.starts_with(WORD)) && records.len() >= 2_800);
        some_lost |= !salvaged.is_whole();
        drop((records, back));
        assert!(fs::read(&path).unwrap() == bytes, "a look writes nothing");
        fs::remove_file(&saved).unwrap();
    }
    assert!(some_lost);
    // The first page alone is damaged: the key is told by the others.
    let mut bytes = whole.clone();
    bytes[100] ^= 1;
    fs::write(&path, &bytes).unwrap();
    let error = with(&key).open(&path, schema()).unwrap_err();
    assert!(error.is_damaged(), "{error}");
    assert!(fs::read(&path).unwrap() == bytes);
}

#[test]
fn python_reads_what_was_written_and_its_pages_are_proven() {
    let (_folder, path) = folder();
    let key = FileKey::of_bytes(SecretKey::from_bytes([0x5a; 32]));
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..30).map(client)).unwrap();
    drawer.close().unwrap();
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/decrypt.py");
    let plain = path.with_file_name("plain.db");
    let output = Command::new("python3").arg(script).args([&path, &plain]).arg("5a".repeat(32)).output();
    let output = output.expect("this test needs python3");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let count = fs::metadata(&path).unwrap().len() / 4096;
    assert_eq!(String::from_utf8(output.stdout).unwrap(), format!("{count} pages\n"));
    let rows = other_program(&plain);
    let names: i64 = rows.query_row("SELECT count(DISTINCT name) FROM \"select\"", [], |row| row.get(0)).unwrap();
    assert_eq!(names, 30);
}

#[test]
fn a_log_that_a_kill_left_is_never_taken_for_a_foreign_one() {
    let (_folder, path) = folder();
    let key = kept();
    let copy = path.with_file_name("copy.drawer");
    let drawer = with(&key).open(&path, schema()).unwrap();
    let killed_here = |written: u64| {
        for end in ["", "-wal"] {
            let _ = fs::remove_file(format!("{}{end}", copy.display()));
            fs::copy(format!("{}{end}", path.display()), format!("{}{end}", copy.display())).unwrap();
        }
        let found = with(&key).open(&copy, schema()).unwrap();
        assert_eq!((found.opened().log_set_aside.clone(), found.count::<Client>().unwrap()), (None, written));
        found.close().unwrap();
    };
    let mut written = 0;
    for round in 0..12 {
        // The first page is written where the file grows, where it gives space back, and by another program.
        drawer.insert_all((0..40).map(|n| client(written as u32 + n))).unwrap();
        written += 40;
        killed_here(written);
        if round % 3 == 1 {
            other_program(&path).execute_batch("PRAGMA application_id; PRAGMA user_version = 1").unwrap();
            killed_here(written);
        }
        if round % 3 == 2 {
            drawer.compact().unwrap();
            other_program(&path).execute_batch("PRAGMA wal_checkpoint(PASSIVE)").unwrap();
            killed_here(written);
        }
        drawer.insert(client(1_000_000 + round)).unwrap();
        written += 1;
        killed_here(written);
    }
    // By a program that found all of it merged.
    drawer.close().unwrap();
    let unlocked = key.unlock(&path).unwrap();
    let program = other_program(&path);
    program.execute_batch("PRAGMA user_version = 1").unwrap();
    killed_here(written);
    drop((program, unlocked));

    // A log of an earlier state is.
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..400).map(|n| client(1_000_100 + n))).unwrap();
    written += 400;
    let earlier = path.with_file_name("earlier");
    fs::copy(path.with_file_name("kiln.drawer-wal"), &earlier).unwrap();
    drawer.close().unwrap();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..4_000).map(|n| client(2_000_000 + n))).unwrap();
    drawer.close().unwrap();
    fs::copy(&earlier, path.with_file_name("kiln.drawer-wal")).unwrap();
    assert!(with(&key).open(&path, schema()).unwrap_err().is_foreign_log());
    let drawer = with(&key).set_aside_foreign_log().open(&path, schema()).unwrap();
    assert!(drawer.opened().log_set_aside.is_some() && drawer.count::<Client>().unwrap() == written + 4_000);
}

#[test]
fn compacting_loses_nothing_that_others_write_meanwhile() {
    let (folder, path) = folder();
    let key = kept();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..6_000).map(client)).unwrap();
    drawer.remove_all::<Client>().unwrap();
    drawer.insert_all((0..1_000).map(client)).unwrap();
    let before = drawer.space().unwrap();
    let is_done = std::sync::atomic::AtomicBool::new(false);
    let (compacted, written) = std::thread::scope(|scope| {
        let writes = scope.spawn(|| {
            let program = other_program(&path);
            program.busy_timeout(std::time::Duration::from_secs(10)).unwrap();
            let mut written = 0;
            while !is_done.load(Relaxed) && written < 20_000 {
                std::thread::sleep(std::time::Duration::from_millis(2));
                written += program
                    .execute("INSERT INTO token (name, value) VALUES (?1, 'x')", [format!("{written}")])
                    .unwrap();
            }
            written
        });
        let compacted: Vec<_> = (0..6).map(|_| drawer.compact()).collect();
        is_done.store(true, Relaxed);
        let compacted: Vec<_> = compacted.into_iter().map(Result::unwrap).collect();
        (compacted, writes.join().unwrap())
    });
    assert!(compacted[0].bytes < before.bytes && compacted[0].unused == 0 && written > 0, "{before:?} {compacted:?}");
    assert_eq!((drawer.count::<Client>().unwrap(), drawer.count::<Token>().unwrap()), (1_000, written as u64));
    assert_eq!(drawer.records::<Client>().search("tenmoku likes").count().unwrap(), 1_000);
    drawer.close().unwrap();
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
    assert_eq!(seen_in(folder.path()), [""; 0]);
    let drawer = with(&key).open(&path, schema()).unwrap();
    assert_eq!(drawer.count::<Token>().unwrap(), written as u64);
    let _unlocked = key.unlock(&path).unwrap();
    assert!(File::open(&path).unwrap().check().unwrap().is_sound());
}

#[cfg(target_os = "linux")]
#[test]
fn a_path_that_is_no_text_is_encrypted_compacted_copied_and_decrypted_like_others() {
    use std::os::unix::ffi::OsStrExt;
    let (folder, _) = folder();
    let place = folder.path().join(std::ffi::OsStr::from_bytes(b"kiln %3F?#\xff\xfe"));
    fs::create_dir(&place).unwrap();
    let path = place.join(std::ffi::OsStr::from_bytes(b"kiln-\xff'.drawer"));
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..100).map(client)).unwrap();
    drawer.close().unwrap();
    let [key, other] = [kept(), kept()];
    Drawer::change_file_key(&path).to(&key).run().unwrap();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((100..2_000).map(client)).unwrap();
    drawer.records::<Client>().sort_by(|c| c.key().descending()).limit(1_900).remove().unwrap();
    let before = drawer.space().unwrap();
    assert!(drawer.compact().unwrap().bytes < before.bytes);
    drawer.copy_to(place.join("copy.drawer")).unwrap();
    drawer.close().unwrap();
    Drawer::change_file_key(&path).from(&key).to(&other).run().unwrap();
    assert_eq!(with(&other).open(&path, schema()).unwrap().count::<Client>().unwrap(), 100);
    Drawer::change_file_key(&path).from(&other).run().unwrap();
    assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Client>().unwrap(), 100);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "all of it in the same folder");
    assert_eq!(fs::read_dir(&place).unwrap().count(), 2);
}

/// Values that end in the middle of pages of their own.
#[derive(Record, Clone, Debug, PartialEq)]
struct Plate {
    #[record(own_key)]
    number: u32,
    scan: Vec<u8>,
    /// Stored behind the scan, in its last page.
    grams: i64,
    remarks: String,
}

/// Bytes none of which is 0: the engine returns zeros for a page that failed its proof.
fn scan(bytes: usize) -> Vec<u8> {
    (0..bytes).map(|n| (n % 251) as u8 + 1).collect()
}

const LENGTHS: [usize; 6] = [3, 3_900, 4_016, 8_100, 20_000, 40_000];

fn plate(number: u32) -> Plate {
    Plate { number, scan: scan(LENGTHS[number as usize]), grams: 0x1234_5678_9abc, remarks: "x".repeat(500) }
}

#[test]
fn whichever_page_fails_its_proof_no_value_is_read_wrong_in_any_way() {
    let (folder, path) = folder();
    let key = kept();
    let schema = || Schema::new("kilnbook").record::<Plate>().attachments();
    let drawer = with(&key).without_sessions().open(&path, schema()).unwrap();
    drawer.insert_all((0..LENGTHS.len() as u32).map(plate)).unwrap();
    let sound = drawer.attachments().add(&scan(20_000)[..]).run().unwrap().key();
    drawer.close().unwrap();
    let whole = fs::read(&path).unwrap();
    let damaged = folder.path().canonicalize().unwrap().join("damaged.drawer");
    let copy = damaged.with_file_name("copy.drawer");
    let is_right = |found: &Plate| *found == plate(found.number);
    let (mut refused, mut read) = (0, 0);
    for page in 0..whole.len() / 4096 {
        let mut bytes = whole.clone();
        bytes[page * 4096 + 2_000] ^= 1;
        fs::write(&damaged, &bytes).unwrap();
        let mut answers = |what: &str, answer: Result<bool, Error>| match answer {
            Ok(is_right) => {
                assert!(is_right, "page {page}: {what} is read wrong");
                read += 1;
            }
            Err(error) => {
                assert!(
                    error.is_damaged() || error.is_wrong_key() || error.is_unreadable(),
                    "page {page}, {what}: {error}"
                );
                refused += 1;
            }
        };
        let Ok(drawer) = with(&key).read_only().open(&damaged, schema()) else { continue };
        for number in 0..LENGTHS.len() as u32 {
            let one = || drawer.records::<Plate>().filter(|p| p.number.is(number));
            answers("a record", one().first().map(|found| found.is_some_and(|found| is_right(&found))));
            answers("a number behind it", one().only(|p| p.grams).first().map(|found| found == Some(0x1234_5678_9abc)));
            answers(
                "a condition on it",
                one().filter(|p| p.grams.is(0x1234_5678_9abc)).count().map(|count| count == 1),
            );
        }
        answers(
            "the list",
            drawer.records::<Plate>().collect().map(|all| all.len() == 6 && all.iter().all(|p| is_right(p))),
        );
        let mut each = Vec::new();
        answers("each", drawer.records::<Plate>().for_each(|p| each.push(p)).map(|()| each.len() == 6));
        assert!(each.iter().all(|p| is_right(p)), "page {page}: one that was handed out is wrong");
        answers("an attachment", drawer.attachments().bytes(sound).map(|bytes| bytes == scan(20_000)));
        let mut streamed = Vec::new();
        let stream = drawer.attachments().open(sound).map(|mut stream| stream.read_to_end(&mut streamed));
        answers("a stream", stream.map(|read| read.is_err() || streamed == scan(20_000)));
        let _ = fs::remove_file(&copy);
        let copied = drawer.copy_to(&copy);
        answers("a copy", copied.map(|()| fs::metadata(&copy).is_ok_and(|m| m.len() == whole.len() as u64)));
        if copy.exists() {
            let copied = with(&key).open(&copy, schema()).unwrap();
            assert!(
                copied.records::<Plate>().collect().unwrap().iter().all(|p| is_right(p)),
                "page {page}: copied wrong"
            );
        }
        answers(
            "the bytes",
            drawer.to_bytes().and_then(|bytes| {
                let all = with(&key).from_bytes(&bytes, schema())?.records::<Plate>().collect()?;
                Ok(all.iter().all(|p| is_right(p)))
            }),
        );
        drop(drawer);
        let _unlocked = key.unlock(&damaged).unwrap();
        let mut lines = Vec::new();
        let file = File::open(&damaged).and_then(|file| file.export_all(Exchange::JsonLines, &mut lines).map(drop));
        let zeros = |lines: &[u8]| String::from_utf8_lossy(lines).contains("AAAAAAAA");
        answers("an export", file.map(|()| !zeros(&lines)));
        assert!(!zeros(&lines), "page {page}: exported wrong");
    }
    assert!(refused > 100 && read > 100, "{refused} refused, {read} read");
    // A reader that met such a page reads nothing more; others of the same drawer do.
    let last = (whole.len() / 4096 - 1) * 4096;
    let mut bytes = whole;
    bytes[last + 2_000] ^= 1;
    fs::write(&damaged, bytes).unwrap();
    let drawer = with(&key).open(&damaged, schema()).unwrap();
    let (sound, damaged): (Vec<_>, Vec<_>) = (0..LENGTHS.len() as u32)
        .map(|n| drawer.records::<Plate>().filter(|p| p.number.is(n)).first())
        .partition(Result::is_ok);
    assert!(!sound.is_empty() || !damaged.is_empty());
    drawer.insert(Plate { number: 9, ..plate(0) }).unwrap();
    assert!(drawer.records::<Plate>().filter(|p| p.number.is(9)).any().unwrap());
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
