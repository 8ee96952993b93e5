//! Settings of which single fields are sealed: where each is stored, how fields come to be sealed and stop to be, and what holds without the key.

use crate::common;
use common::secret::{WORD, is_seen};
use common::{folder, other_program, versions};
use std::path::Path;
use std::time::Duration;
use velvet_core::evolve::{History, draft};
use velvet_core::schema::structure::Structure;
use velvet_drawer::inspect::{Exchange, File, Limits, TrailOf, import, salvage};
use velvet_drawer::{Drawer, Error, KeysInMemory, Options, Record, Schema, Settings, Trail, testing};

/// The same document as an app's versions have it: the first two with nothing or one field sealed, and what follows without another version of the schema.
mod v {
    macro_rules! door {
        ($version:ident, $(#[$type:meta])* { $($(#[$attribute:meta])* $field:ident: $kind:ty),* }) => {
            pub(super) mod $version {
                #[derive(velvet_drawer::Settings, Clone, Debug, PartialEq)]
                $(#[$type])*
                pub(crate) struct Door {
                    $($(#[$attribute])* pub(crate) $field: $kind),*
                }
            }
        };
    }
    door!(one, { #[settings(default = 9)] opens: u8, pin: String, code: Vec<String> });
    door!(two, { #[settings(default = 9)] opens: u8, #[settings(sealed)] pin: String, code: Vec<String> });
    door!(three, { #[settings(default = 9)] opens: u8, #[settings(sealed)] pin: String, #[settings(sealed, was = "code")] alarm: Vec<String> });
    door!(four, { #[settings(default = 9)] opens: u8, #[settings(was_sealed)] pin: String, #[settings(sealed, was = "code")] alarm: Vec<String> });
    door!(five, #[settings(sealed)] { #[settings(default = 9)] opens: u8, #[settings(was_sealed)] pin: String, #[settings(was_sealed, was = "code")] alarm: Vec<String> });
    door!(cleared, { #[settings(default = 9)] opens: u8, #[settings(sealed, was_clear)] pin: String, #[settings(sealed, was = "code")] alarm: Vec<String> });
    door!(moved, #[settings(name = "gate", was = "door")] { #[settings(sealed)] pin: String });
    door!(labelled, #[settings(name = "gate", was = "door")] { #[settings(sealed = "door_sealed.value")] pin: String, #[settings(sealed, was = "code")] alarm: Vec<String> });
}

/// The tables of a type, those that the file has for it.
fn structure_of<S: Settings>() -> Structure {
    let sealed = S::HAS_SEALED_FIELDS.then(|| S::SealedSetting::table().unwrap());
    Structure { tables: sealed.into_iter().chain([S::Setting::table().unwrap()]).collect() }
}

fn recorded(
    history: &History,
    from: &Structure,
    to: &Structure,
    hints: &[(&str, velvet_core::schema::hints::Hints)],
) -> History {
    let drafted = draft(from, to, hints, &[], &[]);
    assert_eq!(drafted.questions, [""; 0]);
    let mut history = history.recorded(to, drafted, &[]);
    history.versions[0].released = true;
    history
}

/// The histories of the first, second and fifth version of the document, of the third after that, and of the one with another name.
fn histories() -> [&'static str; 5] {
    let [one, two, five] =
        [structure_of::<v::one::Door>(), structure_of::<v::two::Door>(), structure_of::<v::five::Door>()];
    let mut first = History::start("doors", &one);
    first.versions[0].released = true;
    let second = recorded(&first, &one, &two, &[]);
    let third = recorded(&second, &two, &five, &[]);
    let back = recorded(&third, &five, &two, &[]);
    let hints = [
        ("gate", <v::labelled::Door as Settings>::Setting::HINTS),
        ("gate_sealed", <v::labelled::Door as Settings>::SealedSetting::HINTS),
    ];
    let moved = recorded(&second, &two, &structure_of::<v::labelled::Door>(), &hints);
    [&first, &second, &third, &back, &moved].map(versions::leaked)
}

fn schema<S: Settings>(history: &'static str) -> Schema {
    Schema::new("doors").settings::<S>().history(history)
}

fn with(keys: &KeysInMemory) -> Options {
    Drawer::options().keys(keys.clone()).trail(Trail::Before)
}

/// The names in the two tables of the document.
fn stored(path: &Path) -> [Vec<String>; 2] {
    ["door", "door_sealed"].map(|table| {
        let program = other_program(path);
        let mut statement = program.prepare(&format!("SELECT setting FROM {table} ORDER BY setting")).unwrap();
        statement.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    })
}

const ACCOUNTS: [&str; 3] = ["", "anna/phone", "50%_'\0"];

#[test]
fn fields_come_to_be_sealed_are_renamed_and_stop_to_be_and_nothing_is_seen_of_them_meanwhile() {
    let [first, second, fifth, back, _] = histories();
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let one = with(&keys).open(&path, schema::<v::one::Door>(first)).unwrap();
    for account in ACCOUNTS.iter().chain(&["gone"]) {
        let door = one.settings::<v::one::Door>().of(account);
        for n in 1..3 {
            door.change(|d| (d.pin, d.opens) = (format!("{WORD} {n}"), n)).unwrap();
        }
        door.change(|d| d.code = vec!["1".into()]).unwrap();
    }
    one.settings::<v::one::Door>().of("gone").reset().unwrap();
    one.close().unwrap();
    assert_eq!(is_seen(folder.path()).len(), 1, "what is not sealed is seen");
    let read_only = |schema| Drawer::options().read_only().keys(keys.clone()).open(&path, schema).unwrap();

    // In an upgrade.
    let two = with(&keys).open(&path, schema::<v::two::Door>(second)).unwrap();
    assert_eq!(two.opened().upgraded.as_ref().unwrap().versions.len(), 1);
    assert_eq!(is_seen(folder.path()), [""; 0], "nor in what was there before, in trails and unused pages");
    let is_as_before = |drawer: &Drawer| {
        for account in ACCOUNTS {
            let door = drawer.settings::<v::two::Door>().of(account);
            let expected = v::two::Door { opens: 2, pin: format!("{WORD} 2"), code: vec!["1".into()] };
            assert_eq!((&*door.get().unwrap(), door.unreadable().unwrap().len()), (&expected, 0), "{account}");
        }
        assert_eq!(*drawer.settings::<v::two::Door>().of("gone").get().unwrap(), v::two::Door::defaults());
    };
    is_as_before(&two);
    let kept = "SELECT count(*) FROM velvet_trail WHERE table_name = 'door' AND before ->> '$.value' = '1'";
    let count = |text: &str| other_program(&path).query_row(text, [], |row| row.get::<_, u32>(0)).unwrap();
    assert_eq!(count(kept), 3, "what the trails have of the others stays");
    assert!(stored(&path).iter().zip([6, 3]).all(|(names, count)| names.len() == count), "{:?}", stored(&path));
    for account in ACCOUNTS {
        two.settings::<v::two::Door>().of(account).change(|d| d.code = vec![WORD.into()]).unwrap();
    }
    two.close().unwrap();
    assert_eq!(is_seen(folder.path()).len(), 1);

    // With no other version of the schema. Until an app that may write opens it, what is there is read where it is.
    let alarm = vec![WORD.to_owned()];
    assert_eq!(read_only(schema::<v::three::Door>(second)).settings::<v::three::Door>().get().unwrap().alarm, alarm);
    let three = with(&keys).open(&path, schema::<v::three::Door>(second)).unwrap();
    assert_eq!((is_seen(folder.path()), three.opened().upgraded.is_none()), (vec![], true));
    assert_eq!(three.settings::<v::three::Door>().of(ACCOUNTS[1]).get().unwrap().alarm, alarm);
    assert_eq!(stored(&path)[0].len(), 3);
    three.close().unwrap();
    // An older app reads it still, and what it writes is what holds.
    let two = with(&keys).open(&path, schema::<v::two::Door>(second)).unwrap();
    let door = two.settings::<v::two::Door>();
    assert_eq!(door.get().unwrap().code, alarm);
    door.change(|d| d.code = vec![WORD.into()]).unwrap();
    door.change(|d| d.code = vec![WORD.into(), "newer".into()]).unwrap();
    assert!(stored(&path)[0].contains(&"code".into()) && !stored(&path)[1].contains(&"code".into()));
    two.close().unwrap();
    let program = other_program(&path);
    program.execute("INSERT INTO door (setting, value) VALUES ('pin', ?1)", [format!("\"{WORD} 3\"")]).unwrap();
    drop(program);
    let entries = count("SELECT count(*) FROM velvet_trail");
    let three = with(&keys).open(&path, schema::<v::three::Door>(second)).unwrap();
    let door = three.settings::<v::three::Door>();
    assert_eq!(is_seen(folder.path()), [""; 0]);
    assert_eq!(count("SELECT count(*) FROM velvet_trail"), entries, "nobody wrote anything");
    assert_eq!((door.get().unwrap().pin.clone(), door.get().unwrap().alarm.len()), (format!("{WORD} 3"), 2));
    door.change(|d| d.alarm.clear()).unwrap();
    assert_eq!(count("SELECT count(*) FROM velvet_trail"), entries + 2, "trails go on");
    assert!(!stored(&path)[1].contains(&"code".into()), "renamed once it is written");
    assert!(stored(&path)[1].contains(&"alarm".into()));
    three.close().unwrap();
    let untouched = std::fs::read(&path).unwrap();
    with(&keys).without_sessions().open(&path, schema::<v::three::Door>(second)).unwrap().close().unwrap();
    assert!(std::fs::read(&path).unwrap() == untouched, "there was nothing to do");

    let four = with(&keys).open(&path, schema::<v::four::Door>(second)).unwrap();
    assert_eq!(four.settings::<v::four::Door>().of(ACCOUNTS[2]).get().unwrap().pin, format!("{WORD} 2"));
    assert!(!is_seen(folder.path()).is_empty(), "in the clear again");
    assert_eq!(stored(&path)[1], ["50%_'\0/code", "alarm", "anna/phone/code"]);
    four.close().unwrap();

    // All of them, in their own table.
    let five = with(&keys).open(&path, schema::<v::five::Door>(fifth)).unwrap();
    assert_eq!((is_seen(folder.path()), stored(&path)[1].len()), (vec![], 0));
    for (account, codes) in ACCOUNTS.iter().zip([0, 1, 1]) {
        let door = five.settings::<v::five::Door>().of(account);
        let pin = format!("{WORD} {}", if account.is_empty() { 3 } else { 2 });
        assert_eq!((door.get().unwrap().opens, &door.get().unwrap().pin), (2, &pin));
        assert_eq!(door.get().unwrap().alarm.len(), codes);
    }
    five.close().unwrap();
    assert!(File::open(&path).unwrap().check().unwrap().is_sound());
    testing::every_version_upgrades(&schema::<v::five::Door>(fifth));

    // And one by one again.
    let three = with(&keys).open(&path, schema::<v::three::Door>(back)).unwrap();
    assert_eq!(is_seen(folder.path()), [""; 0]);
    assert_eq!(stored(&path).map(|names| names.len()), [3, 6]);
    for (account, codes) in ACCOUNTS.iter().zip([0, 1, 1]) {
        let door = three.settings::<v::three::Door>().of(account).get().unwrap();
        assert_eq!((door.opens, door.alarm.len()), (2, codes));
    }
}

#[test]
fn a_file_of_the_first_version_is_taken_through_all_of_them_at_once() {
    let [first, second, fifth, _, moved] = histories();
    for (history, at_the_end) in [(second, "three"), (fifth, "five"), (moved, "labelled")] {
        let (folder, path) = folder();
        let keys = KeysInMemory::default();
        let one = with(&keys).open(&path, schema::<v::one::Door>(first)).unwrap();
        one.settings::<v::one::Door>().change(|d| (d.pin, d.code) = (WORD.into(), vec![WORD.into()])).unwrap();
        one.close().unwrap();
        let read = match at_the_end {
            "three" => {
                let door = with(&keys).open(&path, schema::<v::three::Door>(history)).unwrap();
                let door = door.settings::<v::three::Door>().get().unwrap();
                (door.pin.clone(), door.alarm.clone())
            }
            "five" => {
                let door = with(&keys).open(&path, schema::<v::five::Door>(history)).unwrap();
                let door = door.settings::<v::five::Door>().get().unwrap();
                (door.pin.clone(), door.alarm.clone())
            }
            _ => {
                let door = with(&keys).open(&path, schema::<v::labelled::Door>(history)).unwrap();
                let door = door.settings::<v::labelled::Door>().get().unwrap();
                (door.pin.clone(), door.alarm.clone())
            }
        };
        assert_eq!((read, is_seen(folder.path())), ((WORD.into(), vec![WORD.into()]), vec![]), "{at_the_end}");
    }
    let [two, gate] = [structure_of::<v::two::Door>(), structure_of::<v::moved::Door>()];
    let hints = [
        ("gate", <v::moved::Door as Settings>::Setting::HINTS),
        ("gate_sealed", <v::moved::Door as Settings>::SealedSetting::HINTS),
    ];
    let asked = "what is stored in `gate_sealed.value` was sealed as `door_sealed.value`, and can be read only so: write sealed = \"door_sealed.value\" where the settings say `sealed`";
    assert_eq!(draft(&two, &gate, &hints, &[], &[]).questions, [asked]);
}

type Door = v::three::Door;

fn door(n: u8) -> Door {
    Door { opens: n, pin: format!("{WORD} {n}"), alarm: vec![WORD.repeat(n.into())] }
}

#[test]
fn one_document_is_read_written_followed_and_taken_elsewhere_wherever_its_fields_are() {
    let (folder, path) = folder();
    let keys = KeysInMemory::default();
    let schema = || Schema::new("doors").settings::<Door>();
    let drawer = with(&keys).others_noticed_within(Duration::ZERO).open(&path, schema()).unwrap();
    let settings = drawer.settings::<Door>();
    let mut all = settings.watch().unwrap();
    let mut pin = settings.watch_field(|d| d.pin.clone()).unwrap();
    assert_eq!(all.next().unwrap().unwrap().result, Door::defaults());
    assert_eq!(pin.next().unwrap().unwrap().result, "");
    for (n, account) in ACCOUNTS.iter().enumerate() {
        settings.clone().of(account).replace(door(n as u8 + 1)).unwrap();
    }
    assert_eq!(all.next().unwrap().unwrap().result, door(1));
    assert_eq!(pin.next().unwrap().unwrap().result, door(1).pin);
    let given_up = drawer.write(|tx| {
        let inside = tx.settings::<Door>();
        inside.change(|d| (d.opens, d.pin) = (7, "7".into()))?;
        assert_eq!((inside.get()?.opens, inside.get()?.pin.as_str()), (7, "7"));
        Err::<(), _>(Error::own("given up"))
    });
    assert!(given_up.is_err());
    let is_there = |drawer: &Drawer| {
        for (n, account) in ACCOUNTS.iter().enumerate() {
            assert_eq!(*drawer.settings::<Door>().of(account).get().unwrap(), door(n as u8 + 1), "{account}");
        }
    };
    is_there(&drawer);
    // What is in memory is forgotten when either table is written.
    settings.change(|d| d.pin = "other".into()).unwrap();
    assert_eq!(settings.get().unwrap().pin, "other");
    settings.change(|d| d.pin = door(1).pin).unwrap();
    is_there(&drawer);
    // No version of the app had it in the clear, so what somebody puts there is not taken for the app's.
    other_program(&path).execute_batch("INSERT INTO door (setting, value) VALUES ('pin', '\"4711\"')").unwrap();
    is_there(&drawer);
    settings.change(|d| d.pin = "other".into()).unwrap();
    assert!(!stored(&path)[0].contains(&"pin".to_owned()));
    settings.change(|d| d.pin = door(1).pin).unwrap();
    drawer.renew_key().unwrap();
    is_there(&drawer);
    drawer.copy_to(folder.path().join("copy.drawer")).unwrap();
    drawer.compact().unwrap();
    drawer.close().unwrap();
    assert_eq!(is_seen(folder.path()), [""; 0]);
    is_there(&with(&keys).open(folder.path().join("copy.drawer"), schema()).unwrap());

    let file = File::open(&path).unwrap();
    assert!(file.check().unwrap().is_sound());
    let said = format!("{:?}", file.trail(&TrailOf { limit: None, ..TrailOf::default() }).unwrap());
    assert!(said.contains("door_sealed") && !said.contains(WORD), "{said}");
    let mut out = Vec::new();
    file.export(&file.table("door_sealed").unwrap(), Exchange::JsonLines, &mut out).unwrap();
    std::fs::write(folder.path().join("out"), &out).unwrap();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    for account in ACCOUNTS {
        drawer.settings::<Door>().of(account).change(|d| (d.pin, d.alarm) = (String::new(), vec![])).unwrap();
    }
    drawer.close().unwrap();
    other_program(&path).execute_batch("DELETE FROM door_sealed").unwrap();
    import(&path, Some("door_sealed"), Exchange::JsonLines, &mut &out[..], &Limits::default()).unwrap();
    is_there(&with(&keys).open(&path, schema()).unwrap());
    let saved = folder.path().join("saved.drawer");
    salvage(&path, &saved, &Limits::default()).unwrap();
    is_there(&with(&keys).open(&saved, schema()).unwrap());
    assert_eq!(is_seen(folder.path()), [""; 0]);

    let drawer = with(&keys).open(&path, schema()).unwrap();
    drawer.settings::<Door>().of(ACCOUNTS[1]).reset().unwrap();
    assert_eq!(*drawer.settings::<Door>().of(ACCOUNTS[1]).get().unwrap(), Door::defaults());
    assert_eq!(*drawer.settings::<Door>().of(ACCOUNTS[2]).get().unwrap(), door(3));
    assert_eq!(stored(&path).map(|names| names.len()), [2, 4]);
}

#[test]
fn without_the_key_and_where_one_is_damaged_the_other_fields_are_read_and_what_is_sealed_stays() {
    let (_folder, path) = folder();
    let keys = KeysInMemory::default();
    let schema = || Schema::new("doors").settings::<Door>();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    drawer.settings::<Door>().replace(door(1)).unwrap();
    drawer.close().unwrap();
    assert!(with(&KeysInMemory::default()).open(&path, schema()).unwrap_err().is_key_missing());
    let drawer = with(&KeysInMemory::default()).leave_sealed().open(&path, schema()).unwrap();
    let settings = drawer.settings::<Door>();
    assert_eq!(*settings.get().unwrap(), Door { opens: 1, ..Door::defaults() });
    let unreadable = settings.unreadable().unwrap();
    assert!(unreadable.len() == 2 && unreadable.iter().all(Error::is_key_missing), "{unreadable:?}");
    for (error, name) in unreadable.iter().zip(["'pin'", "'alarm'"]) {
        let words = [name, "in door_sealed.value, ", "its key is missing", "what is stored stays", "kiln.drawer"];
        words.iter().for_each(|word| assert!(error.to_string().contains(word), "{word}: {error}"));
    }
    settings.change(|d| d.opens = 2).unwrap();
    assert!(settings.change(|d| d.pin = "new".into()).unwrap_err().is_key_missing());
    other_program(&path).execute("INSERT INTO door (setting, value) VALUES ('code', '[\"a\"]')", []).unwrap();
    drawer.close().unwrap();
    let drawer = with(&KeysInMemory::default()).leave_sealed().open(&path, schema()).unwrap();
    assert_eq!(stored(&path)[0], ["code", "opens"], "nothing is moved without the key");
    drawer.close().unwrap();

    // What no version had in the clear stays where it is, whether there is a sealed value or not; an app that says otherwise gets it, and an earlier version without the
    // seal says so too.
    let clear = |pin: &str| {
        let text = "INSERT OR REPLACE INTO door (setting, value) VALUES ('pin', json_quote(?1))";
        other_program(&path).execute(text, [pin]).unwrap();
    };
    for (sealed, pin) in [(door(1).pin, "4711"), (String::new(), "")] {
        clear("4711");
        let drawer = with(&keys).open(&path, schema()).unwrap();
        let settings = drawer.settings::<Door>();
        assert_eq!((settings.get().unwrap().pin.clone(), &stored(&path)[0][2]), (sealed, &"pin".to_owned()));
        let unreadable = settings.unreadable().unwrap();
        let expected = ["'pin'", "in door.value", "is in the clear", "add `was_clear`", "what is stored stays"];
        assert_eq!(unreadable.len(), usize::from(pin.is_empty()));
        for (error, word) in unreadable.iter().flat_map(|error| expected.map(|word| (error, word))) {
            assert!(error.is_unreadable() && error.to_string().contains(word), "{word}: {error}");
        }
        assert_eq!(settings.get_whole().is_err(), pin.is_empty());
        drawer.close().unwrap();
        other_program(&path).execute_batch("DELETE FROM door_sealed WHERE setting = 'pin'").unwrap();
    }
    let said = || Schema::new("doors").settings::<v::cleared::Door>();
    let reader = Drawer::options().read_only().keys(keys.clone()).open(&path, said()).unwrap();
    assert_eq!(reader.settings::<v::cleared::Door>().get().unwrap().pin, "4711", "where it is, until it is moved");
    drop(reader);
    let drawer = with(&keys).open(&path, said()).unwrap();
    assert_eq!(drawer.settings::<v::cleared::Door>().get().unwrap().pin, "4711");
    assert_eq!(
        (stored(&path)[0].clone(), stored(&path)[1].contains(&"pin".into())),
        (vec!["code".into(), "opens".into()], true)
    );
    drawer.settings::<v::cleared::Door>().change(|d| d.pin = door(1).pin).unwrap();
    drawer.close().unwrap();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    assert_eq!(*drawer.settings::<Door>().get().unwrap(), Door { opens: 2, ..door(1) });
    drawer.settings::<Door>().of("anna").change(|d| d.pin = "hers".into()).unwrap();
    drawer.close().unwrap();

    // No name gets the value of another, of this account or another, or shows it in the clear in the next version.
    let swapped = |a: &str, b: &str| {
        let text = "UPDATE door_sealed SET setting = CASE setting WHEN ?1 THEN ?2 ELSE ?1 END || '~' WHERE setting IN (?1, ?2)";
        other_program(&path).execute(text, [a, b]).unwrap();
        other_program(&path).execute("UPDATE door_sealed SET setting = rtrim(setting, '~')", []).unwrap();
    };
    for other in ["alarm", "anna/pin"] {
        swapped("pin", other);
        let drawer = with(&keys).open(&path, schema()).unwrap();
        let settings = drawer.settings::<Door>();
        assert_eq!((settings.get().unwrap().pin.as_str(), settings.get_whole().is_err()), ("", true), "{other}");
        assert!(settings.of("anna").get_whole().is_err() || other == "alarm");
        drawer.close().unwrap();
        swapped("pin", other);
    }
    let [.., four] = [schema(), Schema::new("doors").settings::<v::four::Door>()];
    swapped("pin", "alarm");
    with(&keys).open(&path, four).unwrap().close().unwrap();
    swapped("pin", "alarm");
    assert_eq!(
        stored(&path),
        [vec!["anna/pin", "code", "opens"], vec!["alarm", "pin"]],
        "of what does not open nothing is moved"
    );

    // Without any key the file gets one, by which what stands in the clear is sealed at once.
    other_program(&path).execute_batch("DROP TABLE velvet_sealing; DELETE FROM door_sealed").unwrap();
    clear("1");
    let drawer = with(&keys).open(&path, Schema::new("doors").settings::<v::cleared::Door>()).unwrap();
    assert_eq!(
        (drawer.settings::<v::cleared::Door>().get().unwrap().pin.as_str(), &stored(&path)[1]),
        ("1", &vec!["anna/pin".to_owned(), "pin".to_owned()])
    );
    drawer.close().unwrap();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    drawer.settings::<Door>().change(|d| (d.pin, d.alarm) = (door(1).pin, door(1).alarm)).unwrap();
    drawer.close().unwrap();

    let swap =
        "UPDATE door_sealed SET value = (SELECT value FROM door_sealed WHERE setting = 'alarm') WHERE setting = 'pin'";
    other_program(&path).execute_batch(swap).unwrap();
    let drawer = with(&keys).open(&path, schema()).unwrap();
    let settings = drawer.settings::<Door>();
    let unreadable = settings.unreadable().unwrap();
    assert!(unreadable.len() == 1 && unreadable[0].is_unreadable(), "{unreadable:?}");
    let refused = settings.get_whole().map(drop).unwrap_err();
    assert_eq!(refused.to_string(), unreadable[0].to_string(), "a default is not taken for what is stored");
    assert!(unreadable[0].to_string().contains("it was changed, or belongs to another name, record, column or file"));
    assert_eq!(*settings.get().unwrap(), Door { opens: 2, pin: String::new(), ..door(1) });
    settings.change(|d| d.pin = door(1).pin).unwrap();
    assert_eq!((*settings.get().unwrap()).clone(), Door { opens: 2, ..door(1) });
}
