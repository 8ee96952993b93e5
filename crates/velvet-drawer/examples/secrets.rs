//! An app whose users have plain files turns on secrecy; later a user comes with a backup, but without the keys.
//!
//! `cargo run --example secrets`; with a folder, its file stays there, to be looked at with `velvet`

use std::error::Error;
use std::path::Path;
use velvet_drawer::{Drawer, KeyKeeper, Schema};
use velvet_phone::Phone;

/// As it was released.
mod before {
    #[derive(velvet_drawer::Record)]
    pub(crate) struct Client {
        pub(crate) name: String,
        pub(crate) phone: Option<String>,
    }

    #[derive(velvet_drawer::Settings, Clone)]
    pub(crate) struct Till {
        #[settings(default = 9)]
        pub(crate) opens_at: u8,
        pub(crate) pin: String,
    }
}

#[derive(velvet_drawer::Record, Debug)]
struct Client {
    name: String,
    #[record(sealed)]
    phone: Option<String>,
}

#[derive(velvet_drawer::Settings, Clone, Debug)]
struct Till {
    #[settings(default = 9)]
    opens_at: u8,
    #[settings(sealed)]
    pin: String,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Client>().settings::<Till>().history(include_str!("secrets.history.json"))
}

/// Whether somebody who has the file can read these words in it.
fn can_be_read(path: &Path, words: &str) -> Result<bool, Box<dyn Error>> {
    Ok(std::fs::read(path)?.windows(words.len()).any(|part| part == words.as_bytes()))
}

/// Opens the drawer as the app does at each start, and says what the user is told.
fn start(path: &Path, key_store: impl KeyKeeper + Clone) -> Result<Drawer, Box<dyn Error>> {
    match Drawer::options().keys(key_store.clone()).open(path, schema()) {
        Err(error) if error.is_key_locked() => {
            println!("“Unlock the phone to go on.”");
            Err(error.into())
        }
        Err(error) if error.is_key_missing() || error.is_wrong_key() => {
            println!("“The phone numbers were kept with a key of your old phone, and cannot be read here.”");
            Ok(Drawer::options().keys(key_store).leave_sealed().open(path, schema())?)
        }
        opened => Ok(opened?),
    }
}

fn main() -> Result<(), Box<dyn Error>> {
    let phone = std::env::args().nth(1).map_or_else(Phone::temporary, Phone::at)?;
    let sandbox = phone.sandbox("kilnbook")?;
    let path = sandbox.durable().join("kiln.drawer");
    let released = Schema::new("kilnbook").record::<before::Client>().settings::<before::Till>();
    let released = Drawer::open(&path, released)?;
    released.insert(before::Client { name: "Ann".into(), phone: Some("555 0100".into()) })?;
    released.settings::<before::Till>().change(|till| (till.opens_at, till.pin) = (8, "2870-4711".into()))?;
    released.close()?;
    println!("The released app. Does the number stand in its file? {}", can_be_read(&path, "555 0100")?);
    println!("And the PIN of the till? {}", can_be_read(&path, "2870-4711")?);

    let drawer = start(&path, sandbox.key_store())?;
    println!(
        "The new one reads {:?} and {:?}",
        drawer.records::<Client>().collect()?,
        drawer.settings::<Till>().get()?
    );
    drawer.close()?;
    println!("Does the number still stand in the file? {}", can_be_read(&path, "555 0100")?);
    println!("And the PIN? {}", can_be_read(&path, "2870-4711")?);

    sandbox.key_store().lock()?;
    assert!(start(&path, sandbox.key_store()).is_err());
    sandbox.key_store().unlock()?;

    let new_phone = Phone::temporary()?;
    let other = new_phone.sandbox("kilnbook")?;
    sandbox.restore_on(&other)?;
    let drawer = start(&other.durable().join("kiln.drawer"), other.key_store())?;
    println!("Still there: {:?}", drawer.records::<Client>().only(|c| c.name).collect()?);
    println!("Not readable: {}", drawer.records::<Client>().collect().expect_err("the key is on the other phone"));
    let till = drawer.settings::<Till>();
    println!("The settings: {:?}, as by default where they are not readable:", till.get()?);
    till.unreadable()?.iter().for_each(|error| println!("- {error}"));
    drawer.records::<Client>().update(|c| c.phone.clear())?;
    println!("After they were given up: {:?}", drawer.records::<Client>().collect()?);
    Ok(())
}
