//! The keys of what is sealed: made, renewed, lost.

use super::*;

#[test]
fn without_its_key_a_file_is_refused_untouched_or_all_but_what_is_sealed_is_used() {
    let (folder, path) = folder();
    let store = Store::default();
    let open = || Drawer::options().without_sessions().keys(store.clone()).open(&path, schema());
    let nothing_says = Drawer::open(&path, schema()).unwrap_err();
    assert!(nothing_says.is_schema(), "{nothing_says}");
    assert!(nothing_says.to_string().contains("`select.group` is sealed, and nothing says where the key is kept"));
    for (state, says) in [(LOCKED, "it is locked"), (FORGETFUL, "which does not have it now")] {
        store.state.store(state, Relaxed);
        let error = open().unwrap_err();
        assert!(error.to_string().contains(says) && error.to_string().contains("Nothing was created"), "{error}");
        assert!(error.is_key_locked() == (state == LOCKED) && error.is_key_missing() != (state == LOCKED));
    }
    store.state.store(0, Relaxed);
    let drawer = open().unwrap();
    let stored = drawer.insert_all((0..3).map(client)).unwrap();
    drawer.settings::<Account>().change(|a| a.tries = 1).unwrap();
    drawer.close().unwrap();
    let before = std::fs::read(&path).unwrap();
    for (state, is, says) in [
        (LOCKED, Error::is_key_locked as fn(&Error) -> bool, "Try again once the device is unlocked"),
        (BROKEN, Error::is_key_missing, "the chip does not answer"),
        (WIPED, Error::is_key_missing, "its keeper knows none by the name \"kilnbook/"),
        (
            OTHERS,
            Error::is_wrong_key,
            "it is another key, or the proof in the file is damaged, which cannot be told apart",
        ),
    ] {
        store.state.store(state, Relaxed);
        let error = open().unwrap_err();
        assert!(is(&error) && error.to_string().contains(says), "{error}");
        assert!(error.to_string().contains("The file was left untouched"), "{error}");
        assert!(std::fs::read(&path).unwrap() == before && std::fs::read_dir(folder.path()).unwrap().count() == 1);

        let drawer =
            Drawer::options().without_sessions().keys(store.clone()).leave_sealed().open(&path, schema()).unwrap();
        assert_eq!(drawer.records::<Client>().only(|c| c.name).collect().unwrap().len(), 3);
        assert_eq!(drawer.records::<Client>().filter(|c| c.phone.is_some()).count().unwrap(), 2);
        let unread = drawer.get(stored[1].key()).unwrap_err();
        assert!(
            unread.is_unreadable()
                && unread.to_string().contains("select.group, the sealed value cannot be opened: its key is missing"),
            "{unread}"
        );
        let unwritten = drawer.insert(client(7)).unwrap_err();
        assert!(unwritten.is_key_missing() && unwritten.to_string().contains("Nothing was written"), "{unwritten}");
        let unfit = drawer.insert(Client { rate: f64::NAN, ..client(8) }).unwrap_err().to_string();
        assert!(unfit.contains("select.rate, the sealed value") && !unfit.contains("NaN"), "{unfit}");
        assert!(drawer.renew_key().unwrap_err().is_key_missing());
        assert_eq!(*drawer.settings::<Account>().get().unwrap(), Account::default());
        assert!(drawer.settings::<Account>().unreadable().unwrap().iter().map(Error::is_key_missing).eq([true]));
        assert!(drawer.settings::<Account>().change(|a| a.tries += 1).unwrap_err().is_key_missing());
        drawer.records::<Client>().update(|c| c.name.set("changed")).unwrap();
        drawer.records::<Client>().update(|c| c.name.set("Client")).unwrap();
        drawer.close().unwrap();
        std::fs::write(&path, &before).unwrap();
    }
    store.state.store(0, Relaxed);
    assert_eq!(open().unwrap().records::<Client>().collect().unwrap(), stored);
    let read_only = Drawer::options().read_only().keys(store.clone()).open(&path, schema()).unwrap();
    assert_eq!(read_only.records::<Client>().collect().unwrap(), stored);
}

#[test]
fn a_file_that_came_with_the_app_gets_a_key_of_the_device_unless_something_is_sealed_in_it() {
    let (folder, path) = folder();
    let drawer = with(&KeysInMemory::default()).open(&path, schema()).unwrap();
    drawer.insert_all((0..3).map(client)).unwrap();
    drawer.close().unwrap();
    let shipped = folder.path().join("installed.drawer");
    let ship = || with(&KeysInMemory::default()).shipped_file(&path).open(&shipped, schema());
    let error = ship().unwrap_err();
    assert!(error.is_key_missing(), "{error}");
    assert!(std::panic::catch_unwind(|| testing::shipped_file_fits(&schema(), &path)).is_err());
    std::fs::remove_file(&shipped).unwrap();
    let file = with(&KeysInMemory::default()).leave_sealed().open(&path, schema()).unwrap();
    file.remove_all::<Client>().unwrap();
    file.close().unwrap();
    testing::shipped_file_fits(&schema(), &path);
    let keys = KeysInMemory::default();
    let installed = with(&keys).shipped_file(&path).open(&shipped, schema()).unwrap();
    let stored = installed.insert_all((0..3).map(client)).unwrap();
    installed.close().unwrap();
    assert_eq!(with(&keys).open(&shipped, schema()).unwrap().records::<Client>().collect().unwrap(), stored);
    assert!(with(&KeysInMemory::default()).open(&shipped, schema()).unwrap_err().is_key_missing());
}

#[test]
fn a_file_without_any_key_gets_one() {
    let (_folder, path) = folder();
    drop(with(&KeysInMemory::default()).open(&path, schema()).unwrap());
    other_program(&path).execute_batch("DROP TABLE velvet_sealing").unwrap();
    let keys = KeysInMemory::default();
    let stored = with(&keys).open(&path, schema()).unwrap().insert(client(1)).unwrap();
    assert_eq!(with(&keys).open(&path, schema()).unwrap().records::<Client>().collect().unwrap(), [stored]);
}

const ROLE: &str = "VELVET_TEST_ROLE";

/// What the processes do that the pretend phone starts; nothing where this is run as an ordinary test.
#[test]
fn app() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let path = velvet_phone::app::folders().unwrap().durable.join("kiln.drawer");
    let options = Drawer::options().keys(velvet_phone::app::key_store().unwrap()).lock_timeout(Duration::from_secs(30));
    let drawer = options.open(&path, schema()).unwrap();
    let say = |line: &str| {
        println!("{line}");
        std::io::stdout().flush().unwrap();
    };
    say("opened");
    match role.as_str() {
        "renew" => {
            Progress::told(move |_| say("on the way"), || drawer.renew_key()).unwrap();
            println!("renewed");
        }
        _ => {
            while velvet_phone::app::next_signal() != velvet_phone::app::Signal::Quit {
                let number = drawer.count::<Client>().unwrap() as u32;
                drawer.insert(client(number)).unwrap();
                assert_eq!(drawer.records::<Client>().collect().unwrap().len() as u32, number + 1);
                say("wrote");
            }
            drawer.close().unwrap();
        }
    }
}

fn start(sandbox: &Sandbox, role: &str) -> Running {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "sealed::keys::app", "--nocapture"]).env(ROLE, role);
    sandbox.start(command).unwrap()
}

#[test]
fn a_killed_renewal_loses_nothing_and_other_processes_go_along() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let path = sandbox.durable().join("kiln.drawer");
    let open = || {
        Drawer::options().keys(sandbox.key_store()).lock_timeout(Duration::from_secs(30)).open(&path, schema()).unwrap()
    };
    open().insert_all((0..600).map(client)).unwrap();
    let is_whole = |count: u32| {
        let drawer = open();
        let read = drawer.records::<Client>().sort_by(|c| c.number.ascending()).collect().unwrap();
        assert!(read.into_iter().map(|c| c.into_record()).eq((0..count).map(client)));
        drawer.close().unwrap();
    };
    for round in 0..KILLS {
        let mut renewing = start(&sandbox, "renew");
        renewing.wait_for("opened").unwrap();
        // It goes on where the last one was killed, so it may have come to its end.
        let _ = (0..=round % 4).try_for_each(|_| renewing.wait_for("on the way").map(drop));
        renewing.kill().unwrap();
        is_whole(600);
    }
    open().renew_key().unwrap();
    assert_eq!(keys_of(&path), 1);
    let mut writing = start(&sandbox, "write");
    writing.wait_for("opened").unwrap();
    let mut renewing = start(&sandbox, "renew");
    let mut count = 600;
    for _ in 0..12 {
        writing.tap("write").unwrap();
        writing.wait_for("wrote").unwrap();
        count += 1;
    }
    renewing.wait_for("renewed").unwrap();
    // Another process has the key before; what it writes from now on has the new one.
    writing.tap("write").unwrap();
    writing.wait_for("wrote").unwrap();
    writing.quit().unwrap();
    is_whole(count + 1);
    assert_eq!(key_numbers(&path).len(), 1, "{:?}", key_numbers(&path));
    open().forget_old_keys().unwrap();
    is_whole(count + 1);

    // On another phone, from a backup, there are no keys.
    let other = Phone::temporary().unwrap();
    let restored = other.sandbox("kilnbook").unwrap();
    sandbox.restore_on(&restored).unwrap();
    let path = restored.durable().join("kiln.drawer");
    let error = Drawer::options().keys(restored.key_store()).open(&path, schema()).unwrap_err();
    assert!(error.is_key_missing() && error.to_string().contains("as after a move to another device"), "{error}");
}

/// How often a process that gives a new key is killed.
const KILLS: usize = 8;

/// How many keys a file has.
fn keys_of(path: &Path) -> i64 {
    other_program(path).query_row("SELECT count(*) FROM velvet_sealing", [], |row| row.get(0)).unwrap()
}

/// The number of the key of each sealed value.
fn key_numbers(path: &Path) -> BTreeMap<u32, usize> {
    let other = other_program(path);
    let mut all = BTreeMap::new();
    for column in ["\"group\"", "address", "balance", "portrait", "rate", "born"] {
        let text = format!("SELECT {column} FROM \"select\" WHERE {column} IS NOT NULL");
        let mut statement = other.prepare(&text).unwrap();
        let cells = statement.query_map([], |row| row.get::<_, Vec<u8>>(0)).unwrap();
        cells.for_each(|cell| *all.entry(key_number(&cell.unwrap()).unwrap()).or_default() += 1);
    }
    all
}

#[test]
fn a_new_key_is_given_record_by_record_and_goes_on_after_an_interruption() {
    let (_folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = with(&keys).trail(Trail::Before).open(&path, schema()).unwrap();
    let stored = drawer.insert_all((0..700).map(client)).unwrap();
    drawer.named::<Token>().set("courier", WORD.into()).unwrap();
    let entries =
        |path: &Path| File::open(path).unwrap().trail(&TrailOf { limit: None, ..TrailOf::default() }).unwrap().len();
    let before = entries(&path);
    drawer.copy_to(path.with_file_name("old.drawer")).unwrap();

    let cancel = Cancel::default();
    let stop = cancel.clone();
    let cancelled = cancel.during(|| {
        Progress::told(
            move |now| {
                if now.done > 900 {
                    stop.cancel()
                }
            },
            || drawer.renew_key(),
        )
    });
    assert!(cancelled.unwrap_err().is_cancelled());
    let numbers = key_numbers(&path);
    assert!(numbers[&1] > 0 && numbers[&2] > 0, "{numbers:?}");
    assert_eq!(drawer.records::<Client>().collect().unwrap(), stored, "by either key");
    drawer.close().unwrap();
    let drawer = with(&keys).trail(Trail::Before).open(&path, schema()).unwrap();
    assert_eq!(drawer.records::<Client>().collect().unwrap(), stored);
    drawer.change(stored[699].key(), |c| c.balance = 7).unwrap();
    drawer.change(stored[699].key(), |c| c.balance = stored[699].balance).unwrap();
    let done = drawer.renew_key().unwrap();
    assert!(done.sealed > 0 && done.damaged == 0, "{done:?}");
    assert_eq!(key_numbers(&path).into_keys().collect::<Vec<_>>(), [2]);
    assert_eq!(entries(&path), before + 2, "nothing was written for whoever reads it");
    assert_eq!(drawer.records::<Client>().collect().unwrap(), stored);

    let damage = "UPDATE \"select\" SET \"group\" = zeroblob(200) WHERE key = 2";
    other_program(&path).execute_batch(damage).unwrap();
    let done = drawer.renew_key().unwrap();
    assert_eq!((done.damaged, keys_of(&path)), (1, 2), "what may be opened by the old key still");
    drawer.forget_old_keys().unwrap();
    let old = with(&keys).open(path.with_file_name("old.drawer"), schema()).unwrap_err();
    assert!(old.is_key_missing(), "{old}");
    let read = drawer.records::<Client>().collect_readable().unwrap();
    assert!(read.unreadable.len() == 1 && read.records.len() == 699);
    drawer.close().unwrap();
    assert_eq!(with(&keys).open(&path, schema()).unwrap().named::<Token>().get("courier").unwrap(), Some(WORD.into()));
}

/// Answers each time with another key.
#[derive(Default)]
struct Fickle(std::sync::atomic::AtomicU8);

impl KeyKeeper for Fickle {
    fn find(&self, _: &str) -> Result<Option<SecretKey>, KeyRefusal> {
        Ok(Some(SecretKey::from_bytes([self.0.fetch_add(1, Relaxed); 32])))
    }

    fn keep(&self, _: &str, _: &SecretKey) -> Result<(), KeyRefusal> {
        Ok(())
    }

    fn forget(&self, _: &str) -> Result<(), KeyRefusal> {
        Ok(())
    }
}

#[test]
fn copies_that_get_new_keys_of_their_own_never_take_that_of_another() {
    let (_folder, path) = folder();
    let keys = KeysInMemory::default();
    let open = |path: &Path| with(&keys).open(path, schema());
    let is_whole = |path: &Path| {
        let drawer = open(path).unwrap();
        let read = drawer.records::<Client>().sort_by(|c| c.number.ascending()).collect().unwrap();
        assert!(read.into_iter().map(|c| c.into_record()).eq((0..4).map(client)), "{}", path.display());
        drawer.close().unwrap();
    };
    // The copies: by the library, by the command, as a backup of the device, and one that a restored one sets aside.
    let drawer = open(&path).unwrap();
    drawer.insert_all((0..4).map(client)).unwrap();
    let [copy, of_command, backup] =
        ["copy", "of_command", "backup"].map(|n| path.with_file_name(format!("{n}.drawer")));
    drawer.copy_to(&copy).unwrap();
    File::open(&path).unwrap().copy_to(&of_command, false).unwrap();
    drawer.close().unwrap();
    std::fs::copy(&path, &backup).unwrap();
    open(&path).unwrap().renew_key().unwrap();
    let aside = Drawer::restore(&path, &copy).unwrap().unwrap();
    let all = [&path, &aside, &copy, &of_command, &backup];
    for (round, place) in all.into_iter().cycle().take(10).enumerate() {
        let drawer = open(place).unwrap();
        assert!(drawer.renew_key().unwrap().sealed > 0);
        // What was copied by the library, or set aside, is never robbed of its key.
        if round > 4 && ![&aside, &backup].contains(&place) {
            let _ = drawer.forget_old_keys();
        }
        drawer.close().unwrap();
        all.into_iter().for_each(|place| is_whole(place));
    }
    // What took the place of a copy, or was saved from the file, is a copy of that file too.
    let saved = path.with_file_name("saved.drawer");
    salvage(&path, &saved, &Limits::default()).unwrap();
    Drawer::restore(&copy, &path).unwrap();
    for place in [&copy, &saved] {
        let drawer = open(place).unwrap();
        drawer.renew_key().unwrap();
        drawer.forget_old_keys().or_else(|error| if error.is_in_use() { Ok(()) } else { Err(error) }).unwrap();
        drawer.close().unwrap();
        all.into_iter().for_each(|place| is_whole(place));
    }
    let error = open(&path).unwrap().forget_old_keys().err();
    assert!(error.is_none_or(|error| error.is_in_use() && error.to_string().contains("set-aside")));

    // Nothing is written with a key that is not there the next time.
    let other = path.with_file_name("other.drawer");
    let error = Drawer::options().keys(Fickle::default()).open(&other, schema()).unwrap_err();
    assert!(error.is_key_missing() && error.to_string().contains("different keys to the same name"), "{error}");
}
