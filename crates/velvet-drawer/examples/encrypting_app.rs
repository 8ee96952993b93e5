//! An app whose users have plain files encrypts them as a whole, with a key that the phone keeps.
//!
//! `cargo run --features encryption --example encrypting_app`; with a folder, its files stay there, to be looked at with `velvet`

use std::error::Error;
use std::path::Path;
use velvet_drawer::{Drawer, FileKey, Progress, Record, Schema};
use velvet_phone::Phone;

#[derive(Record, Debug)]
struct Client {
    name: String,
    phone: Option<String>,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Client>()
}

/// Opens the drawer as the new app does at each start.
fn start(path: &Path, key: &FileKey) -> Result<Drawer, velvet_drawer::Error> {
    match Drawer::options().encrypted(key.clone()).open(path, schema()) {
        Err(error) if error.is_not_encrypted() => {
            println!("“Your clients are being encrypted. This is done once.”");
            let change = Drawer::change_file_key(path).to(key);
            let changed = Progress::told(|at| println!("  {}: {} pages", at.doing, at.done), || change.run())?;
            for left in changed.left {
                println!("  {} stays readable: {}", left.path.display(), left.why);
            }
            Drawer::options().encrypted(key.clone()).open(path, schema())
        }
        opened => opened,
    }
}

/// Whether somebody who has the file can read these words in it.
fn can_be_read(path: &Path, words: &str) -> std::io::Result<bool> {
    Ok(std::fs::read(path)?.windows(words.len()).any(|part| part == words.as_bytes()))
}

fn main() -> Result<(), Box<dyn Error>> {
    let phone = std::env::args().nth(1).map_or_else(Phone::temporary, Phone::at)?;
    let sandbox = phone.sandbox("kilnbook")?;
    let path = sandbox.durable().join("kiln.drawer");
    let released = Drawer::open(&path, schema())?;
    released
        .insert_all((0..2_000).map(|n| Client { name: format!("Client {n}"), phone: Some(format!("555 {n:04}")) }))?;
    released.close()?;
    println!("The released app. Does a number stand in its file? {}", can_be_read(&path, "555 1234")?);

    let key = FileKey::kept_by(sandbox.key_store());
    let drawer = start(&path, &key)?;
    println!("The new one has {} clients", drawer.count::<Client>()?);
    drawer.close()?;
    println!("Does the number still stand in the file? {}", can_be_read(&path, "555 1234")?);

    let drawer = start(&path, &key)?;
    println!("From now on it just opens: {:?}", drawer.records::<Client>().first()?);
    drawer.close()?;

    Drawer::change_file_key(&path).from(&key).to(&key).run()?.forget_old_key()?;
    println!("With another key: {} clients", start(&path, &key)?.count::<Client>()?);
    Ok(())
}
