//! Columns that are sealed: what is stored, read, refused, upgraded, and never seen in the clear.

mod keys;
mod names;
mod upgrades;

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

fn at_version<T: Record>(history: &'static str) -> Schema {
    Schema::new("guests").record::<T>().history(history)
}
