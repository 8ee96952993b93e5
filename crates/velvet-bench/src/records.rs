//! Reading and writing records.

use crate::Result;
use crate::table::{Ratios, in_turn, timed};
use rusqlite::{CachedStatement, Connection, Row};
use std::hint::black_box;
use std::path::Path;
use velvet_drawer::{Drawer, Key, Record, Schema, Stored};

/// How many records the file has: more than the engine's own cache of pages holds.
pub(crate) const ROWS: u32 = 100_000;

/// How many stages the pieces are in.
pub(crate) const STAGES: u32 = 500;

#[derive(Record, Clone)]
pub(crate) struct Piece {
    #[record(own_key)]
    mark: String,
    #[record(indexed)]
    stage: u32,
    pub(crate) grams: Option<u32>,
    wood: f64,
    remarks: String,
}

pub(crate) fn piece(n: u32) -> Piece {
    Piece {
        mark: format!("K-{n:08}"),
        stage: n % STAGES,
        grams: (!n.is_multiple_of(3)).then_some(n % 2_000),
        wood: f64::from(n) / 8.0,
        remarks: "thrown off the hump, sixth of a set".into(),
    }
}

pub(crate) fn schema() -> Schema {
    Schema::new("bench").record::<Piece>()
}

/// The record of a row, as it is written by hand.
pub(crate) fn by_hand(row: &Row<'_>) -> rusqlite::Result<(i64, Piece)> {
    Ok((
        row.get(0)?,
        Piece { mark: row.get(1)?, stage: row.get(2)?, grams: row.get(3)?, wood: row.get(4)?, remarks: row.get(5)? },
    ))
}

pub(crate) const COLUMNS: &str = "SELECT key, mark, stage, grams, wood, remarks FROM piece";

pub(crate) fn hand(path: &Path) -> Result<Connection> {
    let connection = Connection::open(path)?;
    connection.busy_timeout(std::time::Duration::from_secs(5))?;
    connection.execute_batch(
        "PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL; PRAGMA journal_mode = WAL; PRAGMA cache_spill = -8192",
    )?;
    Ok(connection)
}

pub(crate) fn list(statement: &mut CachedStatement<'_>, argument: Option<u32>) -> Result<usize> {
    let rows: Vec<(i64, Piece)> = match argument {
        Some(n) => statement.query_map([n], by_hand)?.collect::<rusqlite::Result<_>>()?,
        None => statement.query_map([], by_hand)?.collect::<rusqlite::Result<_>>()?,
    };
    Ok(black_box(rows).len())
}

const INSERT: &str = "INSERT INTO piece (mark, stage, grams, wood, remarks) VALUES (?1, ?2, ?3, ?4, ?5)";

/// Inserts pieces in one transaction, with one statement, and keeps them with their keys.
pub(crate) fn insert_by_hand(connection: &Connection, pieces: Vec<Piece>) -> Result<usize> {
    connection.execute_batch("BEGIN IMMEDIATE")?;
    let mut stored = Vec::with_capacity(pieces.len());
    {
        let mut statement = connection.prepare_cached(INSERT)?;
        for p in pieces {
            let key = statement.insert((&p.mark, p.stage, p.grams, p.wood, &p.remarks))?;
            stored.push((key, p));
        }
    }
    connection.execute_batch("COMMIT")?;
    Ok(black_box(stored).len())
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("pieces.drawer");
    let drawer = Drawer::open(&path, schema())?;
    drawer.insert_all((0..ROWS).map(piece))?;
    let connection = hand(&path)?;
    gets(table, &drawer, &connection)?;
    lists(table, &drawer, &connection)?;
    inserts(table, &drawer, &connection)?;
    small(table, &folder.path().join("small.drawer"))
}

/// The same in a file that fits into the engine's own cache of pages.
fn small(table: &mut Ratios, path: &Path) -> Result<()> {
    const FEW: u32 = 1_000;
    let drawer = Drawer::open(path, schema())?;
    drawer.insert_all((0..FEW).map(piece))?;
    let connection = hand(path)?;
    let (first, second) = in_turn(15, || got(&drawer, FEW), || got_by_hand(&connection, FEW))?;
    table.line("get by key among 1,000, 20,000 times", first, second, 1.05);
    let ours = || timed(|| drawer.records::<Piece>().collect().map(black_box)).map_err(Into::into);
    let text = format!("{COLUMNS} ORDER BY key");
    let hand = || timed(|| list(&mut connection.prepare_cached(&text)?, None));
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(101, ours, hand)?;
    table.line("list 1,000", first, second, 1.05);
    Ok(())
}

/// The keys that are asked for, all over a file with so many rows.
fn keys(rows: u32) -> impl Iterator<Item = i64> {
    (0..20_000).map(move |n| 1 + n * 7_919 % i64::from(rows))
}

fn got(drawer: &Drawer, rows: u32) -> Result<std::time::Duration> {
    timed(|| {
        for key in keys(rows) {
            black_box(drawer.get(Key::<Piece>::from_number(key))?);
        }
        Ok(())
    })
}

fn got_by_hand(connection: &Connection, rows: u32) -> Result<std::time::Duration> {
    let text = format!("{COLUMNS} WHERE key = ?1");
    timed(|| {
        for key in keys(rows) {
            black_box(connection.prepare_cached(&text)?.query_row([key], by_hand)?);
        }
        Ok(())
    })
}

fn gets(table: &mut Ratios, drawer: &Drawer, connection: &Connection) -> Result<()> {
    let ours = || got(drawer, ROWS);
    let hand = || got_by_hand(connection, ROWS);
    let text = format!("{COLUMNS} WHERE key = ?1");
    let (first, second) = in_turn(15, ours, hand)?;
    table.line("get by key, 20,000 times", first, second, 1.05);
    let usual = || {
        timed(|| {
            for key in keys(ROWS) {
                black_box(connection.prepare(&text)?.query_row([key], by_hand)?);
            }
            Ok(())
        })
    };
    let (first, second) = in_turn(5, ours, usual)?;
    table.usual("  against a statement prepared for each", first, second);
    let ours = || {
        timed(|| {
            drawer.read(|view| {
                for key in keys(ROWS) {
                    black_box(view.get(Key::<Piece>::from_number(key))?);
                }
                Ok(())
            })
        })
        .map_err(Into::into)
    };
    let (first, second) = in_turn(15, ours, hand)?;
    table.line("the same in a view, against a cached statement a call", first, second, 0.9);
    Ok(())
}

/// Twenty records by an index, the last ones first.
pub(crate) fn page(drawer: &Drawer, stage: u32) -> std::result::Result<Vec<Stored<Piece>>, velvet_drawer::Error> {
    let all = drawer.records::<Piece>().filter(|p| p.stage.is(stage));
    all.sort_by(|p| p.stage.descending()).limit(20).collect()
}

/// The statement for the same.
pub(crate) fn page_by_hand() -> String {
    format!("{COLUMNS} WHERE stage = ?1 ORDER BY stage DESC, key DESC LIMIT 20")
}

fn lists(table: &mut Ratios, drawer: &Drawer, connection: &Connection) -> Result<()> {
    let ours = || timed(|| drawer.records::<Piece>().collect().map(black_box)).map_err(Into::into);
    let text = format!("{COLUMNS} ORDER BY key");
    let hand = || timed(|| list(&mut connection.prepare_cached(&text)?, None));
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(15, ours, hand)?;
    table.line("list 100,000", first, second, 1.05);

    let ours = || {
        timed(|| {
            for stage in 0..STAGES {
                black_box(page(drawer, stage)?);
            }
            Ok::<_, Box<dyn std::error::Error>>(())
        })
    };
    let text = page_by_hand();
    let hand = || {
        timed(|| (0..STAGES).try_for_each(|stage| list(&mut connection.prepare_cached(&text)?, Some(stage)).map(drop)))
    };
    let (first, second) = in_turn(15, ours, hand)?;
    table.line("20 rows by an index, sorted, 500 times", first, second, 1.10);
    Ok(())
}

fn inserts(table: &mut Ratios, drawer: &Drawer, connection: &Connection) -> Result<()> {
    let mut next = ROWS;
    let mut fresh = |count: u32| -> Vec<Piece> {
        next += count;
        (next - count..next).map(piece).collect()
    };
    let mut batches: Vec<Vec<Piece>> = (0..10).map(|_| fresh(100_000)).collect();
    let mut others = batches.split_off(5);
    let ours = || {
        let batch = batches.pop().unwrap_or_default();
        timed(|| drawer.insert_all(batch).map(black_box)).map_err(Into::into)
    };
    let hand = || {
        let batch = others.pop().unwrap_or_default();
        timed(|| insert_by_hand(connection, batch))
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(5, ours, hand)?;
    table.line("insert 100,000", first, second, 1.05);

    let mut batches: Vec<Vec<Piece>> = (0..6).map(|_| fresh(1_000)).collect();
    let mut others = batches.split_off(3);
    let ours = || {
        let batch = batches.pop().unwrap_or_default();
        timed(|| drawer.insert_all(batch).map(black_box)).map_err(Into::into)
    };
    let usual = || {
        let batch = others.pop().unwrap_or_default();
        timed(|| {
            for p in batch {
                connection.execute(INSERT, (&p.mark, p.stage, p.grams, p.wood, &p.remarks))?;
            }
            Ok(())
        })
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(3, ours, usual)?;
    table.usual("insert 1,000, against a transaction for each", first, second);

    let mut single = fresh(400).into_iter();
    let mut other = fresh(400).into_iter();
    let ours = || match single.next() {
        Some(p) => timed(|| drawer.insert(p)).map_err(Into::into),
        None => Err("no piece left".into()),
    };
    let hand = || match other.next() {
        Some(p) => timed(|| {
            connection.prepare_cached(INSERT)?.insert((&p.mark, p.stage, p.grams, p.wood, &p.remarks))?;
            Ok(())
        }),
        None => Err("no piece left".into()),
    };
    let (first, second) = in_turn::<Box<dyn std::error::Error>>(400, ours, hand)?;
    table.line("one insert in its own transaction", first, second, 1.10);
    Ok(())
}
