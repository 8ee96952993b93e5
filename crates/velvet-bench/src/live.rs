//! What following costs: whoever writes, and from a commit to what a screen is given.

use crate::Result;
use crate::records::{self, Piece, ROWS};
use crate::table::{Ratios, in_turn, timed};
use std::path::Path;
use std::time::{Duration, Instant};
use velvet_drawer::{Drawer, Key, List, Live, Record, Schema, Stored};

#[derive(Record)]
struct Glaze {
    name: String,
}

/// How long until nothing is told in pauses any more.
const REST: Duration = Duration::from_millis(250);

/// How long one change takes from the return of the commit to the update.
struct Followed {
    drawer: Drawer,
    live: Live<List<Stored<Piece>>>,
    records: u32,
    next: u32,
}

impl Followed {
    fn new(path: &Path, records: u32) -> Result<Followed> {
        let drawer = Drawer::open(path, schema())?;
        drawer.insert_all((0..records * 2).map(records::piece))?;
        let mut live = selected(&drawer, records).watch()?;
        let first = live.next().ok_or("it is open")??;
        assert_eq!(first.result.len(), records as usize);
        Ok(Followed { drawer, live, records, next: 0 })
    }

    fn one_change(&mut self) -> Result<Duration> {
        while self.live.news_within(REST / 5).is_some() {}
        self.next += 1;
        let key = Key::<Piece>::from_number(1 + i64::from(self.next * 977 % self.records));
        let grams = 1 + self.next * 31 % 1_999;
        self.drawer.change(key, |p| p.grams = Some(grams))?;
        let begun = Instant::now();
        let update = self.live.next().ok_or("it is open")??;
        let took = begun.elapsed();
        assert_eq!((update.result.len(), update.steps().is_empty()), (self.records as usize, false));
        Ok(took)
    }
}

fn schema() -> Schema {
    Schema::new("bench").record::<Piece>().record::<Glaze>()
}

/// Half of the records, sorted by weight.
pub(crate) fn selected(drawer: &Drawer, records: u32) -> velvet_drawer::Records<Piece> {
    drawer
        .records::<Piece>()
        .filter(|p| p.key().at_most(Key::from_number(records.into())))
        .sort_by(|p| p.grams.descending())
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let path = |name: &str| folder.path().join(name);
    idle_watchers(table, &path("idle.drawer"), &path("alone.drawer"))?;

    let mut long = Followed::new(&path("long.drawer"), ROWS)?;
    let mut short = Followed::new(&path("short.drawer"), 1_000)?;
    let (in_long, in_short) = in_turn(61, || long.one_change(), || short.one_change())?;
    table.line("one change in a followed list of 100,000, against one of 1,000", in_long, in_short, 3.0);
    let (_, anew) = in_turn(7, || Ok(Duration::ZERO), || timed(|| selected(&long.drawer, ROWS).collect()))
        .map_err(|error: velvet_drawer::Error| error)?;
    table.line("one change in a followed list of 100,000, against reading it anew", in_long, anew, 0.02);
    table.at_most("one change in a followed list of 100,000, until it is told (µs)", in_long.as_micros() as u64, 2_000);
    drop(long);
    first_change(table, &path("long.drawer"))?;
    burst(table, &mut short)?;
    later(table, &short.drawer)
}

/// One change right after a long list was read for the first time, as when an app begins, until it is told; against that reading.
fn first_change(table: &mut Ratios, path: &Path) -> Result<()> {
    let (mut told, mut read) = (Vec::new(), Vec::new());
    for n in 1..=5 {
        let drawer = Drawer::open(path, schema())?;
        let begun = Instant::now();
        let mut live = selected(&drawer, ROWS).watch()?;
        live.next().ok_or("it is open")??;
        read.push(begun.elapsed());
        drawer.change(Key::<Piece>::from_number(n * 77), |p| p.grams = Some(5_000 + n as u32)).map(drop)?;
        let begun = Instant::now();
        live.next().ok_or("it is open")??;
        told.push(begun.elapsed());
    }
    table.line("the first change in a list of 100,000, against reading it", middle(&mut told), middle(&mut read), 0.5);
    Ok(())
}

/// What asking for a record later costs, against reading it at once.
fn later(table: &mut Ratios, drawer: &Drawer) -> Result<()> {
    let key = Key::<Piece>::from_number(7);
    let ours = || timed(|| drawer.later(move |d| d.get(key)).wait());
    let (ours, direct) = in_turn(3_001, ours, || timed(|| drawer.get(key)))?;
    table.at_most("later, against at once (µs more)", ours.saturating_sub(direct).as_micros() as u64, 25);
    Ok(())
}

/// What a commit costs with a hundred watchers of another table, against without.
fn idle_watchers(table: &mut Ratios, watched: &Path, alone: &Path) -> Result<()> {
    let (watched, alone) = (Drawer::open(watched, schema())?, Drawer::open(alone, schema())?);
    let mut idle = Vec::new();
    for n in 1..=100 {
        let mut live = watched.records::<Glaze>().limit(n).watch()?;
        live.next().ok_or("it is open")??;
        idle.push(live);
    }
    let next = std::cell::Cell::new(0);
    let insert = |drawer: &Drawer| {
        next.set(next.get() + 1);
        timed(|| drawer.insert(records::piece(next.get())).map(drop))
    };
    let (with, without) = in_turn(2_001, || insert(&watched), || insert(&alone))?;
    table.line("one insert, with 100 idle watchers of another table", with, without, 1.02);
    let many = |drawer: &Drawer| {
        let from = next.replace(next.get() + 5_000);
        timed(|| drawer.insert_all((from..from + 5_000).map(|n| records::piece(n + 1))).map(drop))
    };
    next.set(1_000_000);
    let (with, without) = in_turn(41, || many(&watched), || many(&alone))?;
    table.line("insert 5,000, with 100 idle watchers of another table", with, without, 1.02);
    Ok(())
}

/// A thousand writes one after the other, with a screen that follows and without.
fn burst(table: &mut Ratios, followed: &mut Followed) -> Result<()> {
    let write = |drawer: &Drawer, round: u32| {
        timed(|| {
            (0..1_000_u32).try_for_each(|n| {
                let key = Key::<Piece>::from_number(1 + i64::from(n));
                drawer.change(key, |p| p.grams = Some(n + round)).map(drop)
            })
        })
    };
    let (mut updates, mut round) = (0, 0);
    let (mut with, mut without) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        for is_followed in [true, false] {
            round += 1;
            let switch = followed.live.switch();
            if !is_followed {
                switch.pause();
            }
            let (drawer, live) = (&followed.drawer, &mut followed.live);
            while live.news_within(REST).is_some() {}
            let took = std::thread::scope(|scope| {
                let takes = scope.spawn(|| {
                    let mut updates = 0;
                    while live.news_within(REST).is_some() {
                        updates += 1;
                    }
                    updates
                });
                let took = write(drawer, round);
                updates = updates.max(takes.join().unwrap_or_default());
                took
            })?;
            if is_followed {
                with.push(took)
            } else {
                without.push(took)
            }
            followed.live.go_on();
        }
    }
    table.line("1,000 writes in a burst, with a list that follows", middle(&mut with), middle(&mut without), 1.10);
    table.at_most("1,000 writes in a burst, the updates told of them", updates, 20);
    Ok(())
}

fn middle(all: &mut [Duration]) -> Duration {
    all.sort();
    all[all.len() / 2]
}
