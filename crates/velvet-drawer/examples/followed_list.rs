//! A list in the terminal that follows what is stored, while threads and another process write.
//!
//! `cargo run --example followed_list`

use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::process::Command;
use std::thread;
use std::time::Duration;
use velvet_drawer::{Drawer, Error, List, Record, Schema, Step, Stored};

#[derive(Record)]
struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    grams: u32,
    by: String,
}

/// How many pieces each writer throws.
const THROWN: u32 = 12;

/// How many rows the list has.
const ROWS: u64 = 8;

fn open(path: &Path) -> Result<Drawer, Error> {
    let options = Drawer::options().others_noticed_within(Duration::from_millis(100));
    options.open(path, Schema::new("kilnbook").record::<Piece>())
}

/// Throws pieces one after the other, each a little heavier or lighter than it looked at first.
fn throw(drawer: &Drawer, by: &str) -> Result<(), Error> {
    for n in 0..THROWN {
        let seed = n * 97 + by.len() as u32 * 151;
        let piece = Piece { mark: format!("{}-{n:02}", &by[..1]), grams: 300 + seed % 700, by: by.into() };
        let piece = drawer.insert(piece)?;
        thread::sleep(Duration::from_millis(60 + u64::from(seed % 50)));
        drawer.change(piece.key(), |p| p.grams = p.grams + seed % 120 - 60)?;
    }
    Ok(())
}

/// Draws the list in the place of the one before.
fn draw(list: &List<Stored<Piece>>, steps: &[Step], is_first: bool) -> io::Result<()> {
    let mut out = io::stdout().lock();
    if !is_first && out.is_terminal() {
        write!(out, "\x1b[{}A", ROWS + 2)?;
    }
    let clear = if out.is_terminal() { "\x1b[K" } else { "" };
    writeln!(out, "The heaviest pieces{clear}")?;
    for at in 0..ROWS as usize {
        match list.get(at) {
            Some(piece) => {
                let is_new = |step: &Step| matches!(step, Step::Added { number, .. } | Step::Moved { number, .. } if *number == piece.key().number());
                let sign = if steps.iter().any(is_new) { "›" } else { " " };
                writeln!(out, "{sign} {:<5} {:>5} g  {:<14}{clear}", piece.mark, piece.grams, piece.by)?;
            }
            None => writeln!(out, "{clear}")?,
        }
    }
    let of = |wanted: fn(&Step) -> bool| steps.iter().filter(|step| wanted(step)).count();
    let (added, removed) = (of(|s| matches!(s, Step::Added { .. })), of(|s| matches!(s, Step::Removed { .. })));
    let (moved, changed) = (of(|s| matches!(s, Step::Moved { .. })), of(|s| matches!(s, Step::Changed { .. })));
    writeln!(out, "{added} came in, {removed} went out, {moved} moved, {changed} changed{clear}")
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    if let Some(path) = std::env::args_os().nth(1) {
        return Ok(throw(&open(Path::new(&path))?, "Uma, in another process")?);
    }
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("kiln.drawer");
    let drawer = open(&path)?;
    let mut heaviest = drawer.records::<Piece>().sort_by(|p| p.grams.descending()).limit(ROWS).watch()?;

    let mut other = Command::new(std::env::current_exe()?).arg(&path).spawn()?;
    let writers = ["Ada", "Ida"].map(|by| {
        let drawer = drawer.clone();
        thread::spawn(move || throw(&drawer, by))
    });
    let (mut updates, mut is_first) = (0, true);
    // Until nothing has come for a while.
    while let Some(update) = heaviest.news_within(Duration::from_millis(700)) {
        match update {
            Ok(update) => draw(&update.result, &update.steps(), std::mem::take(&mut is_first))?,
            Err(failed) => println!("The list cannot be read just now: {failed}"),
        }
        updates += 1;
    }
    other.wait()?;
    for writer in writers {
        writer.join().map_err(|_| "a writer panicked")??;
    }
    println!("{updates} updates of {} writes.", drawer.count::<Piece>()? * 2);
    Ok(())
}
