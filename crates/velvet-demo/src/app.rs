//! The app itself: what each of its starts does. The phone starts it as a process of its own.

use crate::kilnbook::{Article, Firing, Piece, Stage, schema};
use crate::samples;
use std::error::Error;
use std::io::{self, Write};
use velvet_drawer::Drawer;
use velvet_phone::app::{Signal, folders, next_signal};

/// The name of the app's file.
pub(crate) const FILE: &str = "kiln.drawer";

/// Runs the app, until the phone ends it: the start with this name.
///
/// # Errors
/// When no phone started it, there is no such start, or the drawer cannot be used.
pub fn run(start: &str) -> Result<(), Box<dyn Error>> {
    let folders = folders().ok_or("the demo app runs on the pretend phone; start the tour instead")?;
    let drawer = Drawer::open(folders.durable.join(FILE), schema())?;
    match start {
        "first" => first(&drawer)?,
        "second" => second(&drawer)?,
        "third" => third(&drawer)?,
        "fourth" => fourth(&drawer)?,
        other => return Err(format!("the app has no start called {other:?}").into()),
    }
    while next_signal() != Signal::Quit {}
    drawer.close()?;
    say("closed")?;
    Ok(())
}

/// Fills the log of a new studio.
fn first(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let firings = drawer.insert_all(samples::firings())?;
    let pieces = drawer.insert_all(samples::pieces(&firings))?;
    let articles = drawer.insert_all(samples::articles())?;
    say(&format!("stored {} firings, {} pieces and {} articles", firings.len(), pieces.len(), articles.len()))?;
    Ok(())
}

/// Finds what the first start stored, and goes on with it.
fn second(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let (pieces, firings, articles) =
        drawer.read(|view| Ok((view.count::<Piece>()?, view.count::<Firing>()?, view.count::<Article>()?)))?;
    say(&format!("found {firings} firings, {pieces} pieces and {articles} articles"))?;
    let light = drawer
        .records::<Piece>()
        .filter(|p| p.stage.is(Stage::Thrown) & p.wt.less_than(0.6))
        .sort_by(|p| p.wt.ascending())
        .collect()?;
    for piece in &light {
        drawer.change(piece.key(), |p| p.stage = Stage::Bisque)?;
    }
    let marks: Vec<&str> = light.iter().map(|p| p.mark.as_str()).collect();
    say(&format!("moved {} to bisque", marks.join(", ")))?;
    Ok(())
}

/// Stores one piece for good, and is in the middle of storing more when it is killed.
fn third(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let piece = drawer.insert(samples::piece(samples::PIECES, &[]))?;
    say(&format!("stored {}: the drawer has acknowledged it", piece.mark))?;
    drawer.write(|tx| {
        for n in 1..=5 {
            tx.insert(samples::piece(samples::PIECES + n, &[]))?;
        }
        let unfinished = tx.count::<Piece>()?;
        say(&format!("in the middle of a transaction: {unfinished} pieces if it ended well"))
            .map_err(velvet_drawer::Error::own)?;
        while next_signal() != Signal::Quit {}
        Ok(())
    })?;
    Ok(())
}

/// Looks at what is left.
fn fourth(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let newest = drawer.records::<Piece>().sort_by(|p| p.key().descending()).limit(3).collect()?;
    let marks: Vec<&str> = newest.iter().rev().map(|p| p.mark.as_str()).collect();
    say(&format!("found {} pieces, the newest being {}", drawer.count::<Piece>()?, marks.join(", ")))?;
    Ok(())
}

/// Says a line to whoever watches the app.
fn say(line: &str) -> io::Result<()> {
    let mut out = io::stdout().lock();
    writeln!(out, "{line}")?;
    out.flush()
}
