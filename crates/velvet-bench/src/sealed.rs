//! What a sealed column costs: ours with it, against ours with the same column in the clear.

use crate::Result;
use crate::table::{Ratios, in_turn, timed};
use std::hint::black_box;
use std::time::Duration;
use velvet_drawer::{Drawer, Key, KeysInMemory, Record, Schema, Stored};

/// How many records are written and listed.
const ROWS: u32 = 50_000;

macro_rules! side {
    ($module:ident, $(#[$sealed:meta])?) => {
        mod $module {
            #[derive(velvet_drawer::Record)]
            pub(super) struct Client {
                pub(super) name: String,
                $(#[$sealed])?
                pub(super) phone: String,
            }

            impl super::Side for Client {
                fn client(n: u32) -> Client {
                    Client { name: format!("Client {n}"), phone: format!("555 01{n}") }
                }

                fn letters(&self) -> usize {
                    self.name.len() + self.phone.len()
                }
            }
        }
    };
}
side!(plain,);
side!(sealed, #[record(sealed)]);

trait Side: Record {
    fn client(n: u32) -> Self;
    fn letters(&self) -> usize;
}

fn drawer<T: Side>(path: &std::path::Path) -> Result<Drawer> {
    Ok(Drawer::options().keys(KeysInMemory::default()).open(path, Schema::new("bench").record::<T>())?)
}

fn insert<T: Side>(drawer: &Drawer) -> Result<Duration> {
    drawer.remove_all::<T>()?;
    Ok(timed(|| drawer.insert_all((0..ROWS).map(T::client)).map(black_box))?)
}

fn list<T: Side>(drawer: &Drawer) -> Result<Duration> {
    let letters = |all: Vec<Stored<T>>| black_box(all.iter().map(|c| c.letters()).sum::<usize>());
    Ok(timed(|| drawer.records::<T>().collect().map(letters))?)
}

fn get<T: Side>(drawer: &Drawer) -> Result<Duration> {
    let first = drawer.records::<T>().first()?.map_or(1, |client| client.key().number());
    let key = |n: u32| Key::<T>::from_number(first + i64::from(n * 7 % ROWS));
    Ok(timed(|| (0..2_000).try_for_each(|n| drawer.get(key(n)).map(|found| drop(black_box(found)))))? / 2_000)
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let (ours, clear) = (
        drawer::<sealed::Client>(&folder.path().join("sealed"))?,
        drawer::<plain::Client>(&folder.path().join("plain"))?,
    );
    let (sealed, plain) = in_turn(5, || insert::<sealed::Client>(&ours), || insert::<plain::Client>(&clear))?;
    table.usual("insert 50,000 with a sealed column, against the same in the clear", sealed, plain);
    let (sealed, plain) = in_turn(9, || list::<sealed::Client>(&ours), || list::<plain::Client>(&clear))?;
    table.usual("list 50,000 with a sealed column", sealed, plain);
    let (sealed, plain) = in_turn(9, || get::<sealed::Client>(&ours), || get::<plain::Client>(&clear))?;
    table.usual("get one with a sealed column", sealed, plain);
    Ok(())
}
