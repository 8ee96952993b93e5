//! Pages and logs of encrypted files: damaged, killed, proven.

use super::*;

#[test]
fn damage_is_named_and_what_is_whole_is_saved() {
    let (_folder, path) = folder();
    let key = kept();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..3_000).map(client)).unwrap();
    drawer.close().unwrap();
    let whole = fs::read(&path).unwrap();
    let saved = path.with_file_name("saved.drawer");
    let pages = whole.len() / 4096;
    let _unlocked = key.unlock(&path).unwrap();
    let mut some_lost = false;
    for page in (1..pages).step_by(pages / 12) {
        let mut bytes = whole.clone();
        bytes[page * 4096 + 100] ^= 1;
        fs::write(&path, &bytes).unwrap();
        let listed = with(&key).without_sessions().open(&path, schema()).and_then(|d| d.records::<Client>().collect());
        assert!(listed.is_ok() || listed.as_ref().is_err_and(|e| e.is_damaged()), "page {page}: {:?}", listed.err());
        fs::write(&path, &bytes).unwrap();
        let checked = File::open(&path).and_then(|file| file.check());
        assert!(!checked.as_ref().is_ok_and(|checked| checked.is_sound()), "page {page}: {checked:?}");
        let salvaged = inspect::salvage(&path, &saved, &Limits::default()).unwrap();
        let back = with(&key).open(&saved, schema()).unwrap();
        let records = back.records::<Client>().collect().unwrap();
        assert!(records.iter().all(|c| c.name.starts_with(WORD)) && records.len() >= 2_800);
        some_lost |= !salvaged.is_whole();
        drop((records, back));
        assert!(fs::read(&path).unwrap() == bytes, "a look writes nothing");
        fs::remove_file(&saved).unwrap();
    }
    assert!(some_lost);
    // The first page alone is damaged: the key is told by the others.
    let mut bytes = whole.clone();
    bytes[100] ^= 1;
    fs::write(&path, &bytes).unwrap();
    let error = with(&key).open(&path, schema()).unwrap_err();
    assert!(error.is_damaged(), "{error}");
    assert!(fs::read(&path).unwrap() == bytes);
}

#[test]
fn python_reads_what_was_written_and_its_pages_are_proven() {
    let (_folder, path) = folder();
    let key = FileKey::of_bytes(SecretKey::from_bytes([0x5a; 32]));
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..30).map(client)).unwrap();
    drawer.close().unwrap();
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/decrypt.py");
    let plain = path.with_file_name("plain.db");
    let output = Command::new("python3").arg(script).args([&path, &plain]).arg("5a".repeat(32)).output();
    let output = output.expect("this test needs python3");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let count = fs::metadata(&path).unwrap().len() / 4096;
    assert_eq!(String::from_utf8(output.stdout).unwrap(), format!("{count} pages\n"));
    let rows = other_program(&plain);
    let names: i64 = rows.query_row("SELECT count(DISTINCT name) FROM \"select\"", [], |row| row.get(0)).unwrap();
    assert_eq!(names, 30);
}

#[test]
fn a_log_that_a_kill_left_is_never_taken_for_a_foreign_one() {
    let (_folder, path) = folder();
    let key = kept();
    let copy = path.with_file_name("copy.drawer");
    let drawer = with(&key).open(&path, schema()).unwrap();
    let killed_here = |written: u64| {
        for end in ["", "-wal"] {
            let _ = fs::remove_file(format!("{}{end}", copy.display()));
            fs::copy(format!("{}{end}", path.display()), format!("{}{end}", copy.display())).unwrap();
        }
        let found = with(&key).open(&copy, schema()).unwrap();
        assert_eq!((found.opened().log_set_aside.clone(), found.count::<Client>().unwrap()), (None, written));
        found.close().unwrap();
    };
    let mut written = 0;
    for round in 0..12 {
        // The first page is written where the file grows, where it gives space back, and by another program.
        drawer.insert_all((0..40).map(|n| client(written as u32 + n))).unwrap();
        written += 40;
        killed_here(written);
        if round % 3 == 1 {
            other_program(&path).execute_batch("PRAGMA application_id; PRAGMA user_version = 1").unwrap();
            killed_here(written);
        }
        if round % 3 == 2 {
            drawer.compact().unwrap();
            other_program(&path).execute_batch("PRAGMA wal_checkpoint(PASSIVE)").unwrap();
            killed_here(written);
        }
        drawer.insert(client(1_000_000 + round)).unwrap();
        written += 1;
        killed_here(written);
    }
    // By a program that found all of it merged.
    drawer.close().unwrap();
    let unlocked = key.unlock(&path).unwrap();
    let program = other_program(&path);
    program.execute_batch("PRAGMA user_version = 1").unwrap();
    killed_here(written);
    drop((program, unlocked));

    // A log of an earlier state is.
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..400).map(|n| client(1_000_100 + n))).unwrap();
    written += 400;
    let earlier = path.with_file_name("earlier");
    fs::copy(path.with_file_name("kiln.drawer-wal"), &earlier).unwrap();
    drawer.close().unwrap();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..4_000).map(|n| client(2_000_000 + n))).unwrap();
    drawer.close().unwrap();
    fs::copy(&earlier, path.with_file_name("kiln.drawer-wal")).unwrap();
    assert!(with(&key).open(&path, schema()).unwrap_err().is_foreign_log());
    let drawer = with(&key).set_aside_foreign_log().open(&path, schema()).unwrap();
    assert!(drawer.opened().log_set_aside.is_some() && drawer.count::<Client>().unwrap() == written + 4_000);
}

#[test]
fn compacting_loses_nothing_that_others_write_meanwhile() {
    let (folder, path) = folder();
    let key = kept();
    let drawer = with(&key).open(&path, schema()).unwrap();
    drawer.insert_all((0..6_000).map(client)).unwrap();
    drawer.remove_all::<Client>().unwrap();
    drawer.insert_all((0..1_000).map(client)).unwrap();
    let before = drawer.space().unwrap();
    let is_done = std::sync::atomic::AtomicBool::new(false);
    let (compacted, written) = std::thread::scope(|scope| {
        let writes = scope.spawn(|| {
            let program = other_program(&path);
            program.busy_timeout(std::time::Duration::from_secs(10)).unwrap();
            let mut written = 0;
            while !is_done.load(Relaxed) && written < 20_000 {
                std::thread::sleep(std::time::Duration::from_millis(2));
                written += program
                    .execute("INSERT INTO token (name, value) VALUES (?1, 'x')", [format!("{written}")])
                    .unwrap();
            }
            written
        });
        let compacted: Vec<_> = (0..6).map(|_| drawer.compact()).collect();
        is_done.store(true, Relaxed);
        let compacted: Vec<_> = compacted.into_iter().map(Result::unwrap).collect();
        (compacted, writes.join().unwrap())
    });
    assert!(compacted[0].bytes < before.bytes && compacted[0].unused == 0 && written > 0, "{before:?} {compacted:?}");
    assert_eq!((drawer.count::<Client>().unwrap(), drawer.count::<Token>().unwrap()), (1_000, written as u64));
    assert_eq!(drawer.records::<Client>().search("tenmoku likes").count().unwrap(), 1_000);
    drawer.close().unwrap();
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
    assert_eq!(seen_in(folder.path()), [""; 0]);
    let drawer = with(&key).open(&path, schema()).unwrap();
    assert_eq!(drawer.count::<Token>().unwrap(), written as u64);
    let _unlocked = key.unlock(&path).unwrap();
    assert!(File::open(&path).unwrap().check().unwrap().is_sound());
}

/// Values that end in the middle of pages of their own.
#[derive(Record, Clone, Debug, PartialEq)]
struct Plate {
    #[record(own_key)]
    number: u32,
    scan: Vec<u8>,
    /// Stored behind the scan, in its last page.
    grams: i64,
    remarks: String,
}

/// Bytes none of which is 0: the engine returns zeros for a page that failed its proof.
fn scan(bytes: usize) -> Vec<u8> {
    (0..bytes).map(|n| (n % 251) as u8 + 1).collect()
}

const LENGTHS: [usize; 6] = [3, 3_900, 4_016, 8_100, 20_000, 40_000];

fn plate(number: u32) -> Plate {
    Plate { number, scan: scan(LENGTHS[number as usize]), grams: 0x1234_5678_9abc, remarks: "x".repeat(500) }
}

#[test]
fn whichever_page_fails_its_proof_no_value_is_read_wrong_in_any_way() {
    let (folder, path) = folder();
    let key = kept();
    let schema = || Schema::new("kilnbook").record::<Plate>().attachments();
    let drawer = with(&key).without_sessions().open(&path, schema()).unwrap();
    drawer.insert_all((0..LENGTHS.len() as u32).map(plate)).unwrap();
    let sound = drawer.attachments().add(&scan(20_000)[..]).run().unwrap().key();
    drawer.close().unwrap();
    let whole = fs::read(&path).unwrap();
    let damaged = folder.path().canonicalize().unwrap().join("damaged.drawer");
    let copy = damaged.with_file_name("copy.drawer");
    let is_right = |found: &Plate| *found == plate(found.number);
    let (mut refused, mut read) = (0, 0);
    for page in 0..whole.len() / 4096 {
        let mut bytes = whole.clone();
        bytes[page * 4096 + 2_000] ^= 1;
        fs::write(&damaged, &bytes).unwrap();
        let mut answers = |what: &str, answer: Result<bool, Error>| match answer {
            Ok(is_right) => {
                assert!(is_right, "page {page}: {what} is read wrong");
                read += 1;
            }
            Err(error) => {
                assert!(
                    error.is_damaged() || error.is_wrong_key() || error.is_unreadable(),
                    "page {page}, {what}: {error}"
                );
                refused += 1;
            }
        };
        let Ok(drawer) = with(&key).read_only().open(&damaged, schema()) else { continue };
        for number in 0..LENGTHS.len() as u32 {
            let one = || drawer.records::<Plate>().filter(|p| p.number.is(number));
            answers("a record", one().first().map(|found| found.is_some_and(|found| is_right(&found))));
            answers("a number behind it", one().only(|p| p.grams).first().map(|found| found == Some(0x1234_5678_9abc)));
            answers(
                "a condition on it",
                one().filter(|p| p.grams.is(0x1234_5678_9abc)).count().map(|count| count == 1),
            );
        }
        answers(
            "the list",
            drawer.records::<Plate>().collect().map(|all| all.len() == 6 && all.iter().all(|p| is_right(p))),
        );
        let mut each = Vec::new();
        answers("each", drawer.records::<Plate>().for_each(|p| each.push(p)).map(|()| each.len() == 6));
        assert!(each.iter().all(|p| is_right(p)), "page {page}: one that was handed out is wrong");
        answers("an attachment", drawer.attachments().bytes(sound).map(|bytes| bytes == scan(20_000)));
        let mut streamed = Vec::new();
        let stream = drawer.attachments().open(sound).map(|mut stream| stream.read_to_end(&mut streamed));
        answers("a stream", stream.map(|read| read.is_err() || streamed == scan(20_000)));
        let _ = fs::remove_file(&copy);
        let copied = drawer.copy_to(&copy);
        answers("a copy", copied.map(|()| fs::metadata(&copy).is_ok_and(|m| m.len() == whole.len() as u64)));
        if copy.exists() {
            let copied = with(&key).open(&copy, schema()).unwrap();
            assert!(
                copied.records::<Plate>().collect().unwrap().iter().all(|p| is_right(p)),
                "page {page}: copied wrong"
            );
        }
        answers(
            "the bytes",
            drawer.to_bytes().and_then(|bytes| {
                let all = with(&key).from_bytes(&bytes, schema())?.records::<Plate>().collect()?;
                Ok(all.iter().all(|p| is_right(p)))
            }),
        );
        drop(drawer);
        let _unlocked = key.unlock(&damaged).unwrap();
        let mut lines = Vec::new();
        let file = File::open(&damaged).and_then(|file| file.export_all(Exchange::JsonLines, &mut lines).map(drop));
        let zeros = |lines: &[u8]| String::from_utf8_lossy(lines).contains("AAAAAAAA");
        answers("an export", file.map(|()| !zeros(&lines)));
        assert!(!zeros(&lines), "page {page}: exported wrong");
    }
    assert!(refused > 100 && read > 100, "{refused} refused, {read} read");
    // A reader that met such a page reads nothing more; others of the same drawer do.
    let last = (whole.len() / 4096 - 1) * 4096;
    let mut bytes = whole;
    bytes[last + 2_000] ^= 1;
    fs::write(&damaged, bytes).unwrap();
    let drawer = with(&key).open(&damaged, schema()).unwrap();
    let (sound, damaged): (Vec<_>, Vec<_>) = (0..LENGTHS.len() as u32)
        .map(|n| drawer.records::<Plate>().filter(|p| p.number.is(n)).first())
        .partition(Result::is_ok);
    assert!(!sound.is_empty() || !damaged.is_empty());
    drawer.insert(Plate { number: 9, ..plate(0) }).unwrap();
    assert!(drawer.records::<Plate>().filter(|p| p.number.is(9)).any().unwrap());
}
