//! What an encrypted file costs: ours with a key, against ours without.

use crate::Result;
use crate::table::{Ratios, in_turn, timed};
use std::hint::black_box;
use std::path::Path;
use std::time::Duration;
use velvet_drawer::{Drawer, FileKey, Key, Options, PassPhrase, Record, Schema, SecretKey};

/// How many records are written and listed.
const ROWS: u32 = 100_000;

/// How many are listed of a file that is larger than what is kept of it in memory.
const LONG: u32 = 60_000;

#[derive(Record)]
struct Client {
    #[record(indexed)]
    name: String,
    phone: String,
}

fn schema() -> Schema {
    Schema::new("bench").record::<Client>()
}

fn client(n: u32) -> Client {
    Client { name: format!("Client {n:06}"), phone: format!("555 01{n}") }
}

fn options(is_encrypted: bool) -> Options {
    let key = || FileKey::of_bytes(SecretKey::from_bytes([7; 32]));
    if is_encrypted { Drawer::options().encrypted(key()) } else { Drawer::options() }
}

fn open(path: &Path, is_encrypted: bool) -> Result<Duration> {
    let mut took = Duration::ZERO;
    for _ in 0..20 {
        let (mut drawer, begun) = (None, std::time::Instant::now());
        drawer.replace(options(is_encrypted).open(path, schema())?);
        took += begun.elapsed();
        drawer.map_or(Ok(()), Drawer::close)?;
    }
    Ok(took / 20)
}

fn insert(drawer: &Drawer) -> Result<Duration> {
    drawer.remove_all::<Client>()?;
    Ok(timed(|| drawer.insert_all((0..ROWS).map(client)).map(black_box))?)
}

fn list(drawer: &Drawer) -> Result<Duration> {
    Ok(timed(|| drawer.records::<Client>().collect().map(|all| black_box(all.len())))?)
}

/// One at a time, here and there: in pages that are kept in memory, or of a file that is larger than that.
fn get(drawer: &Drawer) -> Result<Duration> {
    let first = drawer.records::<Client>().first()?.map_or(1, |client| client.key().number());
    let key = |n: u32| Key::<Client>::from_number(first + i64::from(n * 7_919 % ROWS));
    Ok(timed(|| (0..4_000).try_for_each(|n| drawer.get(key(n)).map(|found| drop(black_box(found)))))? / 4_000)
}

fn page(drawer: &Drawer) -> Result<Duration> {
    let page = |n: u32| {
        let from = format!("Client {:06}", n * 7_919 % ROWS);
        let found = drawer.records::<Client>().filter(|c| c.name.at_least(&*from)).sort_by(|c| c.name.ascending());
        found.limit(20).collect().map(|page| drop(black_box(page)))
    };
    Ok(timed(|| (0..500).try_for_each(page))? / 500)
}

fn transaction(drawer: &Drawer) -> Result<Duration> {
    Ok(timed(|| (0..100).try_for_each(|n| drawer.insert(client(ROWS + n)).map(drop)))? / 100)
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let (locked, clear) = (folder.path().join("encrypted"), folder.path().join("plain"));
    let (encrypted, plain) = (options(true).open(&locked, schema())?, options(false).open(&clear, schema())?);
    let both = |work: fn(&Drawer) -> Result<Duration>, times| in_turn(times, || work(&encrypted), || work(&plain));
    for (what, work, times) in [
        ("insert 100,000 into an encrypted file, against a plain one", insert as fn(&Drawer) -> Result<Duration>, 5),
        ("list 100,000 of an encrypted file", list, 9),
        ("get one, here and there in an encrypted file", get, 9),
        ("20 rows by an index of an encrypted file", page, 9),
        ("one insert in its own transaction into an encrypted file", transaction, 9),
    ] {
        let (ours, theirs) = both(work, times)?;
        table.usual(what, ours, theirs);
    }
    for drawer in [&encrypted, &plain] {
        drawer.remove_all::<Client>()?;
        drawer.insert_all((0..LONG).map(|n| Client { phone: "5".repeat(1_000), ..client(n) }))?;
    }
    let (ours, theirs) = both(list, 5)?;
    table.usual("list 60,000 of 1 KB each of an encrypted file, three times what is kept in memory", ours, theirs);
    encrypted.close()?;
    plain.close()?;
    let (ours, theirs) = in_turn(9, || open(&locked, true), || open(&clear, false))?;
    table.usual("open an encrypted file with a key of the app", ours, theirs);
    let changed =
        timed(|| Drawer::change_file_key(&clear).to(&FileKey::of_bytes(SecretKey::from_bytes([7; 32]))).run())?;
    let back =
        timed(|| Drawer::change_file_key(&locked).from(&FileKey::of_bytes(SecretKey::from_bytes([7; 32]))).run())?;
    println!("encrypting that file takes {changed:?}, going back {back:?}");
    let phrase = FileKey::of_pass_phrase(PassPhrase::new("four pots in the cellar"));
    let path = folder.path().join("phrase");
    Drawer::options().encrypted(phrase.clone()).open(&path, schema())?.close()?;
    println!("a key of a pass phrase takes {:?}", timed(|| phrase.unlock(&path).map(drop))?);
    Ok(())
}
