//! What is sealed: processes that are killed while they seal, open and renew, and files in which something was changed.

use crate::files::{self, mutate};
use crate::kills::{killed, start};
use crate::trial::{Trial, quietly};
use crate::versions;
use std::collections::BTreeMap;
use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use std::time::Duration;
use velvet_core::evolve::{History, draft};
use velvet_core::schema::structure::Structure;
use velvet_drawer::{Drawer, Error, Options, Record, Schema, Settings};
use velvet_phone::{KeyStore, Phone};

/// How many records a file has.
const ROWS: u32 = 300;

/// How many changed files are looked at in each round.
const MUTANTS: usize = 12;

/// A word that stands in each sealed value, and nowhere else.
const WORD: &str = "under-the-floor";

/// The same record and settings in the clear, sealed, and in the clear again.
macro_rules! person {
    ($module:ident, $(#[$sealed:meta])?, $(#[$sealed_setting:meta])?) => {
        mod $module {
            #[derive(velvet_drawer::Record)]
            pub(super) struct Person {
                pub(super) name: String,
                $(#[$sealed])?
                pub(super) phone: String,
            }

            #[derive(velvet_drawer::Settings, Clone)]
            pub(super) struct Desk {
                pub(super) place: String,
                $(#[$sealed_setting])?
                pub(super) pin: String,
            }

            impl super::Person for Person {
                type Desk = Desk;

                fn new(name: String, phone: String) -> Person {
                    Person { name, phone }
                }

                fn phone(&self) -> &str {
                    &self.phone
                }

                fn desk(desk: &mut Desk) -> (&mut String, &mut String) {
                    (&mut desk.place, &mut desk.pin)
                }
            }
        }
    };
}
person!(before,,);
person!(sealed, #[record(sealed)], #[settings(sealed)]);
person!(after,, #[settings(was_sealed)]);

trait Person: Record {
    type Desk: Settings;
    fn new(name: String, phone: String) -> Self;
    fn phone(&self) -> &str;
    /// Its place, and the PIN.
    fn desk(desk: &mut Self::Desk) -> (&mut String, &mut String);
}

/// Whose settings there are.
const ACCOUNTS: [&str; 2] = ["", "another/account"];

fn structure<T: Person>() -> Structure {
    let sealed = <T::Desk as Settings>::HAS_SEALED_FIELDS.then(<T::Desk as Settings>::SealedSetting::table);
    let tables = [T::table(), <T::Desk as Settings>::Setting::table()].into_iter().chain(sealed);
    Structure { tables: tables.flatten().collect() }
}

/// The histories up to the versions in which the record is in the clear, sealed, and in the clear again.
static HISTORIES: LazyLock<[&str; 3]> = LazyLock::new(|| {
    let all = [structure::<before::Person>(), structure::<sealed::Person>(), structure::<after::Person>()];
    let mut history = History::start("fire", &all[0]);
    all.each_ref().map(|structure| {
        if let Ok(newest) = history.structure(history.newest)
            && newest != *structure
        {
            let drafted = draft(&newest, structure, &[("person", before::Person::HINTS)], &[], &[]);
            history.versions[0].released = true;
            history = history.recorded(structure, drafted, &[]);
        }
        versions::leaked(&history)
    })
});

/// The schema at one of these versions.
fn schema(version: usize) -> Schema {
    fn of<T: Person>() -> Schema {
        Schema::new("fire").record::<T>().settings::<T::Desk>()
    }
    let schema = match version {
        1 => of::<before::Person>(),
        2 => of::<sealed::Person>(),
        _ => of::<after::Person>(),
    };
    schema.history(HISTORIES[version - 1])
}

fn keys(folder: &Path) -> KeyStore {
    let sandbox = Phone::at(folder.join("phone")).and_then(|phone| phone.sandbox("fire"));
    sandbox.expect("a pretend phone").key_store()
}

fn options(folder: &Path) -> Options {
    Drawer::options().keys(keys(folder)).lock_timeout(Duration::from_secs(20))
}

/// What a process does that is killed.
pub(crate) fn work(role: &str, folder: &Path, path: &Path) -> Result<(), Error> {
    match role {
        "seal" | "settle" => options(folder).open(path, schema(2))?.close(),
        "unseal" => options(folder).open(path, schema(3))?.close(),
        _ => {
            let drawer = options(folder).open(path, schema(2))?;
            loop {
                drawer.renew_key()?;
            }
        }
    }
}

fn phone(row: u32) -> String {
    format!("{WORD} {row}")
}

fn made<T: Person>(folder: &Path, name: &str, version: usize) -> PathBuf {
    let path = folder.join(name);
    let drawer = options(folder).open(&path, schema(version)).expect("a drawer");
    let people = (1..=ROWS).map(|row| T::new(format!("Person {row}"), phone(row)));
    drawer.insert_all(people).expect("inserted");
    for account in ACCOUNTS {
        let change = |desk: &mut T::Desk| {
            let (place, pin) = T::desk(desk);
            (*place, *pin) = (account.into(), phone(0));
        };
        drawer.settings::<T::Desk>().of(account).change(change).expect("changed");
    }
    drawer.close().expect("closed");
    path
}

/// As the sealed file, after an older app has written a setting that is sealed now.
fn left_in_the_clear(folder: &Path, sealed: &Path) -> PathBuf {
    let path = folder.join("left");
    files::copy(sealed, &path).expect("copied");
    let drawer = options(folder).open(&path, schema(2)).expect("a drawer");
    let written = "insert into desk (setting, value) values ('pin', json_quote(:pin))";
    drawer.write(|tx| tx.sql(written).bind("pin", phone(0)).run()).expect("written");
    drawer.close().expect("closed");
    path
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let (clear, sealed) =
        (made::<before::Person>(folder.path(), "clear", 1), made::<sealed::Person>(folder.path(), "sealed", 2));
    let left = left_in_the_clear(folder.path(), &sealed);
    let named = with_names(folder.path());
    let place = folder.path().join("fire.drawer");
    while let Some(mut chance) = trial.next() {
        let role = chance.choice(["seal", "settle", "unseal", "renew"]).unwrap_or("seal");
        files::remove(&place);
        let from = match role {
            "seal" => &clear,
            "settle" => &left,
            _ => &sealed,
        };
        files::copy(from, &place).expect("copied");
        let said = killed(start(role, folder.path(), 0, 0), Duration::from_micros(chance.u64(..40_000)));
        trial.count("kills", 1);
        if let Some(refused) = said.iter().find(|line| line.starts_with("refused")) {
            trial.found(format!("{role}: {refused}"));
        }
        let held = match role {
            "unseal" => is_whole::<after::Person>(folder.path(), &place, 3),
            _ => is_whole::<sealed::Person>(folder.path(), &place, 2).and_then(|()| is_unseen(&place)),
        };
        if let Err(what) = held {
            trial.found(format!("{role}: {what}"));
        }
        quietly();
        for _ in 0..MUTANTS {
            let looked = mutant(folder.path(), &sealed, &mut chance);
            trial.count("mutants", 1);
            match looked {
                Ok(opened) => trial.count("values opened in them", opened),
                Err(what) => trial.found(format!("a mutant: {what}")),
            }
            trial.count("files with other names", 1);
            match with_other_names(folder.path(), &named, &mut chance) {
                Ok(opened) => trial.count("names opened in them", opened),
                Err(what) => trial.found(format!("other names: {what}")),
            }
        }
        drop(std::panic::take_hook());
    }
}

fn is_whole<T: Person>(folder: &Path, path: &Path, version: usize) -> Result<(), String> {
    let drawer = options(folder).open(path, schema(version)).map_err(|error| error.to_string())?;
    let found = drawer.records::<T>().collect().map_err(|error| error.to_string())?;
    let is_as_before =
        found.len() == ROWS as usize && (1..).zip(&found).all(|(row, person)| person.phone() == phone(row));
    for account in ACCOUNTS {
        let desk = drawer.settings::<T::Desk>().of(account).get().map_err(|error| error.to_string())?;
        let (place, pin) = (T::desk(&mut (*desk).clone()).0.clone(), T::desk(&mut (*desk).clone()).1.clone());
        if (place.as_str(), &pin) != (account, &phone(0)) {
            return Err(format!("the settings of {account:?} are {place:?} and {pin:?}"));
        }
    }
    drawer.close().map_err(|error| error.to_string())?;
    if is_as_before { Ok(()) } else { Err(format!("{} records, or another value", found.len())) }
}

/// Nothing that is sealed stands in the clear in the file or beside it.
fn is_unseen(path: &Path) -> Result<(), String> {
    for file in files::PARTS.map(|end| files::part(path, end)) {
        let bytes = fs::read(&file).unwrap_or_default();
        if memchr::memmem::find(&bytes, WORD.as_bytes()).is_some() {
            return Err(format!("{} can be read", file.display()));
        }
    }
    Ok(())
}

/// Changes something in a sealed file: what opens is what was sealed there, nothing is written, and no message says what is sealed.
fn mutant(folder: &Path, sealed: &Path, chance: &mut fastrand::Rng) -> Result<u64, String> {
    let path = folder.join("mutant.drawer");
    files::remove(&path);
    let mut bytes = fs::read(sealed).map_err(|error| error.to_string())?;
    mutate(&mut bytes, chance);
    fs::write(&path, &bytes).map_err(|error| error.to_string())?;
    let look = || -> Result<u64, Error> {
        let drawer = options(folder).read_only().open(&path, schema(2))?;
        let read = drawer.records::<sealed::Person>().collect_readable()?;
        let there: BTreeMap<i64, &str> = read.records.iter().map(|p| (p.key().number(), p.phone())).collect();
        for (row, found) in &there {
            if u32::try_from(*row).map_or(true, |row| phone(row) != **found) {
                return Err(Error::own(format!("{row} opened as {found}, which was not sealed there")));
            }
        }
        if let Some((_, error)) = read.unreadable.iter().find(|(_, error)| error.to_string().contains(WORD)) {
            return Err(Error::own(format!("a message says it: {error}")));
        }
        Ok(there.len() as u64)
    };
    let looked = catch_unwind(AssertUnwindSafe(look)).map_err(|_| "it panicked".to_owned())?;
    if fs::read(&path).map_err(|error| error.to_string())? != bytes {
        return Err("it was written to".into());
    }
    match looked {
        Err(error) if error.is_own() || error.to_string().contains(WORD) => Err(error.to_string()),
        looked => Ok(looked.unwrap_or(0)),
    }
}

/// Named values, and settings of which one is in the clear again in the next version.
mod named {
    #[derive(velvet_drawer::Record)]
    #[record(named)]
    pub(super) struct Token {
        pub(super) name: String,
        #[record(sealed)]
        pub(super) value: String,
    }

    #[derive(velvet_drawer::Settings, Clone)]
    pub(super) struct Desk {
        #[settings(sealed)]
        pub(super) pin: String,
        #[settings(sealed)]
        pub(super) code: String,
        #[settings(sealed)]
        pub(super) place: String,
    }

    pub(super) mod later {
        #[derive(velvet_drawer::Settings, Clone)]
        pub(crate) struct Desk {
            #[settings(sealed)]
            pub(crate) pin: String,
            #[settings(sealed)]
            pub(crate) code: String,
            #[settings(was_sealed)]
            pub(crate) place: String,
        }
    }
}

const NAMES: [&str; 4] = ["courier", "post", "", "another/account"];

/// A file in which each sealed value says its name.
fn with_names(folder: &Path) -> PathBuf {
    let path = folder.join("named");
    let schema = Schema::new("fire").record::<named::Token>().settings::<named::Desk>();
    let drawer = options(folder).open(&path, schema).expect("a drawer");
    for name in NAMES {
        drawer.named::<named::Token>().set(name, format!("{WORD} {name}")).expect("set");
        let change = |desk: &mut named::Desk| {
            (desk.pin, desk.code) = (format!("{WORD} pin of {name}"), format!("{WORD} code of {name}"));
            desk.place = format!("place of {name}");
        };
        drawer.settings::<named::Desk>().of(name).change(change).expect("changed");
    }
    drawer.close().expect("closed");
    path
}

/// Gives rows the names, values and numbers of others, of this table and the next one: whatever opens was sealed under that name, and what opens no more is not shown by
/// the next version either.
fn with_other_names(folder: &Path, named: &Path, chance: &mut fastrand::Rng) -> Result<u64, String> {
    let told = |error: &dyn std::fmt::Display| error.to_string();
    let path = folder.join("renamed.drawer");
    files::copy(named, &path).map_err(|e| told(&e))?;
    let file = rusqlite::Connection::open(&path).map_err(|e| told(&e))?;
    for _ in 0..chance.usize(1..6) {
        let (table, name) = if chance.bool() { ("token", "name") } else { ("desk_sealed", "setting") };
        let from = if chance.u8(..4) > 0 { table } else { "token" };
        let [a, b] = [(); 2].map(|()| chance.u32(1..13));
        let text = match chance.u8(..4) {
            0 => format!("UPDATE OR REPLACE {table} SET {name} = (SELECT {name} FROM {table} WHERE key = {b}) WHERE key = {a}"),
            1 => format!("UPDATE OR IGNORE {table} SET value = (SELECT value FROM {from} WHERE key = {b}) WHERE key = {a}"),
            2 => format!("UPDATE OR REPLACE {table} SET key = {b} WHERE key = {a}"),
            _ => format!(
                "UPDATE {table} SET {name} = {name} || '~' WHERE key IN ({a}, {b});
                 UPDATE {table} SET {name} = (SELECT rtrim({name}, '~') FROM {table} t WHERE t.key = {a} + {b} - {table}.key) WHERE {name} LIKE '%~'"
            ),
        };
        // Two rows may not have one name; then nothing is changed.
        let _ = file.execute_batch(&text);
    }
    file.close().map_err(|(_, e)| told(&e))?;
    let schema = || Schema::new("fire").record::<named::Token>();
    let drawer = options(folder).open(&path, schema().settings::<named::Desk>()).map_err(|e| told(&e))?;
    let mut opened = 0;
    for name in NAMES {
        if let Ok(Some(value)) = drawer.named::<named::Token>().get(name) {
            opened += 1;
            if value != format!("{WORD} {name}") {
                return Err(format!("{name:?} opened as {value}"));
            }
        }
        let desk = drawer.settings::<named::Desk>().of(name).get().map_err(|e| told(&e))?;
        for (field, value) in [("pin", &desk.pin), ("code", &desk.code)] {
            opened += u64::from(!value.is_empty());
            if !value.is_empty() && *value != format!("{WORD} {field} of {name}") {
                return Err(format!("the {field} of {name:?} opened as {value}"));
            }
        }
    }
    drawer.close().map_err(|e| told(&e))?;
    let next = options(folder).open(&path, schema().settings::<named::later::Desk>()).map_err(|e| told(&e))?;
    next.close().map_err(|e| told(&e))?;
    is_unseen(&path).map(|()| opened)
}
