//! Velvet Drawer against code written by hand on the same engine, with the same settings and tables, in turn in one run.
//!
//! `cargo run --release -p velvet-bench` prints one table: work, ours, by hand, ratio, goal, and whether it is met. Times are
//! medians of several rounds; what counts is their ratio. Where valgrind is installed, instructions are counted too. Lines without
//! a goal stand against the way in which the same is usually written: a statement prepared for each call, a transaction for each row.
//!
//! Named parts run alone: `… -- opening`, `records`, `searching`, `counts`, `upgrading`, `trails`, `live`, `kept`, `sealed` or, with the feature
//! `encryption`, `encrypted`.

#![forbid(unsafe_code)]

mod counts;
#[cfg(feature = "encryption")]
mod encrypted;
mod kept;
mod live;
mod opening;
mod records;
mod sealed;
mod searching;
mod table;
mod trails;
mod upgrading;

use table::Ratios;

type Result<T> = std::result::Result<T, Box<dyn std::error::Error>>;

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [first, rest @ ..] = arguments.as_slice()
        && first == counts::ONE
    {
        return counts::one(rest);
    }
    let parts: &[(&str, fn(&mut Ratios) -> Result<()>)] = &[
        ("opening", opening::run),
        ("records", records::run),
        ("searching", searching::run),
        ("counts", counts::run),
        ("upgrading", upgrading::run),
        ("trails", trails::run),
        ("live", live::run),
        ("kept", kept::run),
        ("sealed", sealed::run),
        #[cfg(feature = "encryption")]
        ("encrypted", encrypted::run),
    ];
    let mut table = Ratios::default();
    for (name, run) in parts {
        if arguments.is_empty() || arguments.iter().any(|argument| argument == name) {
            run(&mut table)?;
        }
    }
    println!("{table}");
    Ok(())
}
