//! All or nothing, one consistent state, and no drawer inside its own transaction.

use crate::common;
use common::{Piece, folder, memory, piece, schema};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::channel;
use std::thread;
use std::time::Duration;
use velvet_drawer::{Drawer, Error};

fn drawers() -> [(Drawer, Option<tempfile::TempDir>); 2] {
    let (folder, path) = folder();
    [(memory(), None), (Drawer::open(path, schema()).unwrap(), Some(folder))]
}

#[test]
fn a_thread_that_is_waited_for_inside_a_transaction_gives_up_and_says_where_that_began() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().lock_timeout(Duration::from_millis(50)).open(&path, schema()).unwrap();
    let insert = |mark: &'static str| {
        let other = drawer.clone();
        thread::spawn(move || other.insert(piece(mark))).join().unwrap()
    };
    let line = line!() + 1;
    let refused = drawer.write(|tx| tx.insert(piece("K-1")).map(|_| insert("K-2").unwrap_err())).unwrap();
    assert!(refused.is_locked());
    let at = format!(
        "cannot write to the drawer: another thread has been writing to it for 50ms, in the `write` at {}:{line}:",
        file!()
    );
    assert!(refused.to_string().starts_with(&at), "{refused}");
    insert("K-3").unwrap();
    assert_eq!(drawer.count::<Piece>().unwrap(), 2);
}

#[test]
fn an_error_or_a_panic_rolls_everything_back() {
    for (drawer, _folder) in drawers() {
        let error = drawer
            .write(|tx| {
                tx.insert(piece("K-1"))?;
                assert_eq!(tx.count::<Piece>()?, 1, "a transaction sees what it wrote");
                Err::<(), _>(Error::own("no clay left"))
            })
            .unwrap_err();
        assert!(error.is_own());
        assert_eq!(error.to_string(), "no clay left");
        let panicked = catch_unwind(AssertUnwindSafe(|| {
            drawer.write(|tx| -> Result<(), Error> {
                tx.insert(piece("K-2"))?;
                panic!("dropped the bowl")
            })
        }));
        assert!(panicked.is_err());
        assert_eq!(drawer.count::<Piece>().unwrap(), 0);
        drawer.write(|tx| tx.insert(piece("K-3"))).unwrap();
        assert_eq!(drawer.count::<Piece>().unwrap(), 1);
    }
}

#[test]
fn a_failed_insert_inside_a_transaction_leaves_the_rest_to_the_caller() {
    let drawer = memory();
    drawer
        .write(|tx| {
            tx.insert(piece("K-1"))?;
            assert!(tx.insert(piece("K-1")).unwrap_err().is_clash());
            tx.insert(piece("K-2"))
        })
        .unwrap();
    assert_eq!(drawer.count::<Piece>().unwrap(), 2);
}

#[test]
fn a_drawer_inside_its_own_transaction_is_an_immediate_error() {
    for (drawer, _folder) in drawers() {
        let nested = |result: Result<(), Error>| {
            let error = result.unwrap_err();
            assert!(error.is_nested(), "{error:?}");
            assert!(error.to_string().contains("Use what the closure is given: `tx` or `view`"), "{error}");
            Ok(())
        };
        drawer.write(|_| nested(drawer.write(|_| Ok(())))).unwrap();
        drawer.write(|_| nested(drawer.count::<Piece>().map(drop))).unwrap();
        drawer.read(|_| nested(drawer.insert(piece("K-1")).map(drop))).unwrap();
        drawer.read(|_| nested(drawer.clone().read(|_| Ok(())))).unwrap();
        drawer.write(|_| Ok(memory().insert(piece("elsewhere")).unwrap())).unwrap();
        drawer.insert(piece("K-1")).unwrap();
    }
}

#[test]
fn a_view_is_one_state_while_another_thread_writes() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    let (begun, wait_for_begin) = channel();
    let (written, wait_for_write) = channel();
    let writer = drawer.clone();
    let thread = thread::spawn(move || {
        wait_for_begin.recv().unwrap();
        writer.insert(piece("K-2")).unwrap();
        written.send(()).unwrap();
    });
    drawer
        .read(|view| {
            assert_eq!(view.count::<Piece>()?, 1);
            begun.send(()).unwrap();
            wait_for_write.recv().unwrap();
            assert_eq!(view.count::<Piece>()?, 1);
            Ok(())
        })
        .unwrap();
    assert_eq!(drawer.count::<Piece>().unwrap(), 2);
    thread.join().unwrap();
}

#[test]
fn a_view_gets_records_of_several_types_again_and_again() {
    for (drawer, _folder) in drawers() {
        let pieces = drawer.insert_all(["K-1", "K-2"].map(piece)).unwrap();
        let glaze = drawer.insert(common::glaze("Celadon")).unwrap();
        drawer
            .read(|view| {
                for _ in 0..3 {
                    for piece in &pieces {
                        assert_eq!(view.get(piece.key())?.as_ref(), Some(piece));
                    }
                    assert_eq!(view.get(glaze.key())?.as_ref(), Some(&glaze));
                    assert_eq!(view.get(velvet_drawer::Key::<Piece>::from_number(99))?, None);
                }
                Ok(())
            })
            .unwrap();
        drawer.remove(pieces[0].key()).unwrap();
        assert_eq!(drawer.read(|view| view.get(pieces[0].key())).unwrap(), None);
    }
}

#[test]
fn threads_that_change_one_record_lose_no_update() {
    for (drawer, _folder) in drawers() {
        let key = drawer.insert(piece("K-1")).unwrap().key();
        thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    for _ in 0..25 {
                        drawer.change(key, |p| p.grams = p.grams.map(|g| g + 1)).unwrap();
                        assert!(drawer.get(key).unwrap().unwrap().grams >= Some(641));
                    }
                });
            }
        });
        assert_eq!(drawer.get(key).unwrap().unwrap().grams, Some(740));
    }
}

#[test]
fn after_the_engine_rolled_back_nothing_more_of_the_transaction_is_written() {
    let insert = "insert or rollback into piece (mark, stage, grams, remarks) values (:mark, 'Thrown', 1, '')";
    for (drawer, _folder) in drawers() {
        drawer.insert(piece("K-1")).unwrap();
        for in_a_part in [false, true] {
            let mut refused = Vec::new();
            let result = drawer.write(|tx| {
                tx.insert(piece("K-2"))?;
                let fails = |tx: &velvet_drawer::Tx<'_>| tx.sql(insert).bind("mark", "K-1").run();
                let first = if in_a_part { tx.part(|tx| fails(tx)) } else { fails(tx) };
                assert!(first.unwrap_err().is_clash());
                refused.push(tx.insert(piece("K-3")).map(drop));
                refused.push(tx.insert_all([piece("K-4")]).map(drop));
                refused.push(tx.sql(insert).bind("mark", "K-5").run().map(drop));
                refused.push(tx.part(|tx| tx.insert(piece("K-6"))).map(drop));
                refused.push(tx.records::<Piece>().update(|p| p.grams.clear()).map(drop));
                refused.push(tx.count::<Piece>().map(drop));
                Ok(())
            });
            let said = "an earlier error in this transaction had it rolled back as a whole (UNIQUE constraint failed: piece.mark)";
            for error in refused.into_iter().chain([result]).map(Result::unwrap_err) {
                assert!(error.is_clash() && error.to_string().contains(said), "{error:?}");
            }
            assert_eq!(drawer.records::<Piece>().only(|p| p.mark).collect().unwrap(), ["K-1"]);
        }
        drawer.write(|tx| tx.insert(piece("K-7"))).unwrap();
        assert_eq!(drawer.count::<Piece>().unwrap(), 2);
    }
}

#[test]
fn a_read_that_never_ends_is_told_bounded_and_its_log_cut_when_it_ends() {
    let (_folder, path) = folder();
    let most = 24 << 20;
    // The note of a session would be in the log.
    let drawer = Drawer::options().without_sessions().relaxed().wal_at_most(most).open(&path, schema()).unwrap();
    drawer.insert(piece("K-1")).unwrap();
    let large = |n: u32| Piece { remarks: "x".repeat(1 << 20), ..piece(&format!("L-{n}")) };
    let log = || std::fs::metadata(path.with_file_name("kiln.drawer-wal")).unwrap().len();
    let forgotten = |read: &dyn Fn(&mut dyn FnMut())| {
        let mut refused = None;
        let mut written = 0;
        read(&mut || {
            thread::scope(|scope| {
                let writes = scope.spawn(|| {
                    let refused = (0..40).find_map(|n| drawer.insert(large(n)).err().map(|error| (n, error)));
                    (refused.unwrap(), drawer.space().unwrap(), drawer.compact())
                });
                let ((n, error), space, compacted) = writes.join().unwrap();
                written = n;
                assert!(space.wal > most && space.wal == log());
                let read = space.open_reads[0];
                assert!(read.at.file().ends_with("transactions.rs") && space.open_reads.len() == 1);
                assert!(error.to_string().contains(&read.to_string()), "{error} {read}");
                assert!(compacted.is_err_and(|error| error.is_in_use()));
                refused = Some(error);
            });
        });
        assert!(refused.unwrap().is_in_use());
        assert!((23..26).contains(&written), "{written} MB in a log of 24");
        assert_eq!(log(), 0, "cut as soon as nobody needs it");
        assert_eq!(drawer.space().unwrap().open_reads, []);
        drawer.records::<Piece>().filter(|p| p.mark.starts_with("L")).remove().unwrap();
    };
    forgotten(&|work| {
        drawer
            .read(|view| {
                view.count::<Piece>()?;
                work();
                Ok(())
            })
            .unwrap();
    });
    forgotten(&|work| drawer.records::<Piece>().for_each(|_| work()).unwrap());
    forgotten(&|work| {
        drawer.records::<Piece>().stream(|pieces| pieces.try_for_each(|piece| piece.map(|_| work()))).unwrap()
    });
    forgotten(&|work| drawer.sql("SELECT mark FROM Piece").for_each(|_: String| work()).unwrap());
}
