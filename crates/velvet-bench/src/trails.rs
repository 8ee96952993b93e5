//! What sessions and trails cost: ours with them, against ours without.

use crate::Result;
use crate::records::{self, Piece};
use crate::table::{Ratios, in_turn, timed};
use std::path::Path;
use std::time::Duration;
use velvet_drawer::{Drawer, Key, Trail};

/// How many records are written in each round.
const WRITES: u32 = 20_000;

/// A drawer with its keys at hand.
struct Side {
    drawer: Drawer,
    next: u32,
}

impl Side {
    fn new(path: &Path, trail: Trail) -> Result<Side> {
        let drawer = Drawer::options().trail(trail).open(path, records::schema())?;
        drawer.insert_all((0..WRITES).map(records::piece))?;
        Ok(Side { drawer, next: WRITES })
    }

    fn insert_many(&mut self) -> Result<Duration> {
        let from = self.next;
        self.next += WRITES;
        timed(|| self.drawer.insert_all((from..from + WRITES).map(records::piece)).map(drop)).map_err(Into::into)
    }

    fn change_many(&mut self) -> Result<Duration> {
        timed(|| {
            self.drawer.write(|tx| {
                for key in 1..=i64::from(WRITES) {
                    tx.change(Key::<Piece>::from_number(key), |p| p.grams = Some(p.grams.map_or(1, |g| g + 1)))?;
                }
                Ok(())
            })?;
            Ok(())
        })
    }

    fn remove_many(&mut self) -> Result<Duration> {
        let from = self.next;
        self.next += WRITES;
        let stored = self.drawer.insert_all((from..from + WRITES).map(records::piece))?;
        timed(|| {
            self.drawer.write(|tx| stored.iter().try_for_each(|p| tx.remove(p.key()).map(drop)))?;
            Ok(())
        })
    }

    fn insert_one(&mut self) -> Result<Duration> {
        self.next += 1;
        timed(|| self.drawer.insert(records::piece(self.next)).map(drop)).map_err(Into::into)
    }

    fn change_one(&mut self) -> Result<Duration> {
        let heavier = |p: &mut Piece| p.grams = Some(p.grams.map_or(1, |g| g + 1));
        timed(|| self.drawer.change(Key::<Piece>::from_number(7), heavier).map(drop)).map_err(Into::into)
    }
}

/// One kind of write.
type Write = fn(&mut Side) -> Result<Duration>;

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let path = |name: &str| folder.path().join(name);
    let opened = path("opened.drawer");
    Drawer::open(&opened, records::schema())?.close()?;
    let with = || timed(|| Drawer::open(&opened, records::schema())).map_err(Into::into);
    let without =
        || timed(|| Drawer::options().without_sessions().open(&opened, records::schema())).map_err(Into::into);
    let (with, without) = in_turn::<Box<dyn std::error::Error>>(400, with, without)?;
    table.line("open with sessions, against without", with, without, 1.50);

    let writes: [(&str, usize, Write); 5] = [
        ("insert 20,000", 9, Side::insert_many),
        ("change 20,000 in one transaction", 9, Side::change_many),
        ("remove 20,000 in one transaction", 9, Side::remove_many),
        ("one insert in its own transaction", 301, Side::insert_one),
        ("one change in its own transaction", 301, Side::change_one),
    ];
    for (trail, name, goal) in [(Trail::Keys, "keys", 1.5), (Trail::Before, "what stood before", 2.0)] {
        let mut on = Side::new(&path(&format!("{name}.drawer")), trail)?;
        let mut off = Side::new(&path(&format!("{name}-off.drawer")), Trail::Off)?;
        for (what, rounds, write) in writes {
            let (on, off) = in_turn(rounds, || write(&mut on), || write(&mut off))?;
            table.line(&format!("trail of {name}, against off: {what}"), on, off, goal);
        }
    }
    Ok(())
}
