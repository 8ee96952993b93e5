//! Adding a column, and writing a table anew.

use crate::Result;
use crate::table::{Ratios, in_turn, timed};
use rusqlite::Connection;
use std::fs;
use std::path::Path;
use std::time::Duration;
use velvet_core::evolve::{History, draft};
use velvet_core::schema::structure::Structure;
use velvet_drawer::{Drawer, Record, Schema};

mod old {
    use velvet_drawer::Record;
    #[derive(Record)]
    pub(super) struct Piece {
        #[record(own_key)]
        pub(super) mark: String,
        pub(super) grams: Option<f64>,
        pub(super) remarks: String,
    }
}

// Its rows are written by the upgrade alone.
#[allow(dead_code)]
mod added {
    use velvet_drawer::Record;
    #[derive(Record)]
    pub(super) struct Piece {
        #[record(own_key)]
        mark: String,
        grams: Option<f64>,
        remarks: String,
        shelf: Option<String>,
    }
}

// Its rows are written by the upgrade alone.
#[allow(dead_code)]
mod rebuilt {
    use velvet_drawer::Record;
    #[derive(Record)]
    pub(super) struct Piece {
        #[record(own_key)]
        mark: String,
        #[record(fill = "round(grams)")]
        grams: Option<i64>,
        remarks: String,
    }
}

fn structure<T: Record>() -> Result<Structure> {
    Ok(Structure { tables: vec![T::table()?] })
}

/// The schema of `New`, with the history that leads there from the old one.
fn schema<New: Record>() -> Result<Schema> {
    let (from, to) = (structure::<old::Piece>()?, structure::<New>()?);
    let mut history = History::start("bench", &from);
    history.versions[0].released = true;
    let drafted = draft(&from, &to, &[(New::TABLE, New::HINTS)], &[], &[]);
    let text = history.recorded(&to, drafted, &[]).to_json();
    Ok(Schema::new("bench").record::<New>().history(Box::leak(text.into_boxed_str())))
}

fn fill(path: &Path, rows: u32) -> Result<()> {
    let drawer = Drawer::options().relaxed().open(path, Schema::new("bench").record::<old::Piece>())?;
    let piece = |n: u32| old::Piece {
        mark: format!("K-{n:08}"),
        grams: Some(f64::from(n % 3000)),
        remarks: "a bowl, thrown off the hump".into(),
    };
    drawer.insert_all((0..rows).map(piece))?;
    Ok(drawer.close()?)
}

/// A copy that is on the device, so that nobody's first sync has to bring it there.
fn fresh_copy(base: &Path, path: &Path) -> Result<()> {
    fs::copy(base, path)?;
    Ok(fs::File::open(path)?.sync_all()?)
}

/// How long opening a fresh copy of `base` takes.
fn upgrade(base: &Path, schema: &Schema) -> Result<Duration> {
    let path = base.with_file_name("upgraded.drawer");
    for old in fs::read_dir(base.parent().unwrap_or(base))?.flatten() {
        if old.file_name().to_string_lossy().starts_with("upgraded") {
            fs::remove_file(old.path())?;
        }
    }
    fresh_copy(base, &path)?;
    timed(|| Drawer::open(&path, schema.clone())).map_err(Into::into)
}

/// How long a script written by hand takes for the same on a fresh copy: the copy of the file that ours keeps, and one
/// transaction.
fn script(base: &Path) -> Result<Duration> {
    let path = base.with_file_name("upgraded.drawer");
    for end in ["", "-wal", "-shm"] {
        // The last round may have left none of these.
        let _ = fs::remove_file(format!("{}{end}", path.display()));
    }
    fresh_copy(base, &path)?;
    timed(|| {
        let connection = Connection::open(&path)?;
        connection.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = OFF")?;
        let mut kept = Connection::open(base.with_file_name("upgraded.kept"))?;
        rusqlite::backup::Backup::new(&connection, &mut kept)?.run_to_completion(4096, Duration::ZERO, None)?;
        connection.execute_batch(
            "BEGIN IMMEDIATE;
             CREATE TABLE new_piece (key INTEGER PRIMARY KEY AUTOINCREMENT, mark TEXT NOT NULL, grams INTEGER, remarks TEXT NOT NULL) STRICT;
             INSERT INTO new_piece SELECT key, mark, round(grams), remarks FROM piece;
             DROP TABLE piece;
             ALTER TABLE new_piece RENAME TO piece;
             CREATE UNIQUE INDEX \"piece.mark\" ON piece (mark);
             PRAGMA foreign_key_check;
             PRAGMA user_version = 2;
             COMMIT;
             PRAGMA wal_checkpoint(TRUNCATE)",
        )?;
        Ok::<_, Box<dyn std::error::Error>>(connection)
    })
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let (few, many) = (folder.path().join("few/base.drawer"), folder.path().join("many/base.drawer"));
    fill(&few, 1_000)?;
    fill(&many, 1_000_000)?;

    let added = schema::<added::Piece>()?;
    let (long, short) = in_turn(15, || upgrade(&many, &added), || upgrade(&few, &added))?;
    table.line("add a column to 1,000,000 rows, against 1,000", long, short, 1.5);

    let rebuilt = schema::<rebuilt::Piece>()?;
    let (ours, by_hand) = in_turn(9, || upgrade(&many, &rebuilt), || script(&many))?;
    table.line("write 1,000,000 rows anew, with a copy kept", ours, by_hand, 1.1);
    Ok(())
}
