//! A supplier's catalogue of 4,800 articles: shown at once from the drawer, then refreshed when it is too old.
//!
//! `cargo run -p velvet-demo --example catalogue`

use std::error::Error;
use std::time::Duration;
use velvet_demo::kilnbook::version_1::{self, Article};
use velvet_demo::supplier::Supplier;
use velvet_drawer::Drawer;

/// What the app does when the screen is opened.
fn open_screen(drawer: &Drawer, supplier: &Supplier, too_old: Duration) -> Result<(), Box<dyn Error>> {
    let shown = drawer.records::<Article>().sort_by(|a| a.name.ascending()).limit(2).collect()?;
    let names: Vec<&str> = shown.iter().map(|a| a.name.as_str()).collect();
    let of = drawer.count::<Article>()?;
    println!("shown at once: {of} articles{}{}", if of > 0 { ", " } else { "" }, names.join("; "));
    let last = drawer.last_refresh::<Article>()?;
    if !last.older_than(too_old) {
        println!("refreshed a moment ago: nothing is downloaded");
        return Ok(());
    }
    let report = drawer.refresh(supplier.catalogue()?).remove_absent().run()?;
    println!("refreshed:     {report}");
    Ok(())
}

fn main() -> Result<(), Box<dyn Error>> {
    let supplier = Supplier::open()?;
    let drawer = Drawer::in_memory(version_1::schema())?;
    println!("First start");
    open_screen(&drawer, &supplier, Duration::from_secs(3_600))?;
    println!("A minute later");
    open_screen(&drawer, &supplier, Duration::from_secs(3_600))?;
    println!("Pulled down by hand: the same catalogue writes nothing");
    open_screen(&drawer, &supplier, Duration::ZERO)?;
    println!("The next day");
    supplier.next_day();
    open_screen(&drawer, &supplier, Duration::ZERO)?;

    println!("A broken download");
    let mut twice = supplier.catalogue()?;
    twice[4_000].number = twice[7].number.clone();
    println!("{}", drawer.refresh(twice).remove_absent().run().unwrap_err());
    println!("still {} articles", drawer.count::<Article>()?);
    Ok(())
}
