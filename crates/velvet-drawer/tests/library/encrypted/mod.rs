//! Files that are encrypted as a whole: what is written, refused, converted and saved, and never seen in the clear.

mod keys;
mod pages;

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

fn kept() -> FileKey {
    FileKey::kept_by(KeysInMemory::default())
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
