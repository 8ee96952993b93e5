//! Processes and threads that write at the same time: no update is lost, and what belongs together is seen together.

use crate::kills::start;
use crate::trial::{Rounds, Trial};
use rusqlite::Connection;
use std::io::Read;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};
use velvet_drawer::{Drawer, Error, Record, Schema};

const PROCESSES: u64 = 4;
const THREADS: u64 = 8;
const ACCOUNTS: u64 = 10;
const IN_ALL: i64 = 10_000;

/// Grams of clay in a bucket, and how often somebody took some.
#[derive(Record, Clone, Debug)]
struct Bucket {
    #[record(own_key)]
    number: u64,
    grams: i64,
    times: u64,
}

fn schema() -> Schema {
    Schema::new("crowd").record::<Bucket>()
}

pub(crate) fn run(trial: &mut Trial) {
    let seconds = match trial.rounds() {
        Rounds::Count(count) => count.clamp(2, 30),
        Rounds::Time(time) => time.as_secs(),
    };
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let path = folder.path().join("fire.drawer");
    let drawer = Drawer::open(&path, schema()).expect("a new drawer");
    let buckets = (0..ACCOUNTS).map(|number| Bucket { number, grams: IN_ALL / ACCOUNTS as i64, times: 0 });
    drawer.insert_all(buckets).expect("buckets");
    drawer.close().expect("closed");
    let Some(mut chance) = trial.next() else { return };
    let processes: Vec<_> = (0..PROCESSES).map(|_| start("count", folder.path(), chance.u64(..), seconds)).collect();
    let (mut moves, mut reads) = (0, 0);
    for mut process in processes {
        let mut said = String::new();
        let _ = process.stdout.take().map(|mut out| out.read_to_string(&mut said));
        let ended = process.wait();
        let numbers: Vec<u64> = said.split_whitespace().filter_map(|word| word.parse().ok()).collect();
        match (ended, &numbers[..]) {
            (Ok(status), [moved, read]) if status.success() => (moves, reads) = (moves + moved, reads + read),
            other => trial.found(format!("a process ended with {other:?}: {said}")),
        }
    }
    let file = Connection::open(&path).expect("the file");
    let sums = file.query_row("SELECT sum(grams), sum(times) FROM bucket", [], |row| {
        Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?))
    });
    match sums {
        // Each move counts in two buckets.
        Ok((IN_ALL, times)) if times == 2 * moves as i64 => {}
        other => trial.found(format!("{other:?} after {moves} moves")),
    }
    trial.count("moves", moves);
    trial.count("consistent reads", reads);
    trial.count("processes", PROCESSES);
    trial.count("threads in each", THREADS);
}

/// One of the processes: moves clay between buckets for so many seconds, and says how often.
pub(crate) fn work(path: &Path, seed: u64, seconds: u64) -> Result<(), Error> {
    let drawer = Drawer::options().lock_timeout(Duration::from_secs(120)).open(path, schema())?;
    let until = Instant::now() + Duration::from_secs(seconds);
    let (moves, reads) = (AtomicU64::new(0), AtomicU64::new(0));
    let worked: Result<Vec<()>, Error> = thread::scope(|scope| {
        let workers: Vec<_> = (0..THREADS)
            .map(|thread| {
                let (drawer, moves, reads) = (&drawer, &moves, &reads);
                scope.spawn(move || {
                    let mut chance = fastrand::Rng::with_seed(seed ^ thread);
                    while Instant::now() < until {
                        if thread % 2 == 0 {
                            moved(drawer, &mut chance)?;
                            moves.fetch_add(1, Ordering::Relaxed);
                        } else {
                            let sum = drawer.records::<Bucket>().sum(|b| b.grams)?;
                            let apart = drawer.read(|view| {
                                Ok(view.records::<Bucket>().collect()?.iter().map(|b| b.grams).sum::<i64>())
                            })?;
                            assert_eq!((sum, apart), (IN_ALL, IN_ALL), "half a move was seen");
                            reads.fetch_add(2, Ordering::Relaxed);
                        }
                    }
                    Ok(())
                })
            })
            .collect();
        workers.into_iter().map(|worker| worker.join().expect("no worker panics")).collect()
    });
    worked?;
    drawer.close()?;
    println!("{} {}", moves.into_inner(), reads.into_inner());
    Ok(())
}

fn moved(drawer: &Drawer, chance: &mut fastrand::Rng) -> Result<(), Error> {
    let (from, grams) = (chance.u64(..ACCOUNTS), chance.i64(1..50));
    let to = (from + chance.u64(1..ACCOUNTS)) % ACCOUNTS;
    drawer.write(|tx| {
        for (number, more) in [(from, -grams), (to, grams)] {
            let bucket = tx.get_by_own_key::<Bucket>(number)?.ok_or_else(|| Error::own("a bucket is gone"))?;
            tx.change(bucket.key(), |b| (b.grams, b.times) = (b.grams + more, b.times + 1))?;
        }
        Ok(())
    })
}
