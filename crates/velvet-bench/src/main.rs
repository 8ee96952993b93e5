//! Velvet Drawer against code written by hand on the same engine, with the same settings and tables, in turn in one run.
//!
//! `cargo run --release -p velvet-bench` prints one table: work, ours, by hand, ratio, goal, and whether it is met. Times are
//! medians of several rounds; what counts is their ratio.

#![forbid(unsafe_code)]

mod opening;
mod records;
mod table;
mod upgrading;

use table::Table;

type Result<T> = std::result::Result<T, Box<dyn std::error::Error>>;

fn main() -> Result<()> {
    let mut table = Table::default();
    opening::run(&mut table)?;
    records::run(&mut table)?;
    upgrading::run(&mut table)?;
    println!("{table}");
    Ok(())
}
