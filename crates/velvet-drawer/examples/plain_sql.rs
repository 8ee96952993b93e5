//! Plain SQL where it says it best: values bound by name, rows read by name, and wrong statements found in a test.
//!
//! `cargo run --example plain_sql`

use velvet_drawer::{Choice, Drawer, Error, Excerpt, Record, Schema, Stored, testing};

#[derive(Choice, Clone, Copy, Debug, PartialEq)]
enum Clay {
    White,
    Grey,
}

#[derive(Record, Debug)]
struct Piece {
    #[record(own_key)]
    mark: String,
    clay: Clay,
    grams: Option<u32>,
}

/// A row of `RANKED`, found by the names of its columns.
#[derive(Excerpt, Debug)]
struct Ranked {
    clay: Clay,
    mark: String,
    grams: u32,
    place: u64,
}

const RANKED: &str = "
    select clay, mark, grams, row_number() over (partition by clay order by grams desc) as place
    from piece
    where grams >= :least
    order by clay, place";
const HEAVIER: &str = "update piece set grams = grams + :more where clay = :clay";

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Piece>()
}

fn main() -> Result<(), Error> {
    // In an app this stands in a test: it names every statement that does not fit the schema.
    testing::statements_are_valid(&schema(), |check| {
        check.rows::<Ranked>(RANKED);
        check.writes(HEAVIER);
    });

    let drawer = Drawer::in_memory(schema())?;
    let clays = [Clay::White, Clay::Grey];
    drawer.insert_all((0..7).map(|n: u32| Piece {
        mark: format!("K-10{n}"),
        clay: clays[n as usize % 2],
        grams: (n != 3).then_some(300 + n * 211 % 500),
    }))?;

    for row in drawer.sql(RANKED).bind("least", 350).rows::<Ranked>()? {
        println!("{}. of {:?}: {} ({} g)", row.place, row.clay, row.mark, row.grams);
    }
    let (pieces, lightest): (u64, Option<u32>) =
        drawer.sql("select count(*), min(grams) from piece").first()?.unwrap_or_default();
    println!("{pieces} pieces, the lightest has {} g", lightest.unwrap_or_default());

    let changed = drawer.write(|tx| tx.sql(HEAVIER).bind("more", 25).bind("clay", Clay::Grey).run())?;
    println!("{changed} pieces of grey clay were weighed again, wet");
    let unweighed: Vec<Stored<Piece>> = drawer.sql("select * from piece where grams is null").rows()?;
    println!("Not weighed: {}", unweighed.iter().map(|p| p.mark.as_str()).collect::<Vec<_>>().join(", "));

    for wrong in ["select mark, clay from peice", "delete from piece", "select mark from piece where grams > :least"] {
        let error = drawer.sql(wrong).rows::<String>().unwrap_err();
        println!("{error}");
    }
    Ok(())
}
