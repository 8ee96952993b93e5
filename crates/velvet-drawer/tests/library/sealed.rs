//! Columns that are sealed: what is stored, read, refused, upgraded, and never seen in the clear.

use crate::common;
use common::secret::{WORD, is_seen};
use common::store::{BROKEN, FORGETFUL, LOCKED, OTHERS, Store, WIPED};
use common::{folder, other_program, versions};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::Ordering::Relaxed;
use std::time::Duration;
use velvet_core::evolve::{History, Step, draft};
use velvet_core::schema::structure::Structure;
use velvet_core::sealing::{ColumnSeal, Plain, SealedPlace, key_number};
use velvet_drawer::inspect::{Exchange, File, Limits, TrailOf, import, salvage};
use velvet_drawer::{
    Cancel, Drawer, Error, Excerpt, Key, KeyKeeper, KeyRefusal, KeysInMemory, Options, Progress, Record, Schema,
    SecretKey, Settings, Trail, Value, testing,
};
use velvet_phone::{Phone, Running, Sandbox};

#[derive(Serialize, Deserialize, Clone, Debug, Default, PartialEq)]
struct Address {
    street: String,
    floors: Vec<u8>,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(name = "select")]
struct Client {
    #[record(own_key)]
    number: u32,
    #[record(searchable)]
    name: String,
    #[record(sealed, name = "group")]
    phone: Option<String>,
    #[record(sealed, json)]
    address: Address,
    #[record(sealed)]
    balance: i64,
    #[record(sealed, private)]
    portrait: Option<Vec<u8>>,
    #[record(sealed)]
    rate: f64,
    #[record(sealed)]
    born: Option<jiff::civil::Date>,
}

#[derive(Record, Clone, Debug, PartialEq)]
struct Order {
    #[record(link(on_delete = remove))]
    client: Key<Client>,
    what: String,
}

#[derive(Record, Clone, Debug, PartialEq)]
#[record(named)]
struct Token {
    name: String,
    #[record(sealed)]
    value: String,
}

#[derive(Excerpt, Debug, PartialEq)]
#[excerpt(of = Client)]
struct Card {
    number: u32,
    #[excerpt(sealed)]
    phone: Option<String>,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Client>().record::<Order>().record::<Token>().settings::<Account>()
}

#[derive(Settings, Clone, Debug, Default, PartialEq)]
#[settings(sealed)]
struct Account {
    pass_phrase: String,
    tries: u32,
}

fn client(number: u32) -> Client {
    Client {
        number,
        name: format!("Client {number}"),
        phone: (!number.is_multiple_of(3)).then(|| format!("{WORD} {number}")),
        address: Address { street: WORD.repeat(number as usize % 5), floors: vec![number as u8] },
        balance: [i64::MIN, i64::MAX, 0, -1][number as usize % 4],
        portrait: (!number.is_multiple_of(2)).then(|| WORD.as_bytes().to_vec()),
        rate: [0.0, -0.0, f64::INFINITY, 5e-324][number as usize % 4],
        born: (!number.is_multiple_of(2)).then(|| jiff::civil::date(1980, 2, 29)),
    }
}

fn with(keys: &KeysInMemory) -> Options {
    Drawer::options().keys(keys.clone())
}

#[test]
fn what_is_sealed_is_read_by_every_way_and_seen_by_none_else() {
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = with(&keys).trail(Trail::Before).open(&path, schema()).unwrap();
    let mut stored = drawer.insert_all((0..40).map(client)).unwrap();
    for stored in &stored {
        drawer.insert(Order { client: stored.key(), what: "a bowl".into() }).unwrap();
    }
    drawer.named::<Token>().set("courier", format!("{WORD} 1")).unwrap();
    drawer.named::<Token>().set("courier", format!("{WORD} 2")).unwrap();
    drawer.named::<Token>().merge([("post", WORD.to_owned()), ("courier", format!("{WORD} 3"))]).unwrap();
    assert_eq!(drawer.get(stored[1].key()).unwrap().unwrap().rate.to_bits(), 0, "-0.0 is stored as 0.0");
    let account = Account { pass_phrase: WORD.into(), tries: 3 };
    drawer.settings::<Account>().change(|a| a.pass_phrase = WORD.into()).unwrap();
    drawer.settings::<Account>().of("school").replace(account.clone()).unwrap();
    drawer.settings::<Account>().change(|a| a.tries = 3).unwrap();
    stored[3] = drawer.change(stored[3].key(), |c| c.phone = Some(format!("{WORD} changed"))).unwrap();
    let key = stored[4].key();
    drawer.records::<Client>().filter(|c| c.key().is(key)).update(|c| c.phone.set(WORD)).unwrap();
    stored[4] = drawer.get(key).unwrap().unwrap();
    assert_eq!(stored[4].phone.as_deref(), Some(WORD));
    drawer.remove(stored.pop().unwrap().key()).unwrap();
    let mut edit = stored[5].edit();
    edit.address.floors.push(9);
    stored[5] = drawer.save(edit).unwrap();
    let came: Vec<Client> = stored.iter().map(|c| c.clone().into_record()).collect();
    let report = drawer.refresh(came.into_iter().chain([client(39)])).remove_absent().run().unwrap();
    assert_eq!((report.unchanged, report.added), (39, 1), "what is the same is not sealed anew");
    stored.push(drawer.get_by_own_key::<Client>(39).unwrap().unwrap());

    let reads_all = |drawer: &Drawer| {
        let all = || drawer.records::<Client>().sort_by(|c| c.number.ascending());
        assert_eq!(all().collect().unwrap(), stored);
        let phones: Vec<_> = stored.iter().map(|c| c.phone.clone()).collect();
        assert_eq!(all().only(|c| c.phone).collect().unwrap(), phones);
        let cards: Vec<Card> = all().only_as::<Card>().collect().unwrap();
        assert!(cards.iter().zip(&stored).all(|(card, c)| card.phone == c.phone && card.number == c.number));
        let with: Vec<_> = drawer.records::<Order>().with(|o| o.client).collect().unwrap();
        assert_eq!(with.len(), 39);
        let found = drawer.records::<Client>().search("client 7").only(|c| (c.number, c.phone)).collect().unwrap();
        assert_eq!(found[0], (7, Some(format!("{WORD} 7"))));
        assert_eq!(drawer.records::<Client>().search("client 7").first().unwrap().unwrap().key(), stored[7].key());
        let missing = drawer.records::<Client>().filter(|c| c.phone.is_none()).count().unwrap();
        assert_eq!(missing, stored.iter().filter(|c| c.phone.is_none()).count() as u64);
        let mut live = all().watch().unwrap();
        let first = live.next().unwrap().unwrap();
        assert!(first.result.iter().map(|c| &**c).eq(stored.iter().map(|c| &**c)));
        assert_eq!(drawer.named::<Token>().get("courier").unwrap(), Some(format!("{WORD} 3")));
        assert_eq!(drawer.named::<Token>().get_all(["post", "none"]).unwrap(), [Some(WORD.to_owned()), None]);
        assert_eq!(*drawer.settings::<Account>().get().unwrap(), account);
        assert_eq!(*drawer.settings::<Account>().of("school").get().unwrap(), account);
        assert_eq!(*drawer.settings::<Account>().of("none").get().unwrap(), Account::default());
        let shown = all().table().unwrap().to_string();
        assert!(shown.contains("(sealed)") && !shown.contains(WORD));
    };
    reads_all(&drawer);
    drawer.copy_to(folder.path().join("copy.drawer")).unwrap();
    drawer.copy_without_private_to(folder.path().join("handed-out.drawer")).unwrap();
    std::fs::write(folder.path().join("bytes.drawer"), drawer.to_bytes().unwrap()).unwrap();
    assert_eq!(is_seen(folder.path()), [""; 0], "also in the log, while it is open");
    drawer.compact().unwrap();
    drawer.close().unwrap();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    reads_all(&drawer);
    drop(drawer);
    let copy = with(&keys).open(folder.path().join("copy.drawer"), schema()).unwrap();
    reads_all(&copy);
    drop(copy);

    // What looks into the file shows that it is sealed.
    let file = File::open(&path).unwrap();
    assert!(file.check().unwrap().is_sound());
    let said = format!("{:?}", file.trail(&TrailOf::default()).unwrap());
    assert!(said.contains("Sealed") && !said.contains(WORD), "{said}");
    for form in [Exchange::JsonLines, Exchange::Csv, Exchange::SqlText] {
        let mut out = Vec::new();
        let file = File::open(&path).unwrap();
        file.export(&file.table("select").unwrap(), form, &mut out).unwrap();
        std::fs::write(folder.path().join("out"), &out).unwrap();
        assert_eq!(is_seen(folder.path()), [""; 0]);
        if form != Exchange::SqlText {
            // Into the same rows of the same file they come back.
            let drawer = with(&keys).open(&path, schema()).unwrap();
            drawer.remove_all::<Client>().unwrap();
            drawer.close().unwrap();
            import(&path, Some("select"), form, &mut &out[..], &Limits::default()).unwrap();
            let back = with(&keys).open(&path, schema()).unwrap();
            assert_eq!(back.records::<Client>().sort_by(|c| c.number.ascending()).collect().unwrap(), stored);
        }
    }
    let saved = folder.path().join("saved.drawer");
    salvage(&path, &saved, &Limits::default()).unwrap();
    assert_eq!(with(&keys).open(&saved, schema()).unwrap().records::<Client>().count().unwrap(), 40);
    let compared = File::open(&path).unwrap().compare(&File::open(&saved).unwrap(), &mut |_| Ok(())).unwrap();
    assert!(compared.tables.iter().all(|t| t.added + t.removed + t.changed == 0), "{compared:?}");
    assert_eq!(is_seen(folder.path()), [""; 0]);
}

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

#[test]
fn a_value_opens_only_where_it_was_written_and_as_it_was_written() {
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = with(&keys).without_sessions().open(&path, schema()).unwrap();
    let stored = drawer
        .insert_all((0..4).map(|n| Client { phone: Some(format!("{n}")), portrait: Some(vec![7]), ..client(n) }))
        .unwrap();
    let elsewhere = with(&keys).open(folder.path().join("other.drawer"), schema()).unwrap();
    elsewhere.insert(Client { phone: Some("0".into()), ..client(0) }).unwrap();
    elsewhere.close().unwrap();
    let other = other_program(&path);
    other.execute("ATTACH ?1 AS elsewhere", [folder.path().join("other.drawer").to_str().unwrap()]).unwrap();
    let cell = |text: &str| other.query_row(text, [], |row| row.get::<_, Vec<u8>>(0)).unwrap();
    let own = cell("SELECT \"group\" FROM \"select\" WHERE key = 1");
    let mut foreign = vec![
        cell("SELECT \"group\" FROM \"select\" WHERE key = 2"),
        cell("SELECT portrait FROM \"select\" WHERE key = 1"),
        cell("SELECT \"group\" FROM elsewhere.\"select\" WHERE key = 1"),
        Vec::new(),
        b"?".to_vec(),
        Plain::of(Value::from("in the clear").as_ref()).unwrap(),
        own[..own.len() - 1].to_vec(),
        [&own[..], &[0; 32]].concat(),
    ];
    foreign.extend((0..own.len()).map(|at| {
        let mut changed = own.clone();
        changed[at] ^= 1;
        changed
    }));
    for cell in foreign {
        other.execute("UPDATE \"select\" SET \"group\" = ?1 WHERE key = 1", [&cell]).unwrap();
        let error = drawer.get(stored[0].key()).unwrap_err();
        assert!(
            error.is_unreadable() && error.to_string().contains("select.group, the sealed value "),
            "{error}: {cell:?}"
        );
        let read = drawer.records::<Client>().collect_readable().unwrap();
        assert!(read.records == stored[1..] && read.unreadable.len() == 1);
        assert!(drawer.records::<Client>().only(|c| c.phone).collect().is_err());
    }
    let sound = File::open(&path).unwrap().check().unwrap();
    assert!(sound.is_sound(), "whether it opens is known only with the key: {sound:?}");
    other.execute("UPDATE \"select\" SET \"group\" = x'00' WHERE key = 1", []).unwrap();
    assert!(!File::open(&path).unwrap().check().unwrap().is_sound(), "no sealed value");
    other.execute("UPDATE \"select\" SET \"group\" = ?1 WHERE key = 1", [&own]).unwrap();
    assert_eq!(drawer.records::<Client>().collect().unwrap(), stored);

    // What a file defines cannot have anything opened.
    let thief = "CREATE TABLE loot (x); CREATE TRIGGER thief AFTER UPDATE ON \"select\" BEGIN INSERT INTO loot \
                 VALUES (velvet_unseal(old.\"group\", 'select.group', old.key)); END";
    other.execute_batch(thief).unwrap();
    assert!(drawer.change(stored[0].key(), |c| c.name = "x".into()).is_err());
    assert_eq!(other.query_row("SELECT count(*) FROM loot", [], |row| row.get::<_, i64>(0)).unwrap(), 0);
}

/// The same record in four versions: plain; sealed; under other names, one column of another type, one filled anew, and one new; plain again.
mod v {
    pub(crate) mod one {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        pub(crate) struct Person {
            #[record(searchable)]
            pub(crate) phone: String,
            pub(crate) pin: Option<i32>,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod two {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        pub(crate) struct Person {
            #[record(sealed)]
            pub(crate) phone: String,
            #[record(sealed)]
            pub(crate) pin: Option<i32>,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod three {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "guest", was = "person")]
        pub(crate) struct Person {
            #[record(sealed = "person.phone", was = "phone")]
            pub(crate) mobile: String,
            #[record(sealed = "person.pin", fill = "CASE WHEN pin IS NOT NULL THEN printf('%04d', pin) END")]
            pub(crate) pin: Option<String>,
            pub(crate) note: Option<String>,
            #[record(sealed, fill = "'called ' || mobile")]
            pub(crate) said: String,
        }
    }
    pub(crate) mod four {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "guest")]
        pub(crate) struct Person {
            pub(crate) mobile: String,
            #[record(sealed = "person.pin")]
            pub(crate) pin: Option<String>,
            #[record(sealed)]
            pub(crate) note: Option<String>,
            pub(crate) said: String,
        }
    }
}

/// The histories up to each version.
fn histories() -> [&'static str; 4] {
    let tables = [
        (v::one::Person::table().unwrap(), ("person", v::one::Person::HINTS)),
        (v::two::Person::table().unwrap(), ("person", v::two::Person::HINTS)),
        (v::three::Person::table().unwrap(), ("guest", v::three::Person::HINTS)),
        (v::four::Person::table().unwrap(), ("guest", v::four::Person::HINTS)),
    ];
    let structure = |at: usize| Structure { tables: vec![tables[at].0.clone()] };
    let mut history = History::start("guests", &structure(0));
    let mut all = [""; 4];
    for at in 0..4 {
        if at > 0 {
            let drafted = draft(&structure(at - 1), &structure(at), &[tables[at].1], &[], &[]);
            assert_eq!(drafted.questions, [""; 0]);
            history = history.recorded(&structure(at), drafted, &[]);
        }
        history.versions[0].released = true;
        all[at] = versions::leaked(&history);
    }
    all
}

fn at_version<T: Record>(history: &'static str) -> Schema {
    Schema::new("guests").record::<T>().history(history)
}

#[test]
fn columns_come_to_be_sealed_are_renamed_filled_and_stop_to_be_sealed() {
    let [first, second, third, fourth] = histories();
    let people = || {
        (1..60).map(|n| v::one::Person {
            phone: format!("{WORD} {n}"),
            pin: (n % 3 > 0).then_some(n),
            note: Some(WORD.into()),
        })
    };
    let pin = |n: i32| (n % 3 > 0).then(|| format!("{n:04}"));
    // One step after the other, and all at once.
    for at_once in [false, true] {
        let (folder, path) = folder();
        let keys = KeysInMemory::default();
        let with = || with(&keys).trail(Trail::Before);
        let drawer = with().open(&path, at_version::<v::one::Person>(first)).unwrap();
        drawer.insert_all(people().map(|p| v::one::Person { note: None, ..p })).unwrap();
        let changed = drawer.insert(v::one::Person { phone: WORD.into(), pin: None, note: None }).unwrap();
        drawer.change(changed.key(), |p| p.phone = format!("{WORD} 60")).unwrap();
        drawer.remove(changed.key()).unwrap();
        drawer.close().unwrap();
        assert_eq!(is_seen(folder.path()).len(), 1, "what is not sealed is seen");
        if !at_once {
            let refused = Drawer::open(&path, at_version::<v::two::Person>(second)).unwrap_err();
            assert!(refused.is_schema(), "{refused}");
            let drawer = with().open(&path, at_version::<v::two::Person>(second)).unwrap();
            assert_eq!(
                is_seen(folder.path()),
                [""; 0],
                "nor in pages that are not used any more, in the trail, in the search index"
            );
            let expected: Vec<_> =
                people().map(|p| v::two::Person { phone: p.phone, pin: p.pin, note: None }).collect();
            assert!(
                drawer.records::<v::two::Person>().collect().unwrap().into_iter().map(|p| p.into_record()).eq(expected)
            );
            drawer.close().unwrap();
            let drawer = with().open(&path, at_version::<v::three::Person>(third)).unwrap();
            assert_eq!(is_seen(folder.path()), [""; 0]);
            let expected = (1..60).map(|n| {
                let mobile = format!("{WORD} {n}");
                v::three::Person { said: format!("called {mobile}"), mobile, pin: pin(n), note: None }
            });
            assert!(
                drawer
                    .records::<v::three::Person>()
                    .collect()
                    .unwrap()
                    .into_iter()
                    .map(|p| p.into_record())
                    .eq(expected)
            );
            drawer.close().unwrap();
            let file = File::open(&path).unwrap();
            assert!(file.check().unwrap().is_sound());
            let tried = file.rehearse_history(fourth).unwrap_err();
            assert!(tried.is_key_missing() && tried.to_string().contains("what is sealed cannot be opened"), "{tried}");
            let schema = at_version::<v::four::Person>(fourth);
            let tried = file.rehearse(&schema).unwrap_err();
            assert!(tried.is_key_missing(), "{tried}");
            let (names, before) = (format!("{keys:?}"), std::fs::read(&path).unwrap());
            assert!(file.rehearse_with_keys(&schema, keys.clone()).unwrap().upgraded.is_some());
            assert!(
                format!("{keys:?}") == names && std::fs::read(&path).unwrap() == before,
                "a rehearsal keeps nothing"
            );
        }
        let lost = Drawer::options().keys(KeysInMemory::default()).leave_sealed();
        let opened = lost.open(&path, at_version::<v::four::Person>(fourth));
        if at_once {
            drop(opened);
            continue;
        }
        let error = opened.unwrap_err();
        assert!(error.is_key_missing() && error.to_string().contains("The file is as it was, at version 3"), "{error}");
        let drawer = with().open(&path, at_version::<v::four::Person>(fourth)).unwrap();
        let expected = (1..60).map(|n| {
            let mobile = format!("{WORD} {n}");
            v::four::Person { said: format!("called {mobile}"), mobile, pin: pin(n), note: None }
        });
        assert!(
            drawer.records::<v::four::Person>().collect().unwrap().into_iter().map(|p| p.into_record()).eq(expected)
        );
    }
    let (_folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = with(&keys).open(&path, at_version::<v::one::Person>(first)).unwrap();
    drawer.insert_all(people()).unwrap();
    drawer.close().unwrap();
    assert!(File::open(&path).unwrap().rehearse_history(second).unwrap().upgraded.is_some());
    let drawer = with(&keys).open(&path, at_version::<v::four::Person>(fourth)).unwrap();
    let all = drawer.records::<v::four::Person>().collect().unwrap();
    assert!(all.len() == 59 && all.iter().all(|p| p.note.as_deref() == Some(WORD) && p.mobile.starts_with(WORD)));

    let schema = at_version::<v::four::Person>(fourth);
    testing::every_version_upgrades(&schema);
}

#[test]
fn bytes_that_were_stored_as_bytes_come_to_be_sealed_too() {
    mod clear {
        #[derive(velvet_drawer::Record)]
        pub(crate) struct Face {
            pub(crate) portrait: Vec<u8>,
        }
    }
    #[derive(Record)]
    struct Face {
        #[record(sealed)]
        portrait: Vec<u8>,
    }
    let [before, after] =
        [clear::Face::table().unwrap(), Face::table().unwrap()].map(|table| Structure { tables: vec![table] });
    let mut history = History::start("guests", &before);
    history.versions[0].released = true;
    let first = versions::leaked(&history);
    let second =
        versions::leaked(&history.recorded(&after, draft(&before, &after, &[("face", Face::HINTS)], &[], &[]), &[]));
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let drawer = Drawer::open(&path, at_version::<clear::Face>(first)).unwrap();
    drawer.insert_all((0..50).map(|n| clear::Face { portrait: WORD.repeat(n).into_bytes() })).unwrap();
    drawer.records::<clear::Face>().limit(40).remove().unwrap();
    drawer.close().unwrap();
    let drawer = with(&keys).open(&path, at_version::<Face>(second)).unwrap();
    let all = drawer.records::<Face>().collect().unwrap();
    assert!(all.iter().map(|f| &f.portrait).eq(&(40..50).map(|n| WORD.repeat(n).into_bytes()).collect::<Vec<_>>()));
    assert_eq!(is_seen(folder.path()), [""; 0], "also what was removed before");
}

#[test]
fn a_rename_without_the_label_is_asked_about() {
    #[derive(Record)]
    #[record(name = "guest", was = "person")]
    struct Guest {
        #[record(sealed, was = "phone")]
        mobile: String,
        #[record(sealed = "person.pin")]
        pin: Option<i32>,
        note: Option<String>,
    }
    let tables =
        [v::two::Person::table().unwrap(), Guest::table().unwrap()].map(|table| Structure { tables: vec![table] });
    let drafted = draft(&tables[0], &tables[1], &[("guest", Guest::HINTS)], &[], &[]);
    let asked = "what is stored in `guest.mobile` was sealed as `person.phone`, and can be read only so: write #[record(sealed = \"person.phone\")] on the field";
    assert_eq!(drafted.questions, [asked]);
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
    command.args(["--exact", "sealed::app", "--nocapture"]).env(ROLE, role);
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

#[test]
fn python_opens_the_vectors_of_the_docs_and_what_the_library_sealed() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR"));
    let python = |arguments: &[&str]| {
        let mut command = Command::new("python3");
        let output =
            command.arg(crates.join("tests/unseal.py")).args(arguments).output().expect("this test needs python3");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    let docs = crates.join("../../docs/secrecy.md");
    assert_eq!(python(&["vectors", docs.to_str().unwrap()]), "True\n".repeat(8));
    let (_folder, path) = folder();
    let keys = Store::default();
    keys.state.store(OTHERS, Relaxed);
    let drawer = Drawer::options().keys(keys).open(&path, schema()).unwrap();
    drawer.insert_all((0..8).map(client)).unwrap();
    drawer.close().unwrap();
    let key = "09".repeat(32);
    let opened =
        |column: &str| python(&["file", path.to_str().unwrap(), &key, "select", column, &format!("select.{column}")]);
    let lines = |value: fn(&Client) -> Option<String>| {
        (0..8).filter_map(|n| Some(format!("{} {}\n", n + 1, value(&client(n))?))).collect::<String>()
    };
    assert_eq!(opened("group"), lines(|c| c.phone.clone()));
    assert_eq!(opened("balance"), lines(|c| Some(c.balance.to_string())));
    assert_eq!(opened("born"), lines(|c| c.born.map(|day| day.to_string())));
    assert!(opened("address").contains("\"floors\":[3]"));
}

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

#[test]
fn a_log_that_a_reader_kept_from_being_cut_is_clean_after_the_next_open() {
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let [first, second, ..] = histories();
    let drawer = with(&keys).open(&path, at_version::<v::one::Person>(first)).unwrap();
    drawer.insert_all((1..60).map(|n| v::one::Person { phone: format!("{WORD} {n}"), pin: None, note: None })).unwrap();
    // A widget or another program reads an older state all the while.
    let reader = other_program(&path);
    reader.execute_batch("BEGIN; SELECT count(*) FROM person").unwrap();
    drawer.close().unwrap();
    let open = || with(&keys).open(&path, at_version::<v::two::Person>(second)).unwrap();
    open().close().unwrap();
    assert!(!is_seen(folder.path()).is_empty(), "the reader needs it");
    reader.execute_batch("COMMIT").unwrap();
    drop(reader);
    let drawer = open();
    assert_eq!(is_seen(folder.path()), [""; 0]);
    assert_eq!(drawer.count::<v::two::Person>().unwrap(), 59);
    drawer.close().unwrap();
}

#[test]
fn a_file_from_before_is_taken_over_and_its_columns_come_to_be_sealed() {
    let (folder, path) = folder();
    let [_, second, ..] = histories();
    other_program(&path)
        .execute_batch(&format!(
            "CREATE TABLE person (id INTEGER PRIMARY KEY, phone TEXT NOT NULL, pin INTEGER, note TEXT);
             INSERT INTO person VALUES (7, '{WORD} 7', 7, NULL), (9, '{WORD} 9', NULL, 'regular')"
        ))
        .unwrap();
    let keys = KeysInMemory::default();
    let open = || with(&keys).adopt().open(&path, at_version::<v::two::Person>(second));
    let drawer = open().unwrap();
    let adopted = drawer.opened().adopted.clone().unwrap();
    assert_eq!((adopted.version, drawer.opened().upgraded.as_ref().unwrap().from), (1, 1));
    let phones = |drawer: &Drawer| drawer.records::<v::two::Person>().only(|p| (p.phone, p.pin)).collect().unwrap();
    let expected = [(format!("{WORD} 7"), Some(7)), (format!("{WORD} 9"), None)];
    assert_eq!(phones(&drawer), expected);
    drawer.close().unwrap();
    let seen = is_seen(folder.path());
    assert!(seen.len() == 1 && seen[0].contains("before-adoption"), "only the copy from before: {seen:?}");
    assert_eq!(phones(&open().unwrap()), expected);
    assert!(
        with(&KeysInMemory::default()).open(&path, at_version::<v::two::Person>(second)).unwrap_err().is_key_missing()
    );
}

/// Named values that come to be sealed, get other names by hand, become other records and named values again, and stop to be sealed.
mod tokens {
    pub(crate) mod one {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named)]
        pub(crate) struct Token {
            pub(crate) name: String,
            pub(crate) value: String,
        }
    }
    pub(crate) mod two {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named)]
        pub(crate) struct Token {
            pub(crate) name: String,
            #[record(sealed)]
            pub(crate) value: String,
        }
    }
    pub(crate) mod three {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(name = "pass", was = "token")]
        pub(crate) struct Token {
            #[record(own_key)]
            pub(crate) name: String,
            #[record(sealed = "token.value")]
            pub(crate) value: String,
            pub(crate) note: Option<String>,
        }
    }
    pub(crate) mod four {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named, name = "pass")]
        pub(crate) struct Token {
            #[record(ignore_case)]
            pub(crate) name: String,
            #[record(sealed = "token.value")]
            pub(crate) value: String,
        }
    }
    pub(crate) mod five {
        #[derive(velvet_drawer::Record, Clone, Debug, PartialEq)]
        #[record(named, name = "pass")]
        pub(crate) struct Token {
            #[record(ignore_case)]
            pub(crate) name: String,
            pub(crate) value: String,
        }
    }
}

/// The histories up to each version of [`tokens`].
fn histories_of_tokens() -> [&'static str; 5] {
    use tokens::{five, four, one, three, two};
    let tables = [
        (one::Token::table().unwrap(), ("token", one::Token::HINTS)),
        (two::Token::table().unwrap(), ("token", two::Token::HINTS)),
        (three::Token::table().unwrap(), ("pass", three::Token::HINTS)),
        (four::Token::table().unwrap(), ("pass", four::Token::HINTS)),
        (five::Token::table().unwrap(), ("pass", five::Token::HINTS)),
    ];
    let structure = |at: usize| Structure { tables: vec![tables[at].0.clone()] };
    let mut history = History::start("guests", &structure(0));
    std::array::from_fn(|at| {
        if at > 0 {
            let mut drafted = draft(&structure(at - 1), &structure(at), &[tables[at].1], &[], &[]);
            assert_eq!(drafted.questions, [""; 0]);
            if let (3, Step::ChangeColumn { fill, .. }) = (at, &mut drafted.changes[0]) {
                *fill = Some("name || '!'".into());
            }
            let by_hand = |statement: &str| Step::Statement { statement: statement.into() };
            match at {
                2 => drafted.changes.push(by_hand("UPDATE pass SET name = 'the ' || name")),
                4 => drafted.changes.insert(0, by_hand("UPDATE pass SET name = name || '?'")),
                _ => {}
            }
            history = history.recorded(&structure(at), drafted, &[]);
            if at == 3 {
                // A version of which only the names are other ones.
                history.versions[0].released = true;
                let mut drafted = draft(&structure(at), &structure(at), &[], &[], &[]);
                drafted.changes.push(by_hand("UPDATE pass SET name = upper(name) WHERE key <> 2"));
                history = history.recorded(&structure(at), drafted, &[]);
            }
        }
        history.versions[0].released = true;
        versions::leaked(&history)
    })
}

/// The form of each value of a column.
fn forms(path: &Path, table: &str) -> Vec<u8> {
    let other = other_program(path);
    let mut statement = other.prepare(&format!("SELECT value FROM {table} ORDER BY key")).unwrap();
    statement.query_map([], |row| Ok(row.get::<_, Vec<u8>>(0)?[0])).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_sealed_named_value_opens_under_its_name_only_and_follows_every_rename_of_the_apps() {
    let (_folder, path) = folder();
    let keys = Store::default();
    keys.state.store(OTHERS, Relaxed);
    let open = || Drawer::options().keys(keys.clone()).open(&path, schema()).unwrap();
    let swap = |table: &str, column: &str, a: &str, b: &str| {
        let text = format!(
            "UPDATE {table} SET {column} = '{a}~' WHERE {column} = '{a}'; UPDATE {table} SET {column} = '{a}' WHERE {column} = '{b}';
             UPDATE {table} SET {column} = '{b}' WHERE {column} = '{a}~'"
        );
        other_program(&path).execute_batch(&text).unwrap();
    };
    let drawer = open();
    let tokens = drawer.named::<Token>();
    tokens.set("courier", "the courier's".into()).unwrap();
    tokens.merge([("post", "the post's".into()), ("till", "the till's".into())]).unwrap();
    swap("token", "name", "courier", "post");
    for name in ["courier", "post"] {
        let error = tokens.get(name).unwrap_err();
        assert!(error.is_unreadable() && error.to_string().contains("belongs to another name, record"), "{error}");
        assert!(tokens.change(name, |value| value.clear()).unwrap_err().is_unreadable());
        let renamed = tokens.records().filter(|t| t.name.is(name)).update(|t| t.name.set("other"));
        assert!(renamed.unwrap_err().is_unreadable(), "what does not open is not sealed for another name");
    }
    assert_eq!(tokens.get_all(["till"]).unwrap(), [Some("the till's".into())]);
    swap("token", "name", "courier", "post");

    // Whatever of ours renames seals again.
    let key = tokens.records().filter(|t| t.name.is("courier")).first().unwrap().unwrap().key();
    drawer.change(key, |t| t.name = "a".into()).unwrap();
    drawer.change(key, |t| (t.name, t.value) = ("b".into(), "two".into())).unwrap();
    assert_eq!(tokens.get("b").unwrap().as_deref(), Some("two"));
    let one = || tokens.records().filter(|t| t.name.is_not("post") & t.name.is_not("till"));
    for (n, expected) in [(1, "two"), (2, "three"), (3, "four")] {
        let name = format!("n{n}");
        let written = match n {
            1 => one().update(|t| t.name.set(&name)),
            2 => one().update(|t| (t.value.set("three"), t.name.set(&name))),
            _ => one().update(|t| (t.name.set(&name), t.value.set("four"))),
        };
        assert_eq!((written.unwrap(), tokens.get(&name).unwrap().as_deref()), (1, Some(expected)));
    }
    let mut edit = drawer.get(key).unwrap().unwrap().edit();
    edit.name = "it's \"e\"\0'".into();
    drawer.save(edit).unwrap();
    assert_eq!(tokens.get("it's \"e\"\0'").unwrap().as_deref(), Some("four"));
    drawer.replace(key, Token { name: "courier".into(), value: "five".into() }).unwrap();
    let refused = drawer.write(|tx| tx.sql("UPDATE token SET name = 'x' WHERE name = 'post'").run()).unwrap_err();
    assert!(refused.to_string().contains("`token.name`, the name that sealed values are bound to"), "{refused}");
    drawer.write(|tx| tx.sql("UPDATE token SET value = value").run()).unwrap();
    assert_eq!(tokens.get_all(["courier", "post", "till"]).unwrap().iter().flatten().count(), 3);
    assert_eq!(forms(&path, "token"), [2; 3]);

    // What was sealed before names were bound is read, and bound once it is written or gets a new key.
    let file_id: Vec<u8> =
        other_program(&path).query_row("SELECT file_id FROM velvet_sealing", [], |row| row.get(0)).unwrap();
    let seal = ColumnSeal::new(&SecretKey::from_bytes([9; 32]), 1, &file_id.try_into().unwrap(), "token.value");
    for (row, value) in [(1, "older"), (2, "old"), (3, "oldest")] {
        let place = SealedPlace { row, name: None };
        let sealed = seal.seal(&Plain::of(Value::Text(value.into()).as_ref()).unwrap(), place, [row as u8; 24]);
        other_program(&path).execute("UPDATE token SET value = ?1 WHERE key = ?2", (sealed, row)).unwrap();
    }
    assert_eq!(
        tokens.get_all(["courier", "post", "till"]).unwrap(),
        ["older", "old", "oldest"].map(|v| Some(v.into()))
    );
    tokens.set("courier", "new".into()).unwrap();
    assert_eq!(forms(&path, "token"), [2, 1, 1]);
    drawer.renew_key().unwrap();
    assert_eq!(forms(&path, "token"), [2; 3]);
    assert_eq!(tokens.get_all(["courier", "post", "till"]).unwrap(), ["new", "old", "oldest"].map(|v| Some(v.into())));
    drawer.close().unwrap();

    let python = Command::new("python3")
        .arg(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/unseal.py"))
        .args(["file", path.to_str().unwrap(), &"09".repeat(32), "token", "value", "token.value", "name"])
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&python.stdout), "1 new\n2 old\n3 oldest\n", "{python:?}");
}

#[test]
fn upgrades_take_sealed_named_values_along_whatever_becomes_of_their_names() {
    use tokens::{five, four, one, three, two};
    let histories = histories_of_tokens();
    let (names, values) = (["a", "b", "c's"], [WORD, "", "2"]);
    macro_rules! at {
        ($version:ident, $at:expr, $keys:expr, $path:expr) => {
            Drawer::options().keys($keys.clone()).open($path, at_version::<$version::Token>(histories[$at]))
        };
    }
    // From each version to each later one.
    for from in 0..4 {
        for to in from + 1..5 {
            let (_folder, path) = folder();
            let keys = KeysInMemory::default();
            let pairs = || names.iter().zip(values).map(|(name, value)| ((*name).to_owned(), value.to_owned()));
            match from {
                0 => at!(one, 0, keys, &path)
                    .unwrap()
                    .insert_all(pairs().map(|(name, value)| one::Token { name, value }))
                    .map(drop),
                1 => at!(two, 1, keys, &path)
                    .unwrap()
                    .insert_all(pairs().map(|(name, value)| two::Token { name, value }))
                    .map(drop),
                2 => {
                    let three = at!(three, 2, keys, &path).unwrap();
                    let token = |(name, value)| three::Token { name: format!("the {name}"), value, note: None };
                    three.insert_all(pairs().map(token)).map(drop)
                }
                _ => {
                    let token = |(name, value)| four::Token { name: format!("the {name}!"), value };
                    at!(four, 3, keys, &path).unwrap().insert_all(pairs().map(token)).map(drop)
                }
            }
            .unwrap();
            let read: Vec<(String, String)> = match to {
                1 => at!(two, 1, keys, &path).unwrap().records::<two::Token>().only(|t| (t.name, t.value)).collect(),
                2 => {
                    at!(three, 2, keys, &path).unwrap().records::<three::Token>().only(|t| (t.name, t.value)).collect()
                }
                3 => at!(four, 3, keys, &path).unwrap().records::<four::Token>().only(|t| (t.name, t.value)).collect(),
                _ => at!(five, 4, keys, &path).unwrap().records::<five::Token>().only(|t| (t.name, t.value)).collect(),
            }
            .unwrap();
            let named = |name: String| match to {
                1 => name,
                2 => format!("the {name}"),
                _ if name != "b" && from < 3 => format!("THE {}!{}", name.to_uppercase(), &"?"[..to - 3]),
                _ => format!("the {name}!{}", &"?"[..to - 3]),
            };
            assert!(
                read.iter().cloned().eq(pairs().map(|(name, value)| (named(name), value))),
                "{from} to {to}: {read:?}"
            );
            let expected = match to {
                1 | 3 => [2; 3],
                2 => [1; 3],
                _ => continue,
            };
            assert_eq!(forms(&path, if to == 1 { "token" } else { "pass" }), expected, "{from} to {to}");
        }
    }
    // Nothing is sealed at the end, so no key is needed but for what is sealed at the beginning.
    let (_folder, path) = folder();
    let value = |name: &str, value: &str| one::Token { name: name.into(), value: value.into() };
    Drawer::open(&path, at_version::<one::Token>(histories[0])).unwrap().insert(value("a", WORD)).unwrap();
    let last = || Drawer::open(&path, at_version::<five::Token>(histories[4]));
    assert_eq!(last().unwrap().named::<five::Token>().get("the A!?").unwrap().as_deref(), Some(WORD));
    std::fs::remove_file(&path).unwrap();
    let two = at!(two, 1, KeysInMemory::default(), &path).unwrap();
    two.named::<two::Token>().set("a", WORD.into()).unwrap();
    two.close().unwrap();
    assert!(last().unwrap_err().is_key_missing());
    testing::every_version_upgrades(&at_version::<five::Token>(histories[4]));
}
