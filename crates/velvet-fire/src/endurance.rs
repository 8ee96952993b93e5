//! Many small transactions and many opens, in flat memory, with no handle and no thread more.

use crate::model;
use crate::trial::Trial;
use std::fs;
use velvet_drawer::Drawer;

/// How many transactions and how many opens a round has.
const IN_A_ROUND: (u64, u64) = (100, 10);

/// How much more memory there may be at the end than after a tenth of it, in kilobytes: what an allocator keeps.
const MORE_MEMORY: u64 = 8_000;

#[derive(Clone, Copy, Debug)]
struct Use {
    memory: u64,
    handles: usize,
    threads: u64,
}

fn used() -> Use {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let number = |name: &str| {
        let line = status.lines().find_map(|line| line.strip_prefix(name)).unwrap_or("0");
        line.split_whitespace().next().and_then(|n| n.parse().ok()).unwrap_or_default()
    };
    let handles = fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
    Use { memory: number("VmRSS:"), handles, threads: number("Threads:") }
}

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let [long, short] = ["long.drawer", "short.drawer"].map(|name| folder.path().join(name));
    let open = |path| Drawer::options().relaxed().open(path, model::schema());
    let drawer = open(&long).expect("a drawer");
    let (mut list, mut done, mut seed) = (model::Model::default(), 0, 1);
    let mut first = None;
    let mut rounds = 0;
    while trial.next().is_some() {
        for _ in 0..IN_A_ROUND.0 {
            // A file of always about the same size.
            if done == 200 {
                let all = drawer.write(|tx| {
                    tx.remove_all::<model::Piece>()?;
                    tx.remove_all::<model::Glaze>()
                });
                if let Err(error) = all {
                    trial.found(error.to_string());
                }
                (list, done, seed) = (model::Model::default(), 0, seed + 1);
            }
            let change = list.change(seed, done);
            if let Err(error) = change.write(&drawer) {
                trial.found(error.to_string());
            }
            list.apply(&change);
            done += 1;
        }
        for _ in 0..IN_A_ROUND.1 {
            if let Err(error) = open(&short).and_then(Drawer::close) {
                trial.found(error.to_string());
            }
        }
        trial.count("transactions", IN_A_ROUND.0);
        trial.count("opens", IN_A_ROUND.1);
        rounds += 1;
        // What is kept for ever is there by now: statements, changes, sessions.
        if rounds == 200 {
            first = Some(used());
        }
    }
    let last = used();
    let found = model::Model::read(&long);
    if found.as_ref().is_ok_and(|found| *found != list) {
        trial.found("the file does not hold what was written");
    }
    trial.count("KB of memory at the end", last.memory);
    if let Some(first) = first {
        trial.count("KB of memory after 200 rounds", first.memory);
        let grows = last.memory > first.memory + MORE_MEMORY;
        if grows || last.handles > first.handles || last.threads > first.threads {
            trial.found(format!("{first:?} became {last:?}"));
        }
    }
}
