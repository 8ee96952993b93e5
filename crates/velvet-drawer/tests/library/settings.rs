//! Settings: defaults, fields that come and go, what cannot be read, several accounts, memory, following.

use crate::common;
use common::{Glaze, folder, other_program};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use velvet_drawer::{Drawer, Error, Key, Schema, Settings};

#[derive(Serialize, Deserialize, Clone, Copy, Debug, Default, PartialEq)]
enum Theme {
    #[default]
    Light,
    Dark,
}

#[derive(Settings, Clone, Debug, PartialEq)]
struct Bench {
    #[settings(default = 1220)]
    top_celsius: u32,
    theme: Theme,
    last_glaze: Option<Key<Glaze>>,
    clays: Vec<String>,
    #[settings(default = 0.5)]
    r#loop: f64,
}

/// The same document in a newer version of the app.
mod newer {
    use super::*;

    #[derive(Settings, Clone, Debug, PartialEq)]
    pub(super) struct Bench {
        #[settings(was = "top_celsius", default = 1280)]
        pub(super) top: u32,
        pub(super) theme: Theme,
        pub(super) last_glaze: Option<Key<Glaze>>,
        pub(super) clays: Vec<String>,
        #[settings(default = "the studio")]
        pub(super) place: String,
    }

    pub(super) fn schema() -> Schema {
        Schema::new("bench").settings::<Bench>().record::<Glaze>()
    }
}

/// With another type for a field.
mod changed {
    use super::*;

    #[derive(Settings, Clone, Debug, PartialEq)]
    pub(super) struct Bench {
        #[settings(default = Some(20))]
        pub(super) top_celsius: Option<u8>,
        pub(super) theme: bool,
        pub(super) clays: Vec<String>,
    }

    pub(super) fn schema() -> Schema {
        Schema::new("bench").settings::<Bench>().record::<Glaze>()
    }
}

fn schema() -> Schema {
    Schema::new("bench").settings::<Bench>().record::<Glaze>()
}

fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

fn stored(path: &std::path::Path) -> Vec<String> {
    let program = other_program(path);
    let mut statement = program.prepare("SELECT setting || ' = ' || value FROM bench ORDER BY key").unwrap();
    statement.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
}

#[test]
fn at_the_first_start_all_is_as_by_default_and_only_what_changes_is_stored() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let bench = drawer.settings::<Bench>();
    let defaults = Bench { top_celsius: 1220, theme: Theme::Light, last_glaze: None, clays: Vec::new(), r#loop: 0.5 };
    assert_eq!((&*bench.get().unwrap(), Bench::defaults()), (&defaults, defaults.clone()));
    assert_eq!(stored(&path), [""; 0]);
    let glaze = drawer
        .write(|tx| {
            let glaze = tx.insert(Glaze { name: "Celadon".into() })?;
            tx.settings::<Bench>().change(|b| {
                b.last_glaze = Some(glaze.key());
                b.clays = vec!["a\"\0b".into(), String::new()];
            })?;
            assert_eq!(tx.settings::<Bench>().get()?.last_glaze, Some(glaze.key()), "it sees what it wrote");
            Ok(glaze.key())
        })
        .unwrap();
    bench.change(|_| ()).unwrap();
    assert_eq!(stored(&path), ["last_glaze = 1", r#"clays = ["a\"\u0000b",""]"#]);
    let given_up = drawer.write(|tx| {
        tx.settings::<Bench>().change(|b| b.theme = Theme::Dark)?;
        tx.insert(Glaze { name: "Celadon".into() })
    });
    assert!(given_up.unwrap_err().is_clash());
    let now = Bench { last_glaze: Some(glaze), clays: vec!["a\"\0b".into(), String::new()], ..defaults.clone() };
    assert_eq!(*bench.get().unwrap(), now);
    drawer.close().unwrap();

    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(*drawer.settings::<Bench>().get().unwrap(), now);
    drawer.settings::<Bench>().replace(defaults.clone()).unwrap();
    assert_eq!(stored(&path), ["last_glaze = null", "clays = []"]);
    drawer.settings::<Bench>().reset().unwrap();
    assert_eq!((stored(&path), &*drawer.settings::<Bench>().get().unwrap()), (vec![], &defaults));
    let error = drawer.settings::<Bench>().change(|b| b.r#loop = f64::NAN).unwrap_err();
    assert!(error.is_misfit() && error.to_string().contains("the setting `loop`"), "{error}");
    assert_eq!(stored(&path), [""; 0]);
}

#[test]
fn fields_come_are_renamed_and_are_kept_for_a_newer_app() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.settings::<Bench>().change(|b| (b.top_celsius, b.theme) = (1000, Theme::Dark)).unwrap();
    drawer.close().unwrap();

    let newer = Drawer::open(&path, newer::schema()).unwrap();
    let bench = newer.settings::<newer::Bench>();
    let now = bench.get().unwrap();
    assert_eq!((now.top, now.theme, now.place.as_str()), (1000, Theme::Dark, "the studio"));
    bench.change(|b| b.place = "the school".into()).unwrap();
    assert_eq!(stored(&path), ["top_celsius = 1000", r#"theme = "Dark""#, r#"place = "the school""#]);
    newer.close().unwrap();

    // An older app again, which knows nothing of `place`.
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.settings::<Bench>().change(|b| b.top_celsius = 1010).unwrap();
    drawer.close().unwrap();
    let newer = Drawer::open(&path, newer::schema()).unwrap();
    let bench = newer.settings::<newer::Bench>();
    assert_eq!((bench.get().unwrap().top, bench.get().unwrap().place.as_str()), (1010, "the school"));
    bench.change(|b| b.top = 1020).unwrap();
    assert_eq!(
        stored(&path),
        [r#"theme = "Dark""#, r#"place = "the school""#, "top = 1020"],
        "renamed once it is written"
    );
    assert_eq!(bench.get().unwrap().top, 1020);
}

#[test]
fn what_cannot_be_read_is_as_by_default_is_told_and_stays_until_it_is_changed() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer
        .settings::<Bench>()
        .change(|b| (b.top_celsius, b.theme, b.clays) = (1000, Theme::Dark, vec!["a".into()]))
        .unwrap();
    drawer.close().unwrap();
    let before = stored(&path);
    let drawer = Drawer::open(&path, changed::schema()).unwrap();
    let bench = drawer.settings::<changed::Bench>();
    let read = changed::Bench { top_celsius: Some(20), theme: false, clays: vec!["a".into()] };
    assert_eq!(*bench.get().unwrap(), read);
    let told: Vec<String> = bench.unreadable().unwrap().iter().map(Error::to_string).collect();
    assert_eq!(told.len(), 2);
    for (told, words) in
        told.iter().zip([["the setting bench 'top_celsius'", "1000", "u8"], ["'theme'", "Dark", "bool"]])
    {
        let all = ["It is as by default, and what is stored stays", "kiln.drawer"];
        words.iter().chain(&all).for_each(|word| assert!(told.contains(word), "{word}: {told}"));
    }
    assert!(bench.unreadable().unwrap().iter().all(Error::is_unreadable));
    bench.change(|b| b.clays.clear()).unwrap();
    assert_eq!(stored(&path)[..2], before[..2]);
    bench.change(|b| b.theme = true).unwrap();
    assert_eq!((stored(&path)[1].as_str(), bench.unreadable().unwrap().len()), ("theme = true", 1));
}

#[test]
fn each_account_has_settings_of_its_own() {
    let drawer = memory();
    let all = ["", "anna", "anna/phone", "/", "50%_'\0"];
    for (n, account) in all.iter().enumerate() {
        drawer.settings::<Bench>().of(account).change(|b| b.top_celsius = n as u32).unwrap();
    }
    let tops = || all.map(|account| drawer.settings::<Bench>().of(account).get().unwrap().top_celsius);
    assert_eq!(tops(), [0, 1, 2, 3, 4]);
    for (n, account) in all.iter().enumerate() {
        drawer.settings::<Bench>().of(account).reset().unwrap();
        let expected: Vec<u32> = (0..5).map(|at| if at <= n { 1220 } else { at as u32 }).collect();
        assert_eq!(tops()[..], expected, "{account:?} alone is as by default");
    }
}

#[test]
fn private_settings_are_as_by_default_in_a_copy_without_what_is_private() {
    #[derive(Settings, Clone, Debug, PartialEq)]
    #[settings(private)]
    struct Account {
        #[settings(default = 7)]
        pin: u32,
        name: String,
    }
    let (folder, path) = folder();
    let schema = || Schema::new("bench").settings::<Account>();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.settings::<Account>().change(|a| (a.pin, a.name) = (4711, "Anna".into())).unwrap();
    let copy = folder.path().join("copy.drawer");
    drawer.copy_without_private_to(&copy).unwrap();
    let bytes = std::fs::read(&copy).unwrap();
    assert!(!["4711", "Anna"].iter().any(|said| bytes.windows(4).any(|at| at == said.as_bytes())));
    let copy = Drawer::open(&copy, schema()).unwrap();
    let account = copy.settings::<Account>();
    assert_eq!((&*account.get().unwrap(), account.unreadable().unwrap().len()), (&Account::defaults(), 0));
    account.change(|a| a.pin = 1).unwrap();
    assert_eq!(account.get().unwrap().pin, 1);
}

#[test]
fn memory_is_never_older_than_what_was_written() {
    let (_folder, path) = folder();
    let options = Drawer::options().others_noticed_within(Duration::ZERO);
    let drawer = options.open(&path, schema()).unwrap();
    let bench = drawer.settings::<Bench>();
    let top = || bench.get().unwrap().top_celsius;
    let held = bench.get().unwrap();
    // Nothing is kept while the session is being begun.
    while !std::sync::Arc::ptr_eq(&bench.get().unwrap(), &bench.get().unwrap()) {}
    bench.change(|b| b.top_celsius = 1).unwrap();
    assert_eq!((top(), held.top_celsius), (1, 1220));
    drawer.write(|tx| tx.sql("update bench set value = '2'").run()).unwrap();
    assert_eq!(top(), 2);
    drawer.records::<<Bench as Settings>::Setting>().remove().unwrap();
    assert_eq!(top(), 1220);
    drawer.insert(Glaze { name: "Shino".into() }).unwrap();
    let before = bench.get().unwrap();
    drawer.insert(Glaze { name: "Celadon".into() }).unwrap();
    assert!(std::sync::Arc::ptr_eq(&before, &bench.get().unwrap()), "other tables are none of its business");
    let program = other_program(&path);
    program.execute_batch("INSERT INTO bench (setting, value) VALUES ('top_celsius', '3')").unwrap();
    // Others are looked at once in a millisecond at most.
    while top() != 3 {
        std::thread::yield_now();
    }
    drawer.going_to_background(Duration::from_secs(9)).unwrap();
    program.execute_batch("UPDATE bench SET value = '4'").unwrap();
    assert_eq!(top(), 4);
    drawer.memory_is_low();
    assert_eq!(top(), 4);
    let (_folder, path) = folder();
    let alone = Drawer::open(&path, schema()).unwrap();
    alone.settings::<Bench>().change(|b| b.top_celsius = 6).unwrap();
    while !std::sync::Arc::ptr_eq(&alone.settings::<Bench>().get().unwrap(), &alone.settings::<Bench>().get().unwrap())
    {
    }
    alone.going_to_background(Duration::from_secs(9)).unwrap();
    other_program(&path).execute_batch("UPDATE bench SET value = '7'").unwrap();
    assert_eq!(alone.settings::<Bench>().get().unwrap().top_celsius, 7, "others may write while the app rests");
    drawer
        .write(|tx| {
            tx.settings::<Bench>().change(|b| b.top_celsius = 5)?;
            let error = drawer.settings::<Bench>().get().map(drop).unwrap_err();
            assert!(error.is_nested(), "{error}");
            assert_eq!(tx.settings::<Bench>().get()?.top_celsius, 5);
            Err::<(), _>(Error::own("given up"))
        })
        .unwrap_err();
    assert_eq!(top(), 4);

    // Whoever writes reads it back at once, whatever others do.
    std::thread::scope(|scope| {
        for account in ["a", "b", "c"] {
            let bench = drawer.settings::<Bench>().of(account);
            scope.spawn(move || {
                for n in 0..60 {
                    bench.change(|b| b.top_celsius = n).unwrap();
                    assert_eq!(bench.get().unwrap().top_celsius, n);
                }
            });
        }
    });
}

#[test]
fn settings_are_followed_all_or_one_field() {
    let drawer = memory();
    let bench = drawer.settings::<Bench>();
    let mut all = bench.watch().unwrap();
    let mut theme = bench.watch_field(|b| b.theme).unwrap();
    assert_eq!(all.next().unwrap().unwrap().result.top_celsius, 1220);
    assert_eq!(theme.next().unwrap().unwrap().result, Theme::Light);
    bench.change(|b| b.top_celsius = 1).unwrap();
    assert_eq!(all.next().unwrap().unwrap().result.top_celsius, 1);
    bench.change(|b| b.theme = Theme::Dark).unwrap();
    assert_eq!(theme.next().unwrap().unwrap().result, Theme::Dark, "and not of the other field before");
}
