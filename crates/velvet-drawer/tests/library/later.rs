//! Work that is done on threads of the drawer's, and work that is stopped.

use crate::common;
use common::{Piece, folder, memory, piece, schema};
use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;
use velvet_drawer::inspect::{self, Exchange, File, Limits, import};
use velvet_drawer::{Cancel, Drawer, Error, Excerpt, Later, Progress};

const FOR_EVER: Duration = Duration::from_secs(30);

#[derive(Excerpt)]
struct Counted {
    i: i64,
}

const ENDLESS: &str = "with recursive n (i) as (select 1 union all select i + 1 from n) select count(*) as i from n";

/// A work that waits until it is let go, and says when it has begun.
fn held(drawer: &Drawer) -> (Later<()>, mpsc::Sender<()>, mpsc::Receiver<()>) {
    let (go_on, wait) = mpsc::channel::<()>();
    let (begin, begun) = mpsc::channel();
    let work = drawer.later(move |_| {
        begin.send(()).unwrap();
        let _ = wait.recv_timeout(FOR_EVER);
        Ok(())
    });
    (work, go_on, begun)
}

#[test]
fn works_of_one_handle_are_done_in_order_and_those_of_others_beside_them() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (first, go_on, begun) = held(&drawer);
    begun.recv_timeout(FOR_EVER).unwrap();
    let writes: Vec<_> = (0..100).map(|n| drawer.later(move |d| d.insert(piece(&format!("K-{n:02}"))))).collect();
    let other = drawer.clone();
    assert_eq!(other.later(|d| d.count::<Piece>()).wait().unwrap(), 0, "the others wait for the first");
    let many: Vec<_> = (0..9).map(|_| drawer.clone()).collect();
    let held_too: Vec<_> = many.iter().map(held).collect();
    let mut begun = 0;
    while begun < 3 {
        begun += held_too.iter().filter(|(_, _, begun)| begun.try_recv().is_ok()).count();
        thread::yield_now();
    }
    thread::sleep(Duration::from_millis(20));
    begun += held_too.iter().filter(|(_, _, begun)| begun.try_recv().is_ok()).count();
    assert_eq!(begun, 3, "four at a time, however much is asked for");
    go_on.send(()).unwrap();
    for (work, go_on, _) in held_too {
        go_on.send(()).unwrap();
        work.wait().unwrap();
    }
    first.wait().unwrap();
    let keys: Vec<_> = writes.into_iter().map(|write| write.wait().unwrap().key().number()).collect();
    assert!(keys.is_sorted() && keys.len() == 100);
    drop((many, other));
    drawer.close().unwrap();
}

#[test]
fn handles_take_turns_and_a_work_does_not_wait_for_itself() {
    let drawer = memory();
    let handles: Vec<_> = (0..4).map(|_| drawer.clone()).collect();
    let all_threads: Vec<_> = handles.iter().map(held).collect();
    all_threads.iter().for_each(|(_, _, begun)| begun.recv_timeout(FOR_EVER).unwrap());
    let order = Arc::new(Mutex::new(String::new()));
    let writes = |handle: &Drawer, letter: char| {
        let order = Arc::clone(&order);
        handle.later(move |_| {
            order.lock().unwrap().push(letter);
            Ok(())
        })
    };
    let (busy, quiet) = (drawer.clone(), drawer.clone());
    let mut works: Vec<_> = (0..3).map(|_| writes(&busy, 'b')).collect();
    works.extend((0..2).map(|_| writes(&quiet, 'q')));
    // One thread is free.
    let mut all_threads = all_threads.into_iter();
    let (work, go_on, _) = all_threads.next().unwrap();
    go_on.send(()).unwrap();
    work.wait().unwrap();
    works.into_iter().for_each(|work| work.wait().unwrap());
    assert_eq!(*order.lock().unwrap(), "bqbqb");
    for (work, go_on, _) in all_threads {
        go_on.send(()).unwrap();
        work.wait().unwrap();
    }
    let (done, rests) = mpsc::channel();
    let rest = drawer.later(move |d| d.going_to_background(FOR_EVER * 9).map(|_| done.send(()).unwrap()));
    rests.recv_timeout(FOR_EVER).expect("it would wait for itself");
    drawer.back_in_foreground().unwrap();
    rest.wait().unwrap();
}

#[test]
fn what_is_dropped_before_it_begins_is_not_done_and_what_has_begun_goes_to_its_end() {
    let drawer = memory();
    let (begun_work, go_on, begun) = held(&drawer);
    begun.recv_timeout(FOR_EVER).unwrap();
    let done = Arc::new(AtomicUsize::new(0));
    let counts = |by: usize| {
        let done = Arc::clone(&done);
        drawer.later(move |_| {
            done.fetch_add(by, SeqCst);
            Ok(())
        })
    };
    let (dropped, kept) = (counts(1), counts(10));
    let held_by_it = Arc::downgrade(&done);
    drop(dropped);
    assert_eq!(held_by_it.strong_count(), 2, "what it held is given back at once");
    drop(begun_work);
    go_on.send(()).unwrap();
    kept.wait().unwrap();
    assert_eq!(done.load(SeqCst), 10);

    let (begin, begun) = mpsc::channel();
    drop({
        let work = drawer.later(move |d| {
            begin.send(()).unwrap();
            thread::sleep(Duration::from_millis(30));
            d.insert(piece("K-1"))
        });
        begun.recv_timeout(FOR_EVER).unwrap();
        work
    });
    assert_eq!(drawer.later(|d| d.count::<Piece>()).wait().unwrap(), 1);
}

#[test]
fn a_panic_is_an_error_there_and_too_much_is_said() {
    let drawer = memory();
    let failed = drawer.later(|_| -> Result<(), Error> { panic!("no more shelves") }).wait().unwrap_err();
    assert!(failed.is_own() && failed.to_string().contains("no more shelves"), "{failed}");
    let failed = drawer.later(|d| d.write(|tx| tx.insert(piece("K-1")).map(|_| panic!("too heavy")))).wait();
    assert!(failed.unwrap_err().is_own());
    // More works than there are threads wait for others, by blocking and in a runtime, some of them for others that do; and for those of another drawer.
    let elsewhere = memory();
    let waiting: Vec<_> = (0..9_u32)
        .map(|n| {
            let elsewhere = elsewhere.clone();
            drawer.clone().later(move |d| {
                let inner = d.later(|d| d.clone().later(|d| d.count::<Piece>()).wait());
                let of_another = elsewhere.later(|d| d.count::<Piece>()).wait()?;
                Ok(of_another + if n % 2 == 0 { inner.wait()? } else { pollster::block_on(inner)? })
            })
        })
        .collect();
    let (done, all) = mpsc::channel();
    thread::spawn(move || done.send(waiting.into_iter().map(Later::wait).collect::<Result<Vec<_>, _>>()));
    assert_eq!(all.recv_timeout(FOR_EVER).expect("nothing stops for good").unwrap(), [0; 9]);
    assert_eq!(drawer.later(|d| d.count::<Piece>()).wait().unwrap(), 0);
    // What would come after the work that waits for it is refused.
    let shared = std::sync::Arc::new(memory());
    let same = std::sync::Arc::clone(&shared);
    let nested = shared.later(move |_| same.later(|d| d.count::<Piece>()).wait()).wait().unwrap_err();
    assert!(nested.is_nested() && nested.to_string().contains("through one handle"), "{nested}");

    let (first, go_on, begun) = held(&drawer);
    begun.recv_timeout(FOR_EVER).unwrap();
    let mut waiting: Vec<_> = (0..1_025).map(|n| drawer.later(move |d| d.insert(piece(&n.to_string())))).collect();
    let refused = waiting.pop().unwrap();
    assert!(refused.is_finished());
    let refused = refused.wait().unwrap_err();
    assert!(refused.is_in_use() && refused.to_string().contains("1024 works wait"), "{refused}");
    waiting.truncate(1_000);
    go_on.send(()).unwrap();
    first.wait().unwrap();
    assert!(waiting.into_iter().all(|work| work.wait().is_ok()));
    // What was dropped waits no longer, so that as many fit as before.
    let (first, go_on, begun) = held(&drawer);
    begun.recv_timeout(FOR_EVER).unwrap();
    let waiting: Vec<_> = (0..1_024).map(|_| drawer.later(|d| d.count::<Piece>())).collect();
    assert!(waiting.iter().all(|work| !work.is_finished()));
    go_on.send(()).unwrap();
    first.wait().unwrap();
    assert!(waiting.into_iter().all(|work| work.wait().is_ok()));
    assert_eq!(drawer.count::<Piece>().unwrap(), 1_000, "the panic was rolled back, and what was dropped not done");
}

#[test]
fn the_drawer_stays_open_until_it_is_done_and_closing_says_for_what() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let (begin, begun) = mpsc::channel();
    let work = drawer.later(move |d| {
        begin.send(()).unwrap();
        thread::sleep(Duration::from_millis(50));
        d.insert(piece("K-1"))
    });
    begun.recv_timeout(FOR_EVER).unwrap();
    let in_use = drawer.close().unwrap_err();
    assert!(in_use.is_in_use() && in_use.to_string().contains("later.rs:"), "{in_use}");
    assert_eq!(work.wait().unwrap().key().number(), 1);
    assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Piece>().unwrap(), 1);
}

#[test]
fn it_is_awaited_on_any_runtime() {
    let drawer = memory();
    let work = |n: u8| {
        let drawer = drawer.clone();
        async move {
            let stored = drawer.later(move |d| d.insert(piece(&n.to_string()))).await?;
            drawer.later(move |d| d.change(stored.key(), |p| p.grams = Some(n.into()))).await
        }
    };
    let tokio = tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap();
    let timed_out = tokio.block_on(async {
        let (first, go_on, _begun) = held(&drawer);
        let waits = tokio::time::timeout(Duration::from_millis(20), drawer.later(|d| d.insert(piece("never")))).await;
        go_on.send(()).unwrap();
        first.await.unwrap();
        waits
    });
    assert!(timed_out.is_err(), "given up while it waited, it is not done");
    assert_eq!(tokio.block_on(work(1)).unwrap().grams, Some(1));
    assert_eq!(smol::block_on(work(2)).unwrap().grams, Some(2));
    assert_eq!(pollster::block_on(work(3)).unwrap().grams, Some(3));
    let all = smol::block_on(async {
        let started: Vec<_> = (10..40).map(|n| smol::spawn(work(n))).collect();
        let mut all = 0;
        for task in started {
            all += u32::from(task.await.is_ok());
        }
        all
    });
    assert_eq!((all, drawer.count::<Piece>().unwrap()), (30, 33));
}

/// Stops `work` a moment after it has begun.
fn stopped<R: Send>(work: impl FnOnce() -> Result<R, Error> + Send) -> Error {
    let cancel = Cancel::default();
    let stop = cancel.clone();
    thread::scope(|scope| {
        let stops = scope.spawn(move || {
            thread::sleep(Duration::from_millis(15));
            stop.cancel();
        });
        let Err(stopped) = cancel.during(work) else { panic!("it went to its end") };
        stops.join().unwrap();
        stopped
    })
}

#[test]
fn what_is_stopped_in_the_middle_of_a_statement_leaves_all_as_it_was() {
    let (_folder, path) = folder();
    let drawer = Drawer::options().relaxed().open(&path, schema()).unwrap();
    let heavy = |n: u32| Piece { remarks: "x".repeat(1_500), ..piece(&format!("K-{n:06}")) };
    drawer.insert_all((0..20_000).map(heavy)).unwrap();
    let before = drawer.records::<Piece>().only(|p| (p.mark, p.grams)).collect().unwrap();
    let copy = path.with_file_name("copy.drawer");
    let slowly = |n: u32| {
        thread::sleep(Duration::from_micros(50));
        heavy(n)
    };
    type Work<'w> = Box<dyn FnOnce() -> Result<(), Error> + Send + 'w>;
    let works: [(&str, Work<'_>); 7] = [
        (
            "a long query",
            Box::new(|| drawer.sql(ENDLESS).first::<Counted>().map(|c| assert!(c.is_none_or(|c| c.i > 0)))),
        ),
        ("a long write", Box::new(|| drawer.insert_all((30_000..u32::MAX).map(heavy)).map(drop))),
        (
            "a statement that writes",
            Box::new(|| {
                drawer.write(|tx| {
                    tx.insert(piece("before it"))?;
                    tx.sql(format!(
                        "insert into piece (mark, stage, remarks) {}",
                        ENDLESS.replace("select count(*) as i", "select i, 'thrown', ''")
                    ))
                    .run()
                    .map(drop)
                })
            }),
        ),
        ("refreshing", Box::new(|| drawer.refresh((0..1_000_000).map(slowly)).remove_absent().run().map(drop))),
        (
            "copying",
            Box::new(|| {
                loop {
                    drawer.copy_to(&copy)?;
                    std::fs::remove_file(&copy).unwrap();
                }
            }),
        ),
        (
            "compacting",
            Box::new(|| {
                loop {
                    drawer.compact()?;
                }
            }),
        ),
        (
            "reading one after the other",
            Box::new(|| {
                loop {
                    drawer.records::<Piece>().for_each(|_| ())?;
                }
            }),
        ),
    ];
    for (what, work) in works {
        let error = stopped(work);
        assert!(error.is_cancelled(), "{what}: {error}");
        assert!(error.to_string().contains("cancelled"), "{what}: {error}");
        let now = drawer.records::<Piece>().only(|p| (p.mark, p.grams)).collect().unwrap();
        assert!(now == before && !copy.exists(), "{what}");
        assert!(drawer.insert(piece("after")).and_then(|p| drawer.remove(p.key())).unwrap(), "{what}");
    }
    let beside: Vec<_> = std::fs::read_dir(path.parent().unwrap()).unwrap().flatten().map(|e| e.file_name()).collect();
    assert!(beside.iter().all(|name| !name.to_string_lossy().contains("unfinished")), "{beside:?}");

    let later = drawer.later(|d| d.sql(ENDLESS).first::<Counted>().map(drop));
    let waits = drawer.later(|d| d.insert(piece("never")));
    waits.cancel();
    later.cancel();
    assert!(later.wait().unwrap_err().is_cancelled());
    assert!(waits.wait().unwrap_err().is_cancelled());
    let done = Mutex::new(Vec::new());
    let cancel = Cancel::default();
    let stored = cancel.during(|| {
        let stored = drawer.insert(piece("done"));
        cancel.cancel();
        done.lock().unwrap().extend(drawer.insert(piece("not done")).err());
        stored
    });
    assert!(stored.is_ok() && done.into_inner().unwrap()[0].is_cancelled());
    assert_eq!(drawer.count::<Piece>().unwrap(), before.len() as u64 + 1);
}

#[test]
fn waiting_for_a_lock_can_be_stopped() {
    let (_folder, path) = folder();
    let patient = || Drawer::options().lock_timeout(Duration::from_secs(600));
    let drawer = patient().open(&path, schema()).unwrap();
    let (go_on, wait) = mpsc::channel::<()>();
    let (began, begun) = mpsc::channel();
    let writer = drawer.clone();
    let held = thread::spawn(move || {
        writer.write(|_| {
            began.send(()).unwrap();
            wait.recv().map_err(Error::own)
        })
    });
    begun.recv().unwrap();
    assert!(stopped(|| drawer.insert(piece("K-1"))).is_cancelled(), "another thread writes");
    go_on.send(()).unwrap();
    held.join().unwrap().unwrap();

    let program = common::other_program(&path);
    program.execute_batch("BEGIN IMMEDIATE").unwrap();
    assert!(stopped(|| drawer.insert(piece("K-1"))).is_cancelled(), "another program writes");
    let first = drawer.later(|d| d.insert(piece("K-2")));
    thread::sleep(Duration::from_millis(15));
    first.cancel();
    assert!(first.wait().unwrap_err().is_cancelled());
    let waits = drawer.later(|d| d.insert(piece("K-3")));
    thread::sleep(Duration::from_millis(60));
    assert!(!waits.is_finished());
    program.execute_batch("COMMIT").unwrap();
    waits.wait().unwrap();
    let brief = Drawer::options().lock_timeout(Duration::from_millis(60));
    drawer.close().unwrap();
    let drawer = brief.open(&path, schema()).unwrap();
    program.execute_batch("BEGIN IMMEDIATE").unwrap();
    let error = drawer.later(|d| d.insert(piece("K-4"))).wait().unwrap_err();
    assert!(error.is_locked(), "its time is over: {error}");
    drop(drawer);

    let older = path.with_file_name("older.drawer");
    Drawer::open(&older, common::versions::schema(1)).unwrap().close().unwrap();
    let program = common::other_program(&older);
    program.execute_batch("BEGIN IMMEDIATE").unwrap();
    assert!(stopped(|| patient().open(&older, common::versions::schema(3))).is_cancelled(), "an upgrade waits");
    let opening = patient().open_in_background(&older, common::versions::schema(3));
    thread::sleep(Duration::from_millis(15));
    assert!(stopped(|| patient().open(&older, common::versions::schema(3))).is_cancelled(), "it joins another");
    program.execute_batch("COMMIT").unwrap();
    let opened = opening.wait().unwrap();
    assert_eq!(opened.opened().upgraded.as_ref().unwrap().from, 1);
}

#[test]
fn an_upgrade_ends_in_the_middle_of_a_statement_and_what_needs_no_drawer_is_done_beside() {
    let (_folder, path) = folder();
    Drawer::open(&path, common::versions::schema(1)).unwrap().close().unwrap();
    let before = std::fs::read(&path).unwrap();
    let endless = |upgrade: &velvet_drawer::Upgrade<'_>| upgrade.rows(ENDLESS, &[], |_| Ok(())).map(drop);
    let schema = common::versions::records(3).history(common::versions::history(3)).code("split_glazes", endless);
    let opening = Drawer::options().open_in_background(&path, schema);
    while !opening.progress().doing.contains("split_glazes") {
        thread::sleep(Duration::from_millis(1));
    }
    opening.cancel();
    let error = opening.wait().unwrap_err();
    assert!(error.is_cancelled() && error.to_string().contains("The file is as it was, at version 1"), "{error}");
    assert!(std::fs::read(&path).unwrap() == before);

    let (to, from) = (path.with_file_name("restored.drawer"), path.clone());
    assert_eq!(pollster::block_on(Later::begin(move || Drawer::restore(to, from))).unwrap(), None);
    let restored = path.with_file_name("restored.drawer");
    assert!(Later::begin(move || Drawer::remove_from_device(restored)).wait().unwrap());
    let error = Later::<()>::begin(|| panic!("the lid fell off")).wait().unwrap_err();
    assert!(error.is_own() && error.to_string().contains("the lid fell off"), "{error}");
}

#[test]
fn what_keeps_the_ui_s_thread_waiting_is_reported_once_for_each_place() {
    let drawer = memory();
    let elsewhere = drawer.clone();
    let reports = thread::spawn(move || {
        let reports = std::rc::Rc::new(std::cell::RefCell::new(Vec::new()));
        let told = std::rc::Rc::clone(&reports);
        let asked = elsewhere.clone();
        velvet_drawer::ui_thread::declare(move |call| {
            assert_eq!(asked.count::<Piece>().unwrap(), 1, "what reports may use the drawer");
            told.borrow_mut().push(call.clone());
        });
        elsewhere.insert(piece("K-1")).unwrap();
        for _ in 0..3 {
            elsewhere.records::<Piece>().filter(|p| p.mark.is("K-1")).collect().unwrap();
        }
        elsewhere.read(|view| view.records::<Piece>().collect().and_then(|_| view.count::<Piece>())).unwrap();
        let finished = elsewhere.later(|d| d.count::<Piece>());
        while !finished.is_finished() {
            thread::yield_now();
        }
        // What is finished keeps nobody waiting.
        finished.wait().unwrap();
        let (go_on, goes_on) = mpsc::channel();
        let later = elsewhere.later(move |d| {
            goes_on.recv().unwrap();
            d.count::<Piece>()
        });
        thread::spawn(move || {
            thread::sleep(Duration::from_millis(50));
            go_on.send(()).unwrap();
        });
        let mut live = elsewhere.records::<Piece>().watch().unwrap();
        live.news();
        live.now();
        later.wait().unwrap();
        reports.take()
    });
    let reports = reports.join().unwrap();
    drawer.records::<Piece>().collect().unwrap();
    let calls: Vec<_> = reports.iter().map(|r| r.call.as_deref().unwrap_or_default()).collect();
    assert_eq!(calls, ["Drawer::insert", "Records::collect", "Drawer::read", "Later::wait"], "{reports:#?}");
    let lines: Vec<u32> =
        reports.iter().map(|r| r.at.as_ref().unwrap().rsplit_once(':').unwrap().1.parse().unwrap()).collect();
    assert!(
        lines.is_sorted() && reports.iter().all(|r| r.at.as_ref().unwrap().contains("tests/library/later.rs")),
        "{reports:#?}"
    );
    assert!(reports[0].to_string().contains("for Drawer::insert, at "), "{}", reports[0]);
}

/// Every call that waits for a file, by its name in a report.
#[test]
#[cfg(all(debug_assertions, target_os = "linux"))]
fn every_call_that_waits_for_a_file_is_reported_where_the_app_made_it() {
    use velvet_drawer::inspect::File;
    let (folder, path) = folder();
    let schema = || schema().attachments();
    let reports = std::rc::Rc::new(std::cell::RefCell::new(Vec::new()));
    let told = std::rc::Rc::clone(&reports);
    velvet_drawer::ui_thread::declare(move |call| told.borrow_mut().push(call.clone()));
    let reported = |name: &str| {
        let all = reports.take();
        // Of a call that the compiler put into another, the file is known in place of the type.
        let found: Vec<&str> = all.iter().filter_map(|r| r.call.as_deref()?.rsplit("::").next()).collect();
        assert_eq!(found, [name.rsplit("::").next().unwrap()]);
        assert!(all[0].at.as_ref().is_some_and(|at| at.contains("tests/library/later.rs:")), "{:?}", all[0]);
    };
    macro_rules! reports {
        ($($call:expr => $name:literal),* $(,)?) => {
            $({ let _kept = $call; reported($name); })*
        };
    }
    let copy = folder.path().join("copy.drawer");
    let drawer = Drawer::open(&path, schema()).unwrap();
    reported("Drawer::open");
    drop(drawer);
    reported("Drawer::drop");
    let drawer = Drawer::open(&path, schema()).unwrap();
    reported("Drawer::open");
    let piece = || piece("K-1");
    reports! {
        drawer.insert(piece()).unwrap() => "Drawer::insert",
        drawer.refresh([piece()]).run().unwrap() => "Refresh::run",
        drawer.records::<Piece>().explain().unwrap() => "Records::explain",
        drawer.records::<Piece>().suggest(|p| p.mark, "K", 3).unwrap() => "Records::suggest",
        drawer.records::<Piece>().update(|p| p.remarks.set("x")).unwrap() => "Records::update",
        drawer.copy_to(&copy).unwrap() => "Drawer::copy_to",
        drawer.going_to_background(Duration::from_secs(9)).unwrap() => "Drawer::going_to_background",
        drawer.back_in_foreground().unwrap() => "Drawer::back_in_foreground",
        drawer.memory_is_low() => "Drawer::memory_is_low",
        drawer.attachments().add(&b"photo"[..]).run().unwrap() => "Adding::run",
        drawer.attachments().add(&b"other"[..]).prepare().unwrap() => "Adding::prepare",
        drawer.attachments().bytes(velvet_drawer::Key::from_number(1)).unwrap() => "Attachments::bytes",
        drawer.attachments().export_to(velvet_drawer::Key::from_number(1), folder.path().join("photo")).unwrap() => "Attachments::export_to",
        File::open(&path).unwrap() => "File::open",
        Drawer::kept_copies(&path).unwrap() => "Drawer::kept_copies",
    }
    drawer.close().unwrap();
    reported("Drawer::close");
    reports! {
        Drawer::restore(&path, &copy).unwrap() => "Drawer::restore",
        Drawer::remove_from_device(&path).unwrap() => "Drawer::remove_from_device",
    }
}

/// What is told of a work, one line for each thing that is done, with how far that came.
fn told(work: impl FnOnce()) -> Vec<String> {
    let all = std::rc::Rc::new(std::cell::RefCell::new(Vec::<Progress>::new()));
    let told = std::rc::Rc::clone(&all);
    Progress::told(move |now| told.borrow_mut().push(now.clone()), work);
    let mut lines: Vec<String> = Vec::new();
    for Progress { doing, done, of, parts_done, parts, .. } in all.take() {
        assert!(of.is_none_or(|of| done <= of) && parts_done <= parts, "{doing}: {done} of {of:?}");
        lines.retain(|line| !line.starts_with(&doing));
        lines.push(format!("{doing} {done}/{}", of.map_or("?".into(), |of| of.to_string())));
    }
    lines
}

#[test]
fn long_work_tells_how_far_it_has_come() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let pieces = || (0..2_500).map(|n| Piece { remarks: "x".repeat(900), ..piece(&format!("K-{n}")) });
    assert_eq!(told(|| drop(drawer.insert_all(pieces()).unwrap())), ["inserting records of piece 2500/2500"]);
    let refreshed = told(|| assert_eq!(drawer.refresh(pieces()).run().unwrap().unchanged, 2_500));
    assert_eq!(refreshed[1..], ["comparing records of piece 0/2500", "writing what differs of piece 2500/2500"]);
    assert!(refreshed[0].starts_with("taking in records of piece "), "{refreshed:?}");
    let read = [
        told(|| assert_eq!(drawer.records::<Piece>().collect().unwrap().len(), 2_500)),
        told(|| drawer.records::<Piece>().for_each(|_| ()).unwrap()),
    ];
    assert!(read.iter().all(|lines| lines.len() == 1 && lines[0].starts_with("reading records of piece ")), "{read:?}");
    let copy = path.with_file_name("copy.drawer");
    let copied = told(|| drawer.copy_to(&copy).unwrap());
    let pages = copied[0].strip_prefix("copying pages ").unwrap().split_once('/').unwrap();
    assert!(pages.0 == pages.1 && pages.0.parse::<u64>().unwrap() > 500, "{copied:?}");
    assert_eq!(told(|| drop(drawer.compact().unwrap())), ["compacting 0/?"]);
    let file = File::open(&path).unwrap();
    let other = File::open(&copy).unwrap();
    let saved = path.with_file_name("saved.drawer");
    for (doing, lines) in [
        ("checking", told(|| drop(file.check().unwrap()))),
        ("comparing", told(|| drop(other.compare(&file, &mut |_| Ok(())).unwrap()))),
        ("searching", told(|| file.search("K", &[], &mut |_| Ok(true)).unwrap())),
        ("saving", told(|| drop(inspect::salvage(&copy, &saved, &Limits::default()).unwrap()))),
    ] {
        let (done, of) = lines[0].strip_prefix(doing).unwrap().strip_prefix(" rows ").unwrap().split_once('/').unwrap();
        assert!(done == of && done.parse::<u64>().unwrap() >= 2_500, "{lines:?}");
    }
    let mut out = Vec::new();
    let exported =
        told(|| assert_eq!(file.export(&file.table("piece").unwrap(), Exchange::JsonLines, &mut out).unwrap(), 2_500));
    assert!(exported[0].starts_with("exporting rows "));
    drawer.remove_all::<Piece>().unwrap();
    let import = || import(&path, Some("piece"), Exchange::JsonLines, &mut out.as_slice(), &Limits::default());
    assert_eq!(told(|| assert_eq!(import().unwrap(), 2_500)), ["importing rows 2500/2500"]);
    let later = drawer.later(move |d| {
        let (go_on, wait) = mpsc::channel::<()>();
        drop(go_on);
        let all = (0..600).map(|n| {
            if n == 501 {
                let _ = wait.recv_timeout(Duration::from_millis(100));
            }
            piece(&format!("L-{n}"))
        });
        d.insert_all(all).map(|all| all.len())
    });
    while later.progress().doing.is_empty() {
        thread::sleep(Duration::from_millis(1));
    }
    assert_eq!((later.progress().doing.as_str(), later.progress().of), ("inserting records of piece", Some(600)));
    assert_eq!(later.wait().unwrap(), 600);

    let (_folder, path) = folder();
    Drawer::open(&path, common::versions::schema(1)).unwrap().close().unwrap();
    let upgraded = told(|| drop(Drawer::open(&path, common::versions::schema(3)).unwrap()));
    assert!(upgraded.iter().any(|line| line.starts_with("upgrading to version 2 of 3: ")), "{upgraded:?}");
}
