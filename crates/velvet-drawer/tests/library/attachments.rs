//! Attachments: against bytes in memory, at the edges of parts, in transactions, through kills, beside everything else.

use crate::common;
use common::{Glaze, folder, other_program};
use proptest::prelude::*;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};
use std::path::Path;
use std::process::{Command, Stdio};
use velvet_drawer::inspect::{File, Limits, TrailOf, import, import_sql, salvage};
use velvet_drawer::{Attachment, Cancel, Drawer, Error, Key, Later, Record, Schema, Settings, Trail};

const PART: usize = 256 << 10;

#[derive(Record, Clone, Debug, PartialEq)]
struct Pot {
    #[record(own_key)]
    mark: String,
    #[record(link(on_delete = clear), remove_unlinked)]
    photo: Option<Key<Attachment>>,
    #[record(link(on_delete = clear), remove_unlinked)]
    sketch: Option<Key<Attachment>>,
}

/// Links to attachments too, and lets them stay.
#[derive(Record, Clone, Debug, PartialEq)]
struct Page {
    title: String,
    #[record(link(on_delete = remove))]
    picture: Key<Attachment>,
}

#[derive(Record, Clone, Debug)]
#[record(named)]
struct LastMark {
    name: String,
    value: u32,
}

#[derive(Settings, Clone, Debug, PartialEq)]
struct Bench {
    cover: Option<Key<Attachment>>,
}

fn schema() -> Schema {
    let schema = Schema::new("photos").record::<Pot>().record::<Page>().record::<Glaze>().record::<LastMark>();
    schema.settings::<Bench>().attachments()
}

fn memory() -> Drawer {
    Drawer::in_memory(schema()).unwrap()
}

/// Bytes that are not the same in any two places.
fn bytes(length: usize, seed: u8) -> Vec<u8> {
    let mut state = u32::from(seed) + 1;
    let mut next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 24) as u8
    };
    (0..length).map(|_| next()).collect()
}

fn parts(drawer: &Drawer) -> i64 {
    drawer.sql("select count(*) from attachment_part").first::<i64>().unwrap().unwrap()
}

fn pot(mark: &str, photo: Option<Key<Attachment>>) -> Pot {
    Pot { mark: mark.into(), photo, sketch: None }
}

#[test]
fn what_goes_in_comes_out_at_every_edge_of_a_part() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().relaxed().open(&path, schema()).unwrap();
    let edges = [0, 1, PART - 1, PART, PART + 1, 4 * PART - 1, 4 * PART, 4 * PART + 1, 20 * PART, 21 * PART + 7];
    for (n, length) in edges.into_iter().enumerate() {
        let expected = bytes(length, n as u8);
        let name = format!("{length} \"'\0.bin");
        let added = match n % 3 {
            0 => drawer.attachments().add(&expected[..]).named(&name).media_type("a/b").run().unwrap(),
            1 => drawer.write(|tx| tx.attachments().add(&expected[..]).named(&name).media_type("a/b").run()).unwrap(),
            _ => {
                let prepared =
                    drawer.attachments().add(&expected[..]).named(&name).media_type("a/b").prepare().unwrap();
                drawer.write(|tx| tx.attachments().keep(prepared)).unwrap()
            }
        };
        let stored = drawer.get(added.key()).unwrap().unwrap();
        assert_eq!((&stored, stored.bytes, stored.name.as_str()), (&added, length as u64, name.as_str()));
        assert_eq!(stored.hash, blake3::hash(&expected).to_hex().to_string());
        assert!(drawer.attachments().bytes(added.key()).unwrap() == expected);
        assert!(drawer.read(|view| view.attachments().bytes(added.key())).unwrap() == expected);
        let mut read = Vec::new();
        drawer.attachments().open(added.key()).unwrap().read_to_end(&mut read).unwrap();
        assert!(read == expected);
        let to = path.with_file_name(format!("out-{n}"));
        drawer.attachments().export_to(added.key(), &to).unwrap();
        assert!(std::fs::read(&to).unwrap() == expected);
        assert!(drawer.attachments().export_to(added.key(), &to).unwrap_err().is_already_there());
    }
    assert_eq!(drawer.count::<Attachment>().unwrap(), edges.len() as u64);
    let expected: usize = edges.iter().map(|length| length.div_ceil(PART)).sum();
    assert_eq!(parts(&drawer), expected as i64, "and nothing else is stored");
    drawer.close().unwrap();
    assert!(File::open(&path).unwrap().check().unwrap().is_sound());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn a_stream_reads_as_bytes_in_memory_do(
        length in prop_oneof![0..300_usize, (PART - 9)..(3 * PART)],
        moves in prop::collection::vec((0..4_u8, -400_000_i64..800_000, 0..300_000_usize), 1..12),
    ) {
        let drawer = memory();
        let expected = bytes(length, 7);
        let added = drawer.attachments().add(&expected[..]).run().unwrap();
        let mut stream = drawer.attachments().open(added.key()).unwrap();
        let mut model = io::Cursor::new(&expected);
        for (from, by, count) in moves {
            let to = match from {
                0 => SeekFrom::Start(by.unsigned_abs()),
                1 => SeekFrom::End(by),
                2 => SeekFrom::Current(by),
                _ => SeekFrom::Current(0),
            };
            prop_assert_eq!(stream.seek(to).ok(), model.seek(to).ok());
            let (mut a, mut b) = (Vec::new(), Vec::new());
            (&mut stream).take(count as u64).read_to_end(&mut a).unwrap();
            (&mut model).take(count as u64).read_to_end(&mut b).unwrap();
            prop_assert!(a == b);
            // At once into more room than a part has.
            let (mut much, at) = (vec![0; 300_000], model.position());
            let read = stream.read(&mut much).unwrap();
            prop_assert_eq!(read == 0, at >= length as u64);
            prop_assert!(expected[(at as usize).min(length)..].starts_with(&much[..read]));
            model.set_position(at + read as u64);
        }
    }
}

#[test]
fn equal_contents_are_stored_once_and_go_with_the_last_that_has_them() {
    let drawer = memory();
    let (small, large) = (bytes(70_000, 1), bytes(6 * PART + 5, 2));
    let add = |content: &[u8], name: &str| drawer.attachments().add(content).named(name).run().unwrap();
    let all = [add(&small, "a"), add(&large, "b"), add(&small, "c"), add(&large, "d")];
    assert_eq!(parts(&drawer), 1 + 7);
    let within = drawer.write(|tx| tx.attachments().add(&large[..]).named("e").run()).unwrap();
    drawer.attachments().add(&bytes(5 * PART, 9)[..]).prepare().map(drop).unwrap();
    assert_eq!(parts(&drawer), 1 + 7, "what is not kept, or was there already, leaves nothing");
    let waits = drawer.attachments().add(&bytes(7 * PART, 8)[..]).prepare().unwrap();
    drawer.attachments().add(&bytes(5 * PART, 9)[..]).prepare().map(drop).unwrap();
    let kept = drawer.attachments().keep(waits).unwrap();
    assert!(drawer.attachments().bytes(kept.key()).unwrap() == bytes(7 * PART, 8), "what waits to be kept is let be");
    drawer.remove(kept.key()).unwrap();
    assert_eq!((all[2].name.as_str(), all[3].hash.as_str()), ("c", all[1].hash.as_str()));
    drawer.change(all[2].key(), |a| a.name = "renamed".into()).unwrap();
    drawer.remove(all[0].key()).unwrap();
    drawer.remove(all[1].key()).unwrap();
    assert!(drawer.attachments().bytes(all[2].key()).unwrap() == small);
    assert!(drawer.attachments().bytes(within.key()).unwrap() == large);
    let mut stream = drawer.attachments().open(within.key()).unwrap();
    stream.read_exact(&mut [0; 9]).unwrap();
    drawer.remove_all::<Attachment>().unwrap();
    assert_eq!(parts(&drawer), 0);
    let error = stream.seek(SeekFrom::Start(PART as u64)).and_then(|_| stream.read_exact(&mut [0])).unwrap_err();
    assert!(error.to_string().contains("it was removed while it was read"), "{error}");
    assert!(drawer.attachments().bytes(within.key()).unwrap_err().is_not_found());
    assert!(drawer.attachments().open(within.key()).unwrap_err().is_not_found());
    assert_ne!(add(&small, "again").key(), all[0].key(), "a number is given once");
}

#[test]
fn an_attachment_goes_with_the_last_record_that_links_to_it_where_that_is_asked() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let add = |n: u8| drawer.attachments().add(&bytes(100, n)[..]).run().unwrap().key();
    let is_there = |key| drawer.get(key).unwrap().is_some();
    let photo = add(1);
    let [a, b] = ["K-1", "K-2"].map(|mark| drawer.insert(pot(mark, Some(photo))).unwrap().key());
    drawer.remove(a).unwrap();
    assert!(is_there(photo), "another pot has it");
    drawer.change(b, |p| (p.photo, p.sketch) = (None, Some(photo))).unwrap();
    assert!(is_there(photo), "the same has it in another place");
    let other = add(2);
    drawer.change(b, |p| p.sketch = Some(other)).unwrap();
    assert!(!is_there(photo) && is_there(other));
    let page = drawer.insert(Page { title: "Cups".into(), picture: other }).unwrap();
    drawer.remove(b).unwrap();
    assert!(is_there(other), "the page has it");
    drawer.remove(page.key()).unwrap();
    assert!(is_there(other), "a page lets it stay");
    drawer.remove(other).unwrap();

    let third = add(3);
    drawer.insert(pot("K-3", Some(third))).unwrap();
    drawer.insert(Page { title: "Bowls".into(), picture: third }).unwrap();
    drawer.remove(third).unwrap();
    assert_eq!(drawer.get_by_own_key::<Pot>("K-3").unwrap().unwrap().photo, None, "by request, links are cleared");
    assert_eq!(drawer.count::<Page>().unwrap(), 0, "or what links is removed, as it says");
    for n in 4..9 {
        drawer.insert(pot(&format!("K-{n}"), Some(add(n)))).unwrap();
    }
    // However they go: by a selection, by what others link to, by plain SQL, by another program.
    drawer.records::<Pot>().filter(|p| p.mark.is("K-4")).remove().unwrap();
    drawer.records::<Pot>().filter(|p| p.mark.is("K-5")).update(|p| p.photo.clear()).unwrap();
    drawer.write(|tx| tx.sql("delete from pot where mark = 'K-6'").run()).unwrap();
    let program = other_program(&path);
    program.execute_batch("PRAGMA foreign_keys = ON; DELETE FROM pot WHERE mark = 'K-7'").unwrap();
    assert_eq!((drawer.count::<Attachment>().unwrap(), parts(&drawer)), (1, 1));
    drawer.remove_all::<Pot>().unwrap();
    assert_eq!((drawer.count::<Attachment>().unwrap(), parts(&drawer)), (0, 0));
}

#[test]
fn one_transaction_over_all_of_them_is_kept_whole_or_not_at_all() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let cover = drawer.attachments().add(&b"cover"[..]).run().unwrap();
    drawer.write(|tx| all_of_them(tx, &bytes(5 * PART, 1), "K-1", cover.key())).unwrap();
    let state = || {
        let pots = drawer.records::<Pot>().collect().unwrap();
        let marks = drawer.named::<LastMark>().get_all(["pot", "jug"]).unwrap();
        let names = drawer.records::<Attachment>().only(|a| (a.name, a.hash)).collect().unwrap();
        (pots, marks, drawer.settings::<Bench>().get().unwrap().cover, names, parts(&drawer))
    };
    let before = state();
    assert_eq!((before.0.len(), before.1[0], before.2, before.4), (1, Some(1), Some(cover.key()), 6));
    for fails_after in 0..5 {
        let failed = drawer.write(|tx| {
            let steps: [&dyn Fn() -> Result<(), Error>; 5] = [
                &|| tx.insert(pot("K-2", None)).map(drop),
                &|| tx.named::<LastMark>().set("jug", 7),
                &|| tx.settings::<Bench>().change(|b| b.cover = None).map(drop),
                &|| tx.attachments().add(&bytes(5 * PART, 2)[..]).run().map(drop),
                &|| tx.remove(cover.key()).map(drop),
            ];
            steps[..=fails_after].iter().try_for_each(|step| step())?;
            Err::<(), _>(Error::own("given up"))
        });
        assert!(failed.unwrap_err().is_own());
        assert_eq!(state(), before, "given up after {fails_after}");
    }
    let prepared = drawer.attachments().add(&bytes(5 * PART, 3)[..]).prepare().unwrap();
    let failed = drawer.write(|tx| {
        tx.attachments().keep(prepared)?;
        Err::<(), _>(Error::own("given up"))
    });
    assert!(failed.unwrap_err().is_own());
    drawer.attachments().add(&bytes(5 * PART, 4)[..]).prepare().map(drop).unwrap();
    assert_eq!(state(), before, "what was prepared for a transaction that was given up is removed with the next");
}

fn all_of_them(tx: &velvet_drawer::Tx<'_>, photo: &[u8], mark: &str, cover: Key<Attachment>) -> Result<(), Error> {
    let photo = tx.attachments().add(photo).named(mark).run()?;
    tx.insert(pot(mark, Some(photo.key())))?;
    tx.named::<LastMark>().change_or("pot", 0, |n| *n += 1)?;
    tx.settings::<Bench>().change(|b| b.cover = Some(cover)).map(drop)
}

/// Fails after so many bytes, or asks to be stopped.
struct Breaks<'c> {
    left: usize,
    cancel: Option<&'c Cancel>,
}

impl Read for Breaks<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = into.len().min(self.left).min(10_000);
        if count == 0 {
            match self.cancel {
                Some(cancel) => cancel.cancel(),
                None => return Err(io::Error::other("the memory card was pulled")),
            }
            return Ok(into.len());
        }
        into[..count].fill(3);
        self.left -= count;
        Ok(count)
    }
}

#[test]
fn what_fails_or_is_stopped_in_the_middle_leaves_nothing() {
    let drawer = memory();
    for left in [0, 5, 3 * PART, 30 * PART] {
        let error = drawer.attachments().add(Breaks { left, cancel: None }).run().unwrap_err();
        assert!(error.is_device() && error.to_string().contains("the memory card was pulled"), "{error}");
        let within = drawer.write(|tx| tx.attachments().add(Breaks { left, cancel: None }).run());
        assert!(within.unwrap_err().is_device());
        let cancel = Cancel::default();
        let stopped = cancel.during(|| drawer.attachments().add(Breaks { left, cancel: Some(&cancel) }).run());
        assert!(stopped.unwrap_err().is_cancelled());
        assert_eq!((drawer.count::<Attachment>().unwrap(), parts(&drawer)), (0, 0), "{left}");
    }
    let later = drawer.later(|d| d.attachments().add(io::repeat(1).take(9 << 20)).run());
    let added = later.wait().unwrap();
    let export: Later<()> = drawer.later(move |d| d.attachments().export_to(added.key(), "/nowhere/at/all"));
    assert!(export.wait().is_err());
    let error = drawer.write(|tx| tx.attachments().add(&[][..]).prepare().map(drop)).unwrap_err();
    assert!(error.is_nested(), "{error}");
    let prepared = memory().attachments().add(&[1][..]).prepare().unwrap();
    assert!(drawer.attachments().keep(prepared).unwrap_err().is_misfit(), "of another file");
}

#[test]
fn a_kill_in_the_middle_leaves_nothing_and_somebody_who_is_still_storing_is_let_be() {
    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    let mut app = Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "attachments::an_app_that_is_storing", "--nocapture"])
        .env("VELVET_TEST_STORES", &path)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let drawer = Drawer::open(&path, schema()).unwrap();
    while parts(&drawer) < 40 {
        std::thread::sleep(std::time::Duration::from_millis(2));
    }
    drawer.attachments().add(&bytes(5 * PART, 1)[..]).prepare().map(drop).unwrap();
    assert!(parts(&drawer) >= 40 && drawer.count::<Attachment>().unwrap() == 0, "the other goes on");
    app.kill().unwrap();
    app.wait().unwrap();
    drawer.close().unwrap();
    // Another process got its number.
    let me = std::process::id().to_string() + " 1";
    let other = common::other_program(&path);
    assert_eq!(other.execute("UPDATE velvet_about SET value = ? WHERE name LIKE 'storing%'", [me]).unwrap(), 1);
    drop(other);
    let file = File::open(&path).unwrap();
    assert!(file.check().unwrap().is_sound(), "what is left over does no harm");
    let drawer = Drawer::open(&path, schema()).unwrap();
    assert_eq!(parts(&drawer), 0, "it is removed by the next open");
    assert_eq!(
        drawer.sql("select count(*) from velvet_about where name like 'storing%'").first::<i64>().unwrap(),
        Some(0)
    );
}

/// The other process of the test above; nothing where this is run as an ordinary test.
#[test]
fn an_app_that_is_storing() {
    let Ok(path) = std::env::var("VELVET_TEST_STORES") else { return };
    let drawer = Drawer::options().relaxed().open(path, schema()).unwrap();
    drawer.attachments().add(io::repeat(5)).run().unwrap();
}

/// A drawer with two attachments, one small and one large, and a record that links to each.
fn filled(path: &Path) -> [Vec<u8>; 2] {
    let drawer = Drawer::options().trail(Trail::Before).open(path, schema()).unwrap();
    let contents = [bytes(900, 1), bytes(5 * PART + 3, 2)];
    for (n, content) in contents.iter().enumerate() {
        let photo =
            drawer.attachments().add(&content[..]).named(format!("{n}.jpg")).media_type("image/jpeg").run().unwrap();
        drawer.insert(pot(&format!("K-{n}"), Some(photo.key()))).unwrap();
    }
    let gone = drawer.attachments().add(&bytes(5_000, 3)[..]).named("gone").run().unwrap();
    drawer.remove(gone.key()).unwrap();
    drawer.close().unwrap();
    contents
}

fn are_there(drawer: &Drawer, contents: &[Vec<u8>; 2]) {
    for (n, content) in contents.iter().enumerate() {
        let photo = drawer.get_by_own_key::<Pot>(&format!("K-{n}")).unwrap().unwrap().photo.unwrap();
        assert!(drawer.attachments().bytes(photo).unwrap() == *content);
        assert_eq!(drawer.get(photo).unwrap().unwrap().name, format!("{n}.jpg"));
    }
    assert_eq!((drawer.count::<Attachment>().unwrap(), parts(drawer)), (2, 7));
    let also_later = drawer.attachments().add(&contents[0][..]).run().unwrap();
    drawer.remove(also_later.key()).unwrap();
    drawer.remove_all::<Pot>().unwrap();
    assert_eq!(parts(drawer), 0, "and go with their records there too");
}

#[test]
fn attachments_go_through_every_form_and_come_back() {
    let (folder, path) = folder();
    let contents = filled(&path);
    let at = |name: &str| folder.path().join(name);
    let file = File::open(&path).unwrap();
    let all = |form| {
        let mut out = Vec::new();
        file.export_all(form, &mut out).unwrap();
        out
    };
    use velvet_drawer::inspect::Exchange::{JsonLines, SqlText};
    import_sql(at("sql"), std::str::from_utf8(&all(SqlText)).unwrap(), &Limits::default()).unwrap();
    Drawer::open(at("lines"), schema()).unwrap().close().unwrap();
    import(at("lines"), None, JsonLines, &mut &all(JsonLines)[..], &Limits::default()).unwrap();
    file.copy_to(at("copy"), false).unwrap();
    assert_eq!(salvage(&path, at("salvaged"), &Limits::default()).unwrap().lost, [""; 0]);
    Drawer::restore(at("restored"), &path).unwrap();
    let file = File::open(&path).unwrap();
    for name in ["sql", "lines", "copy", "salvaged", "restored"] {
        let other = File::open(at(name)).unwrap();
        let comparison = file.compare(&other, &mut |d| panic!("{name}: {d:?}")).unwrap();
        assert!(comparison.is_same() && other.check().unwrap().is_sound(), "{name}");
        are_there(&Drawer::open(at(name), schema()).unwrap(), &contents);
    }
    let drawer = Drawer::from_bytes(&std::fs::read(&path).unwrap(), schema()).unwrap();
    drawer.compact().unwrap();
    are_there(&drawer, &contents);

    let trail = file.trail(&TrailOf::default()).unwrap();
    assert!(
        trail.iter().any(|entry| entry.table == "attachment") && trail.iter().all(|e| e.table != "attachment_part")
    );
    let sessions = file.sessions(9).unwrap();
    assert!(!format!("{sessions:?}").contains("attachment_part"), "{sessions:?}");
    let mut found = Vec::new();
    file.search("jpg", &[], &mut |row| {
        found.push(row.table);
        Ok(true)
    })
    .unwrap();
    assert_eq!(found, ["attachment", "attachment"]);
}

#[test]
fn a_damaged_or_missing_part_is_found_and_named() {
    let (_folder, path) = folder();
    let contents = filled(&path);
    let damage = |text: &str| {
        other_program(&path).execute_batch(text).unwrap();
        let checked = File::open(&path).unwrap().check().unwrap();
        let said: Vec<String> = checked.problems.iter().map(|p| p.what.clone()).collect();
        assert_eq!(said.len(), 1, "{said:?}");
        said[0].clone()
    };
    let said = damage("UPDATE attachment_part SET bytes = zeroblob(262144) WHERE number = 2");
    assert!(said.contains("attachment 2") && said.contains("1.jpg") && said.contains("hash"), "{said}");
    let shorter = || {
        let drawer = Drawer::open(&path, schema()).unwrap();
        let photo = drawer.get_by_own_key::<Pot>("K-1").unwrap().unwrap().photo.unwrap();
        let mut stream = drawer.attachments().open(photo).unwrap();
        stream.seek(SeekFrom::Start(2 * PART as u64)).and_then(|_| stream.read_exact(&mut [0]))
    };
    assert!(shorter().is_ok());
    let said = damage("UPDATE attachment_part SET bytes = zeroblob(262143) WHERE number = 2");
    assert!(said.contains("bytes are there") && shorter().is_err(), "{said}");
    let said = damage("DELETE FROM attachment_part WHERE number = 2");
    assert!(said.contains("attachment 2") && said.contains("bytes are there"), "{said}");
    let drawer = Drawer::open(&path, schema()).unwrap();
    let photo = drawer.get_by_own_key::<Pot>("K-1").unwrap().unwrap().photo.unwrap();
    let error = drawer.attachments().bytes(photo).unwrap_err();
    assert!(error.is_damaged() && error.to_string().contains("of its 1310723 bytes are there"), "{error}");
    let mut stream = drawer.attachments().open(photo).unwrap();
    let mut first = vec![0; 2 * PART];
    stream.read_exact(&mut first).unwrap();
    assert!(first == contents[1][..2 * PART] && stream.read_exact(&mut [0]).is_err());
}

#[test]
fn what_a_made_up_file_says_of_contents_ends_in_errors_and_takes_nothing_else_along() {
    let (_folder, path) = folder();
    let contents = filled(&path);
    let photo_of = |drawer: &Drawer, mark: &str| drawer.get_by_own_key::<Pot>(mark).unwrap().unwrap().photo.unwrap();
    let first = { photo_of(&Drawer::open(&path, schema()).unwrap(), "K-1") };
    let content: i64 = other_program(&path)
        .query_row("SELECT content FROM attachment WHERE key = ?1", [first.number()], |row| row.get(0))
        .unwrap();
    // The last would come round to the content that is there.
    for made_up in [i64::MAX, i64::MIN, -1, 0, (1 << 43) - 1, content + (1 << 44)] {
        let other = other_program(&path);
        other
            .execute(
                "INSERT INTO attachment (name, media_type, bytes, hash, content) VALUES ('made up', '', ?1, 'none', ?2)",
                [i64::MAX, made_up],
            )
            .unwrap();
        let key: i64 = other.last_insert_rowid();
        other
            .execute_batch(
                "INSERT OR REPLACE INTO attachment_part (key, content, number, bytes) VALUES (9223372036854775807, 9, 0, x'00'), (-1, 9, 0, x'00');
                 INSERT OR REPLACE INTO velvet_about VALUES ('storing attachment 9', '1 1')",
            )
            .unwrap();
        drop(other);
        let file = File::open(&path).unwrap();
        let found = file.attachment(&key.to_string()).unwrap();
        assert!(file.write_attachment(&found, &mut io::sink()).unwrap_err().is_damaged(), "{made_up}");
        let said: Vec<String> = file.check().unwrap().problems.iter().map(|p| p.what.clone()).collect();
        assert!(said.iter().any(|what| what.contains(&format!("attachment {key}"))), "{made_up}: {said:?}");
        drop(file);
        let drawer = Drawer::open(&path, schema()).unwrap();
        let key = Key::<Attachment>::from_number(key);
        assert!(drawer.attachments().bytes(key).unwrap_err().is_damaged(), "{made_up}");
        assert!(drawer.attachments().open(key).unwrap().read(&mut [0; 9]).is_err(), "{made_up}");
        assert!(drawer.remove(key).unwrap(), "{made_up}");
        drawer.attachments().add(&vec![7; 5 * PART][..]).run().unwrap();
        assert!(drawer.attachments().bytes(first).unwrap() == contents[1], "{made_up} took it along");
    }
}

#[test]
fn a_large_one_leaves_memory_and_the_log_small_and_lets_others_write() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().relaxed().open(&path, schema()).unwrap();
    let later = drawer.later(|d| d.attachments().add(io::repeat(9).take(48 << 20)).run());
    let (mut largest, mut written) = (0, 0);
    while !later.is_finished() {
        largest = largest.max(drawer.health().unwrap().wal);
        drawer.insert(pot(&format!("K-{written}"), None)).unwrap();
        written += 1;
    }
    let added = later.wait().unwrap();
    assert!(largest < 16 << 20, "the log had {largest} bytes");
    assert!(written > 3, "others wrote {written} times");
    let stored_by = "select count(*) from velvet_about where name like 'storing%'";
    assert_eq!(drawer.sql(stored_by).first::<i64>().unwrap(), Some(0), "nobody stores it any more");
    let arrived: Vec<String> = drawer.records::<Attachment>().only(|a| a.hash).collect().unwrap();
    assert_eq!(arrived, [added.hash.as_str()]);
}

#[test]
fn an_attachment_s_arrival_is_followed() {
    let drawer = memory();
    let mut all = drawer.records::<Attachment>().sort_by(|a| a.name.ascending()).watch().unwrap();
    assert!(all.next().unwrap().unwrap().result.is_empty());
    drawer.attachments().add(&bytes(5 * PART, 1)[..]).named("bowl").run().unwrap();
    let update = all.next().unwrap().unwrap();
    assert_eq!(update.result.iter().map(|a| a.name.as_str()).collect::<Vec<_>>(), ["bowl"]);
}

/// The other process of the test below; nothing where this is run as an ordinary test.
#[test]
fn an_app_that_writes_all_of_them() {
    let Ok(path) = std::env::var("VELVET_TEST_WRITES_ALL") else { return };
    let drawer = Drawer::options().relaxed().open(path, schema()).unwrap();
    for n in drawer.count::<Pot>().unwrap().. {
        let (photo, mark) = (bytes(5 * PART, n as u8), format!("K-{n}"));
        drawer.write(|tx| all_of_them(tx, &photo, &mark, Key::from_number(n as i64))).unwrap();
        eprintln!("kept {n}");
    }
}

#[test]
fn a_kill_leaves_whole_transactions_over_all_of_them() {
    let (_folder, path) = folder();
    Drawer::open(&path, schema()).unwrap().close().unwrap();
    let mut seen = 0;
    for round in 0..8_u64 {
        let mut app = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "attachments::an_app_that_writes_all_of_them", "--nocapture"])
            .env("VELVET_TEST_WRITES_ALL", &path)
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let kept = BufReader::new(app.stderr.take().unwrap()).lines().map(Result::unwrap);
        let kept = kept.filter(|line| line.starts_with("kept")).take(1 + round as usize % 3).count() as u64;
        std::thread::sleep(std::time::Duration::from_micros(700 * round));
        app.kill().unwrap();
        app.wait().unwrap();
        let drawer = Drawer::open(&path, schema()).unwrap();
        let pots = drawer.records::<Pot>().collect().unwrap();
        let count = pots.len() as u64;
        assert!(count >= seen + kept, "{kept} were acknowledged after {seen}, and {count} are there");
        seen = count;
        assert_eq!(drawer.named::<LastMark>().get_or("pot", 0).unwrap(), count as u32);
        let cover = drawer.settings::<Bench>().get().unwrap().cover;
        assert_eq!(cover, count.checked_sub(1).map(|last| Key::from_number(last as i64)));
        assert_eq!((drawer.count::<Attachment>().unwrap(), parts(&drawer)), (count, 5 * count as i64));
        for (n, pot) in pots.iter().enumerate().skip(pots.len().saturating_sub(3)) {
            assert_eq!(pot.mark, format!("K-{n}"));
            assert!(drawer.attachments().bytes(pot.photo.unwrap()).unwrap() == bytes(5 * PART, n as u8));
        }
        drawer.close().unwrap();
    }
    assert!(File::open(&path).unwrap().check().unwrap().is_sound());
}

#[test]
fn private_attachments_are_there_and_empty_in_a_copy_without_what_is_private() {
    let (folder, path) = folder();
    let schema = || Schema::new("photos").record::<Pot>().private_attachments();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    let photo = drawer.attachments().add(&bytes(5 * PART, 1)[..]).named("the neighbour").run().unwrap();
    drawer.insert(pot("K-1", Some(photo.key()))).unwrap();
    drawer.change(photo.key(), |a| a.name = "the neighbour's cat".into()).unwrap();
    let copy = folder.path().join("copy");
    drawer.copy_without_private_to(&copy).unwrap();
    let stored = std::fs::read(&copy).unwrap();
    assert!(!stored.windows(9).any(|w| w == b"neighbour") && stored.len() < 2 * PART);
    assert!(File::open(&copy).unwrap().check().unwrap().is_sound());
    let copied = Drawer::open(&copy, schema()).unwrap();
    let there = copied.get(photo.key()).unwrap().unwrap();
    assert_eq!((there.name.as_str(), there.bytes, copied.attachments().bytes(photo.key()).unwrap()), ("", 0, vec![]));
    assert_eq!(copied.get_by_own_key::<Pot>("K-1").unwrap().unwrap().photo, Some(photo.key()));
}
