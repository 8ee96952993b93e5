//! Searching, suggesting and refreshing.

use crate::Result;
use crate::records::hand;
use crate::table::{Ratios, in_turn, timed};
use rusqlite::Connection;
use std::hint::black_box;
use std::path::Path;
use velvet_drawer::{Drawer, Record, Schema};

const ROWS: u32 = 100_000;

#[derive(Record, Clone)]
struct Article {
    #[record(own_key)]
    number: String,
    #[record(indexed, searchable)]
    name: String,
    #[record(searchable)]
    remarks: String,
    cents: u32,
    in_stock: bool,
}

/// As [`Article`], without words that are searched.
#[derive(Record, Clone)]
struct Item {
    #[record(own_key)]
    number: String,
    name: String,
    remarks: String,
    cents: u32,
    in_stock: bool,
}

const KINDS: [&str; 8] = ["brush", "sponge", "wire", "cobalt", "kaolin", "whiting", "shelf", "cone"];
const MAKES: [&str; 7] = ["fine", "coarse", "long", "short", "round", "flat", "soft"];

fn name(n: u32) -> String {
    format!("{} {} {n}", MAKES[n as usize % MAKES.len()], KINDS[(n / 7) as usize % KINDS.len()])
}

fn article(n: u32) -> Article {
    let rare = if n.is_multiple_of(100) { "tenmoku" } else { "plain" };
    let remarks = format!("for {rare} work, comes in a box of {}", n % 12);
    Article { number: format!("A{n:06}"), name: name(n), remarks, cents: n % 9_000, in_stock: !n.is_multiple_of(5) }
}

fn item(n: u32, changed: bool) -> Item {
    let Article { number, name, remarks, cents, in_stock } = article(n);
    Item { number, name, remarks, cents: cents + u32::from(changed), in_stock }
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    searches(table, &folder.path().join("articles.drawer"))?;
    refreshes(table, &folder.path().join("items.drawer"))
}

fn searches(table: &mut Ratios, path: &Path) -> Result<()> {
    let drawer = Drawer::open(path, Schema::new("bench").record::<Article>())?;
    drawer.insert_all((0..ROWS).map(article))?;
    let connection = indexed_by_hand(&path.with_file_name("by-hand.db"))?;
    let ours = || {
        timed(|| drawer.records::<Article>().search("tenmoku wo").limit(20).collect().map(black_box))
            .map_err(Into::into)
    };
    let text = "SELECT a.key, a.number, a.name, a.remarks, a.cents, a.in_stock, snippet(words, -1, '[', ']', '…', 16) \
                FROM words CROSS JOIN article AS a ON a.key = words.rowid WHERE words MATCH ?1 ORDER BY words.rank LIMIT 20";
    let by_hand = || {
        timed(|| {
            let mut statement = connection.prepare_cached(text)?;
            let read = |row: &rusqlite::Row<'_>| {
                let article = Article {
                    number: row.get(1)?,
                    name: row.get(2)?,
                    remarks: row.get(3)?,
                    cents: row.get(4)?,
                    in_stock: row.get(5)?,
                };
                Ok((row.get::<_, i64>(0)?, article, row.get::<_, String>(6)?))
            };
            let hits: Vec<_> = statement.query_map(["\"tenmoku\" \"wo\"*"], read)?.collect::<rusqlite::Result<_>>()?;
            Ok(black_box(hits).len())
        })
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(51, ours, by_hand)?;
    table.line("search among 100,000, 1 % match, the best 20", first, second, 1.10);
    let nothing = || Ok::<_, velvet_drawer::Error>(std::time::Duration::ZERO);
    for typed in ["c", "co"] {
        let ours = || timed(|| drawer.records::<Article>().search(typed).limit(20).collect().map(black_box));
        let (took, _) = in_turn(21, ours, nothing)?;
        let what =
            format!("search among 100,000 (µs), {} typed", velvet_core::exchange::show::count(typed.len(), "letter"));
        table.at_most(&what, u64::try_from(took.as_micros())?, 16_000);
    }
    for (typed, what) in [("co", "two letters"), ("obal", "inside of words"), ("nowhere", "no match")] {
        let ours = || timed(|| drawer.records::<Article>().suggest(|a| a.name, typed, 8).map(black_box));
        let (took, _) = in_turn(21, ours, nothing)?;
        table.at_most(&format!("suggest among 100,000 (µs), {what}"), u64::try_from(took.as_micros())?, 16_000);
    }
    let mut cents = 0;
    let first_letter = || {
        cents += 1;
        drawer.records::<Article>().limit(1).update(|a| a.cents.set(cents))?;
        timed(|| drawer.records::<Article>().suggest(|a| a.name, "c", 8).map(black_box))
    };
    let (took, _) = in_turn(21, first_letter, nothing)?;
    table.at_most("  the texts read anew, after a write", u64::try_from(took.as_micros())?, 16_000);
    Ok(())
}

/// The same articles, with an index as one would write it.
fn indexed_by_hand(path: &Path) -> Result<Connection> {
    let connection = hand(path)?;
    connection.execute_batch(
        "CREATE TABLE article (key INTEGER PRIMARY KEY, number TEXT UNIQUE, name TEXT, remarks TEXT, cents INT, in_stock INT) STRICT; \
         CREATE VIRTUAL TABLE words USING fts5(name, remarks, content = 'article', content_rowid = 'key', prefix = '1 2 3'); BEGIN",
    )?;
    for n in 0..ROWS {
        let a = article(n);
        connection
            .prepare_cached("INSERT INTO article (number, name, remarks, cents, in_stock) VALUES (?1, ?2, ?3, ?4, ?5)")?
            .execute((a.number, a.name, a.remarks, a.cents, a.in_stock))?;
    }
    connection.execute_batch("INSERT INTO words (words) VALUES ('rebuild'); COMMIT")?;
    Ok(connection)
}

fn refreshes(table: &mut Ratios, path: &Path) -> Result<()> {
    const COMING: u32 = 5_000;
    let drawer = Drawer::open(path, Schema::new("bench").record::<Item>())?;
    drawer.insert_all((0..COMING).map(|n| item(n, false)))?;
    let connection = hand(path)?;
    connection.execute_batch("PRAGMA temp_store = MEMORY")?;
    let mut round = 0;
    // Every hundredth item differs from what is stored, in turn.
    let mut coming = || -> Vec<Item> {
        round += 1;
        (0..COMING).map(|n| item(n, n % 100 == 0 && round % 2 == 1)).collect()
    };
    let mut batches: Vec<Vec<Item>> = (0..43).map(|_| coming()).collect();
    let mut others: Vec<Vec<Item>> = (0..43).map(|_| coming()).collect();
    let ours = || {
        let batch = batches.pop().unwrap_or_default();
        let report = timed(|| drawer.refresh(batch).run());
        report.map_err(Into::into)
    };
    let by_hand = || {
        let batch = others.pop().unwrap_or_default();
        timed(|| set_based(&connection, batch))
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(31, ours, by_hand)?;
    table.line("refresh 5,000 rows of which 50 differ", first, second, 1.1);
    let mut more: Vec<Vec<Item>> = (0..5).map(|_| coming()).collect();
    let mut others: Vec<Vec<Item>> = (0..5).map(|_| coming()).collect();
    let ours = || timed(|| drawer.refresh(more.pop().unwrap_or_default()).run()).map_err(Into::into);
    let usual = || {
        let batch = others.pop().unwrap_or_default();
        timed(|| {
            connection.execute_batch("BEGIN IMMEDIATE")?;
            for p in batch {
                connection.execute(
                    "INSERT INTO item (number, name, remarks, cents, in_stock) VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (number) \
                     DO UPDATE SET name = excluded.name, remarks = excluded.remarks, cents = excluded.cents, in_stock = excluded.in_stock",
                    (&p.number, &p.name, &p.remarks, p.cents, p.in_stock),
                )?;
            }
            Ok(connection.execute_batch("COMMIT")?)
        })
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(5, ours, usual)?;
    table.line("  against a statement prepared and run for each", first, second, 1.0 / 8.0);
    Ok(())
}

/// Fills a temporary table, and changes and inserts from there in one statement each.
fn set_based(connection: &Connection, batch: Vec<Item>) -> Result<()> {
    connection.execute_batch(
        "BEGIN IMMEDIATE; CREATE TEMP TABLE IF NOT EXISTS coming (number TEXT PRIMARY KEY, name TEXT, remarks TEXT, cents INT, \
         in_stock INT) WITHOUT ROWID; DELETE FROM coming",
    )?;
    {
        let mut statement = connection.prepare_cached("INSERT INTO temp.coming VALUES (?1, ?2, ?3, ?4, ?5)")?;
        for p in &batch {
            statement.execute((&p.number, &p.name, &p.remarks, p.cents, p.in_stock))?;
        }
    }
    connection.execute_batch(
        "UPDATE item SET name = c.name, remarks = c.remarks, cents = c.cents, in_stock = c.in_stock FROM temp.coming AS c \
         WHERE item.number = c.number AND (item.name IS NOT c.name OR item.remarks IS NOT c.remarks OR item.cents IS NOT c.cents \
         OR item.in_stock IS NOT c.in_stock); \
         INSERT INTO item (number, name, remarks, cents, in_stock) SELECT number, name, remarks, cents, in_stock FROM temp.coming AS c \
         WHERE NOT EXISTS (SELECT 1 FROM item WHERE item.number = c.number); \
         COMMIT",
    )?;
    Ok(())
}
