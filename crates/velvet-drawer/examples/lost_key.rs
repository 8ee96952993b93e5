//! A user moves to another phone with a backup, but without its keys: what the app says, and what can still be done.
//!
//! `cargo run --features encryption --example lost_key`

use std::error::Error;
use std::path::Path;
use velvet_drawer::{Drawer, FileKey, PassPhrase, Record, Schema, inspect};
use velvet_phone::Phone;

#[derive(Record, Debug)]
struct Client {
    name: String,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Client>()
}

/// Opens the drawer, and says what the user is told where that does not go.
fn start(path: &Path, key: &FileKey) -> Result<Drawer, velvet_drawer::Error> {
    let opened = Drawer::options().encrypted(key.clone()).open(path, schema());
    match &opened {
        Err(error) if error.is_key_locked() => println!("“Unlock the phone to go on.”"),
        Err(error) if error.is_key_missing() || error.is_wrong_key() => {
            println!(
                "“Your clients were encrypted on another phone. Bring a backup with its pass phrase, or start over.”"
            );
            println!("  For the log: {error}");
        }
        _ => {}
    }
    opened
}

fn main() -> Result<(), Box<dyn Error>> {
    let (old, new) = (Phone::temporary()?, Phone::temporary()?);
    let sandbox = old.sandbox("kilnbook")?;
    let path = sandbox.durable().join("kiln.drawer");
    let key = FileKey::kept_by(sandbox.key_store());
    let drawer = start(&path, &key)?;
    drawer.insert(Client { name: "Ann".into() })?;

    // What a careful app offers while the key is there: a copy whose key the user remembers.
    let backup = sandbox.durable().join("backup.drawer");
    drawer.copy_to(&backup)?;
    drawer.close()?;
    let phrase = FileKey::of_pass_phrase(PassPhrase::new("four pots in the cellar"));
    Drawer::change_file_key(&backup).from(&key).to(&phrase).run()?;

    sandbox.key_store().lock()?;
    assert!(start(&path, &key).is_err());
    sandbox.key_store().unlock()?;

    let other = new.sandbox("kilnbook")?;
    sandbox.restore_on(&other)?;
    let (path, backup) = (other.durable().join("kiln.drawer"), other.durable().join("backup.drawer"));
    let key = FileKey::kept_by(other.key_store());
    assert!(start(&path, &key).is_err());
    let known = inspect::seems_encrypted(&path)?.expect("it is encrypted");
    println!("What can be known of it: {} pages, kept under file/{}…", known.pages, &known.salt[..8]);

    let drawer = Drawer::options().encrypted(key.clone()).set_aside_without_key().open(&path, schema())?;
    println!("Started over with {} clients; the old file is kept", drawer.count::<Client>()?);
    drawer.close()?;

    let unlocked = (phrase.unlock(&backup)?, key.unlock(&path)?);
    Drawer::restore(&path, &backup)?;
    drop(unlocked);
    println!("From the backup: {:?}", start(&path, &key)?.records::<Client>().collect()?);
    Ok(())
}
