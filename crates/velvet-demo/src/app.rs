//! The app itself: what each of its starts does. The phone starts it as a process of its own.

use crate::kilnbook::version_1::{Article, Clay, Firing, Piece, Stage};
use crate::kilnbook::{version_1, version_2, version_3};
use crate::samples;
use jiff::civil::date;
use std::error::Error;
use std::io::{self, Write};
use std::time::Duration;
use velvet_drawer::{Drawer, Trail};
use velvet_phone::app::{Signal, folders, next_signal};

/// The name of the app's file.
pub(crate) const FILE: &str = "kiln.drawer";

/// Runs the app, until the phone ends it: the start with this name.
///
/// # Errors
/// When no phone started it, there is no such start, or the drawer cannot be used.
pub fn run(start: &str) -> Result<(), Box<dyn Error>> {
    let folders = folders().ok_or("the demo app runs on the pretend phone; start the tour instead")?;
    let (version, schema) = match start {
        "first" | "second" | "third" | "fourth" | "old" => ("1.0", version_1::schema()),
        "fifth" => ("2.0", version_2::schema()),
        "sixth" => ("3.0", version_3::schema()),
        "seventh" | "eighth" | "ninth" => ("3.1", version_3::schema()),
        other => return Err(format!("the app has no start called {other:?}").into()),
    };
    // Version 3.1 of the app keeps a trail, because its users report that things are missing.
    let trail = if version == "3.1" { Trail::Before } else { Trail::Off };
    let drawer = match Drawer::options().app_version(version).trail(trail).open(folders.durable.join(FILE), schema) {
        Err(error) if start == "old" => return Ok(say(&format!("refused: {error}"))?),
        other => other?,
    };
    say_what_was_upgraded(&drawer)?;
    match start {
        "first" => first(&drawer)?,
        "second" => second(&drawer)?,
        "third" => third(&drawer)?,
        "fourth" => fourth(&drawer)?,
        "fifth" => fifth(&drawer)?,
        "seventh" => seventh(&drawer)?,
        "eighth" => eighth(&drawer)?,
        "ninth" => ninth(&drawer)?,
        _ => sixth(&drawer)?,
    }
    loop {
        match next_signal() {
            Signal::Background => drop(drawer.going_to_background(Duration::from_secs(2))?),
            Signal::Foreground => drawer.back_in_foreground()?,
            Signal::Tap(_) => {}
            Signal::Quit => break,
        }
    }
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

/// Puts the pieces on shelves.
fn fifth(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let shelves = ["by the window", "above the kiln"].map(|name| version_2::Shelf { name: name.into(), holds: 20 });
    let shelves = drawer.insert_all(shelves)?;
    let fired = drawer.records::<version_2::Piece>().filter(|p| p.stage.is_not(Stage::Thrown)).collect()?;
    for (n, piece) in fired.iter().enumerate() {
        drawer.change(piece.key(), |p| p.shelf = Some(shelves[n % 2].key()))?;
    }
    drawer.write(|tx| {
        tx.settings::<version_2::Bench>().change(|bench| bench.top_celsius = 1280)?;
        tx.named::<version_2::LastMark>().merge([("K", 125), ("T", 7)])?;
        let shopping = samples::SHOPPING.map(str::to_owned).to_vec();
        tx.named::<version_2::List>()
            .merge([("shopping", shopping), ("opening hours", vec!["Tue to Sat, 10 to 18".into()])])?;
        Ok(())
    })?;
    say("set how hot the kiln may become, and wrote a shopping list")?;
    say(&format!("put {} pieces on {} shelves", fired.len(), shelves.len()))?;
    Ok(())
}

/// Looks at the glazes and errands, which are records now, and takes pictures.
fn sixth(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    let errands = drawer.records::<version_3::Errand>().collect()?;
    if let Some(first) = errands.first() {
        say(&format!("the shopping list became {} errands, the first: {}", errands.len(), first.what))?;
    }
    say(&format!("the kiln may reach {} °C", drawer.settings::<version_3::Bench>().get()?.top_celsius))?;
    let glazed = drawer.records::<version_3::Piece>().filter(|p| p.stage.is(Stage::Glazed)).collect()?;
    for (n, piece) in glazed.iter().enumerate() {
        let picture = samples::picture(n, 200, 150);
        drawer.write(|tx| {
            let added = tx.attachments().add(&picture[..]).named(format!("{}.png", piece.mark)).media_type("image/png");
            let added = added.run()?;
            tx.settings::<version_3::Bench>().change(|bench| bench.last_glaze = piece.glaze.or(bench.last_glaze))?;
            tx.change(piece.key(), |p| p.picture = Some(added.key()))
        })?;
    }
    say(&format!("took {} pictures", glazed.len()))?;
    let glazes = drawer.records::<version_3::Glaze>().sort_by(|g| g.name.ascending()).collect()?;
    let names: Vec<&str> = glazes.iter().map(|g| g.name.as_str()).collect();
    let heavy = drawer.records::<version_3::Piece>().filter(|p| p.grams.at_least(1000)).count()?;
    say(&format!(
        "found {} pieces, {heavy} of 1000 grams or more, and the glazes {}",
        drawer.count::<version_3::Piece>()?,
        names.join(", ")
    ))?;
    Ok(())
}

/// Weighs some pieces anew, and is killed in the middle of storing a set of cups.
fn seventh(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    for (mark, grams) in [("K-103", 655), ("K-108", 940)] {
        let piece = drawer.get_by_own_key::<version_3::Piece>(mark)?.ok_or("the piece is not there")?;
        drawer.change(piece.key(), |p| p.grams = Some(grams))?;
    }
    say("weighed K-103 and K-108 again")?;
    drawer.write(|tx| {
        for n in 126..=128 {
            tx.insert(cup(n))?;
        }
        say("storing the cups K-126 to K-128").map_err(velvet_drawer::Error::own)?;
        while next_signal() != Signal::Quit {}
        Ok(())
    })?;
    Ok(())
}

/// Stores the cups again, and changes the mark of another piece by mistake.
fn eighth(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    drawer.insert_all((126..=127).map(cup))?;
    drawer.named::<version_2::LastMark>().change("K", |n| *n = 127)?;
    say("stored K-126 and K-127")?;
    let piece = drawer.get_by_own_key::<version_3::Piece>("K-104")?.ok_or("the piece is not there")?;
    drawer.change(piece.key(), |p| p.mark = "K-140".into())?;
    say("changed the mark of a piece")?;
    Ok(())
}

/// Stores one more, while somebody pulls the file.
fn ninth(drawer: &Drawer) -> Result<(), Box<dyn Error>> {
    say("open on the workbench")?;
    while !matches!(next_signal(), Signal::Tap(_) | Signal::Quit) {}
    drawer.insert(cup(129))?;
    say("stored K-129")?;
    Ok(())
}

/// A cup of the set that a customer ordered.
fn cup(number: u32) -> version_3::Piece {
    version_3::Piece {
        mark: format!("K-{number}"),
        stage: Stage::Thrown,
        clay: Clay::Porcelain,
        grams: Some(240 + number % 7),
        glaze: None,
        thrown_on: date(2025, 4, 5),
        firing: None,
        shelf: None,
        photo: None,
        thumbnail: None,
        picture: None,
        remarks: "Cup of the set for the café".into(),
    }
}

/// Tells the steps of an upgrade, if there was one.
fn say_what_was_upgraded(drawer: &Drawer) -> io::Result<()> {
    let Some(upgraded) = &drawer.opened().upgraded else { return Ok(()) };
    for step in &upgraded.versions {
        let first = step.did.first().map_or("", String::as_str);
        say(&format!("upgraded to version {}: {first}, and {} more", step.version, step.did.len() - 1))?;
    }
    if let Some(backup) = &upgraded.backup {
        let name = backup.file_name().unwrap_or_default().to_string_lossy();
        say(&format!("kept the file as it was, in {name}"))?;
    }
    Ok(())
}

/// Says a line to whoever watches the app.
fn say(line: &str) -> io::Result<()> {
    let mut out = io::stdout().lock();
    writeln!(out, "{line}")?;
    out.flush()
}
