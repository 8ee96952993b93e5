//! Named values, settings and attachments.

use crate::Result;
use crate::records::hand;
use crate::table::{Ratios, in_turn, timed};
use rusqlite::Connection;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::hint::black_box;
use std::io::{Read, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;
use velvet_drawer::{Attachment, Drawer, Record, Schema, Settings};

#[derive(Record)]
#[record(named)]
struct LastMark {
    name: String,
    value: u32,
}

#[derive(Settings, Clone)]
struct Bench {
    #[settings(default = 1240)]
    top_celsius: u32,
    clays: Vec<String>,
}

#[derive(Record)]
struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    grams: u32,
}

fn schema() -> Schema {
    Schema::new("bench").record::<LastMark>().record::<Piece>().settings::<Bench>().attachments()
}

/// How many names there are.
const NAMES: u32 = 1_000;

/// How many bytes the large attachment has.
const LARGE: u64 = 500 << 20;

/// How many photos there are, and how many bytes each has.
const PHOTOS: usize = 10_000;
const PHOTO: usize = 30_000;

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    named(table, folder.path())?;
    settings(table, folder.path())?;
    photos(table, folder.path())?;
    large(table, folder.path())
}

fn name(n: u32) -> String {
    format!("mark-{n:05}")
}

fn named(table: &mut Ratios, folder: &Path) -> Result<()> {
    let path = folder.join("named.drawer");
    let drawer = Drawer::options().without_sessions().open(&path, schema())?;
    let names: Vec<String> = (0..NAMES).map(name).collect();
    drawer.named::<LastMark>().merge(names.iter().map(|name| (name.as_str(), 0)))?;
    let by_hand_path = folder.join("named-by-hand.db");
    let connection = hand(&by_hand_path)?;
    connection.execute_batch(
        "CREATE TABLE mark (key INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, value INTEGER NOT NULL) STRICT;
         CREATE UNIQUE INDEX \"mark.name\" ON mark (name); BEGIN",
    )?;
    for name in &names {
        connection.execute("INSERT INTO mark (name, value) VALUES (?1, 0)", [name])?;
    }
    connection.execute_batch("COMMIT")?;
    let marks = drawer.named::<LastMark>();
    let times = 200_u32;
    let ours =
        || timed(|| names.iter().try_for_each(|name| marks.get(name).map(|value| assert!(black_box(value).is_some()))));
    let by_hand = || {
        timed(|| {
            names.iter().try_for_each(|name| {
                let mut get = connection.prepare_cached("SELECT value FROM mark WHERE name = ?1")?;
                get.query_row([name], |row| row.get::<_, u32>(0)).map(|value| assert!(black_box(value) < u32::MAX))
            })
        })
    };
    let (ours, by_hand) = in_turn::<Box<dyn std::error::Error>>(100, || Ok(ours()?), || Ok(by_hand()?))?;
    table.line("get a named value", ours / NAMES, by_hand / NAMES, 1.05);

    let (mut a, mut b) = (0, 0);
    let ours = || {
        timed(|| {
            (0..times).try_for_each(|n| {
                a += 1;
                marks.set(&names[(n % NAMES) as usize], a)
            })
        })
    };
    let by_hand = || {
        timed(|| {
            (0..times).try_for_each(|n| {
                b += 1;
                let text = "UPDATE mark SET value = ?2 WHERE name = ?1";
                connection.prepare_cached(text)?.execute((&names[(n % NAMES) as usize], b)).map(drop)
            })
        })
    };
    let (ours, by_hand) = in_turn::<Box<dyn std::error::Error>>(15, ours_of(ours), ours_of(by_hand))?;
    table.line("set a named value, in its own transaction", ours / times, by_hand / times, 1.05);

    let (mut at_once, mut a_file, mut in_one) = (0, 0, 1_000_000);
    let ours = || {
        timed(|| {
            (0..times).try_for_each(|n| {
                at_once += 1;
                marks.set(&names[(n % NAMES) as usize], at_once)
            })
        })
    };
    let json = folder.join("names.json");
    let mut all: BTreeMap<String, u32> = names.iter().map(|name| (name.clone(), 0)).collect();
    let by_json = || {
        timed(|| {
            (0..times).try_for_each(|n| {
                a_file += 1;
                all.insert(names[(n % NAMES) as usize].clone(), a_file);
                let new = json.with_extension("new");
                let mut file = File::create(&new)?;
                file.write_all(&serde_json::to_vec_pretty(&all)?)?;
                file.sync_all()?;
                fs::rename(&new, &json)?;
                File::open(folder)?.sync_all()
            })
        })
    };
    let (ours, by_json) = in_turn::<Box<dyn std::error::Error>>(5, ours_of(ours), ours_of(by_json))?;
    table.line("the same, against one JSON file of 1,000 names", ours / times, by_json / times, 1.0 / 20.0);
    let ours = || {
        timed(|| {
            drawer.write(|tx| {
                (0..times).try_for_each(|n| {
                    in_one += 1;
                    tx.named::<LastMark>().set(&names[(n % NAMES) as usize], in_one)
                })
            })
        })
    };
    let (ours, _) = in_turn::<Box<dyn std::error::Error>>(5, ours_of(ours), || Ok(Duration::ZERO))?;
    table.line("200 in one transaction, against that file each time", ours / times, by_json / times, 1.0 / 20.0);
    Ok(())
}

/// A work whose errors are any.
fn ours_of<E: Into<Box<dyn std::error::Error>>>(
    mut work: impl FnMut() -> std::result::Result<Duration, E>,
) -> impl FnMut() -> Result<Duration> {
    move || work().map_err(Into::into)
}

fn settings(table: &mut Ratios, folder: &Path) -> Result<()> {
    let drawer = Drawer::options().without_sessions().open(folder.join("settings.drawer"), schema())?;
    drawer.settings::<Bench>().change(|bench| bench.clays.push("stoneware".into()))?;
    let bench = drawer.settings::<Bench>();
    let mut sum = u64::from(bench.get()?.top_celsius) + bench.get()?.clays.len() as u64;
    let times = 100_000;
    let took = timed(|| {
        (0..times).try_for_each(|_| {
            sum += u64::from(bench.get()?.top_celsius);
            Ok::<_, velvet_drawer::Error>(())
        })
    })?;
    black_box(sum);
    table.at_most("read settings from memory (ns)", took.as_nanos() as u64 / times, 100);
    Ok(())
}

/// Bytes that no photo before it has.
fn photo(n: usize, bytes: &mut [u8]) {
    bytes[..8].copy_from_slice(&(n as u64).to_le_bytes());
}

fn photos(table: &mut Ratios, folder: &Path) -> Result<()> {
    let drawer = Drawer::options().without_sessions().open(folder.join("photos.drawer"), schema())?;
    let mut bytes = vec![0x5a; PHOTO];
    let ours = timed(|| {
        (0..PHOTOS / 100).try_for_each(|hundred| {
            drawer.write(|tx| {
                (0..100).try_for_each(|n| {
                    photo(hundred * 100 + n, &mut bytes);
                    tx.attachments().add(&bytes[..]).media_type("image/jpeg").run().map(drop)
                })
            })
        })
    })?;
    let place = folder.join("photos");
    fs::create_dir(&place)?;
    let files = timed(|| {
        (0..PHOTOS).try_for_each(|n| {
            photo(n, &mut bytes);
            let mut file = File::create(place.join(format!("{n}.jpg")))?;
            file.write_all(&bytes)?;
            file.sync_all()
        })
    })?;
    table.line("add 10,000 photos of 30 KB, in hundreds, against files that are flushed", ours, files, 1.0 / 3.0);
    let one = |n: usize, bytes: &mut Vec<u8>| photo(PHOTOS + n, bytes);
    let (mut n, mut bytes_of_ours) = (0, vec![0x5a; PHOTO]);
    let (mut m, mut bytes_by_hand) = (0, vec![0x5a; PHOTO]);
    let connection = hand(&folder.join("column.db"))?;
    connection
        .execute_batch("CREATE TABLE photo (key INTEGER PRIMARY KEY AUTOINCREMENT, bytes BLOB NOT NULL) STRICT")?;
    let ours = || {
        timed(|| {
            n += 1;
            one(n, &mut bytes_of_ours);
            drawer.attachments().add(&bytes_of_ours[..]).run()
        })
    };
    let by_hand = || {
        timed(|| {
            m += 1;
            one(m, &mut bytes_by_hand);
            connection.prepare_cached("INSERT INTO photo (bytes) VALUES (?1)")?.execute([&bytes_by_hand])
        })
    };
    let (ours, by_hand) = in_turn::<Box<dyn std::error::Error>>(200, ours_of(ours), ours_of(by_hand))?;
    table.usual("add one photo of 30 KB, against a column of bytes", ours, by_hand);
    drawer.close()?;
    Ok(())
}

fn large(table: &mut Ratios, folder: &Path) -> Result<()> {
    let path = folder.join("large.drawer");
    let drawer = Drawer::options().without_sessions().open(&path, schema())?;
    drawer.insert_all((0..10_000).map(|n| Piece { mark: name(n), grams: n % 500 }))?;
    let source = folder.join("source");
    let mut block = vec![0; 1 << 20];
    let mut file = File::create(&source)?;
    for n in 0..LARGE >> 20 {
        block.iter_mut().enumerate().for_each(|(at, byte)| *byte = ((at as u64 * (n + 3)) >> 7) as u8);
        file.write_all(&block)?;
    }
    file.sync_all()?;
    // Now and then, as an app asks: what runs all the time is faster. And how large the log was at most.
    let asked = |goes_on: &dyn Fn(usize) -> bool| {
        let (mut times, mut largest) = (Vec::new(), 0);
        while goes_on(times.len()) {
            largest = largest.max(drawer.health().map_or(0, |health| health.wal));
            times.push(timed(|| {
                let page = drawer.records::<Piece>().filter(|p| p.grams.is(77)).limit(20).collect();
                page.map(|all| assert!(black_box(all).len() < 21))
            })?);
            thread::sleep(Duration::from_millis(2));
        }
        Ok::<_, velvet_drawer::Error>((times, largest))
    };
    let beside = |work: &(dyn Fn() -> Result<()> + Sync)| {
        let is_over = AtomicBool::new(false);
        thread::scope(|scope| {
            let working = scope.spawn(|| {
                let took = timed(|| work().map_err(|error| error.to_string()));
                is_over.store(true, Ordering::Relaxed);
                took
            });
            let asked = asked(&|_| !is_over.load(Ordering::Relaxed));
            Ok::<_, Box<dyn std::error::Error>>((working.join().expect("it does not panic")?, asked?))
        })
    };
    let (mut alone, _) = asked(&|asked| asked < 400)?;
    let (took, (times, largest)) = beside(&|| {
        drawer.attachments().add(File::open(&source)?).run()?;
        Ok(())
    })?;
    // Before and after, because a machine is not the same all the time.
    alone.extend(asked(&|asked| asked < 400)?.0);
    let (by_hand, (times_of_a_file, _)) = beside(&|| {
        let mut to = File::create(folder.join("copied"))?;
        std::io::copy(&mut File::open(&source)?, &mut to)?;
        Ok(to.sync_all()?)
    })?;
    table.usual("add 500 MB, against a file that is flushed", took, by_hand);
    table.at_most("log during that (bytes)", largest, 16 << 20);
    let middle = |mut all: Vec<Duration>| {
        all.sort();
        all[all.len() / 2]
    };
    let times = middle(times);
    table.line("20 rows by an index beside it, against alone", times, middle(alone), 1.2);
    table.usual("20 rows by an index beside it, against beside that file", times, middle(times_of_a_file));
    let added = drawer.records::<Attachment>().first()?.ok_or("it was added")?;
    let mut into = vec![0; 1 << 20];
    let mut read = |from: &mut dyn Read| {
        timed(|| {
            while from.read(&mut into)? > 0 {}
            Ok::<_, std::io::Error>(())
        })
    };
    let (mut ours, mut by_hand) = (Vec::new(), Vec::new());
    for _ in 0..7 {
        ours.push(read(&mut drawer.attachments().open(added.key())?)?);
        by_hand.push(read(&mut File::open(&source)?)?);
    }
    table.line("read 500 MB in sequence, against a file", middle(ours), middle(by_hand), 2.0);
    let removed = timed(|| drawer.remove(added.key()))?;
    table.at_most("remove it again (ms)", removed.as_millis() as u64, 2_000);
    let connection = Connection::open(&path)?;
    let left: i64 = connection.query_row("SELECT count(*) FROM attachment_part", [], |row| row.get(0))?;
    if left == 0 { Ok(()) } else { Err(format!("{left} parts are left").into()) }
}
