//! Opening a file that is at the newest version.

use crate::Result;
use crate::table::{Ratios, in_turn, timed};
use records::schema;
use rusqlite::Connection;
use velvet_drawer::Drawer;

macro_rules! tables {
    ($($name:ident),*) => {
        $(#[derive(Record)]
        struct $name {
            #[record(own_key)]
            mark: String,
            #[record(indexed)]
            stage: String,
            grams: Option<u32>,
            remarks: String,
        })*

        pub(super) fn schema() -> Schema {
            Schema::new("bench")$(.record::<$name>())*
        }
    };
}

// What these tables hold is never looked at here.
#[allow(dead_code)]
mod records {
    use velvet_drawer::{Record, Schema};
    tables!(A, B, C, D, E, F, G, H, I, J, K, L);
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("twelve.drawer");
    Drawer::open(&path, schema())?.close()?;
    let ours = || timed(|| Drawer::open(&path, schema())).map_err(Into::into);
    let by_hand = || {
        timed(|| {
            let connection = Connection::open(&path)?;
            connection.busy_timeout(std::time::Duration::from_secs(5))?;
            connection
                .execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL; PRAGMA journal_mode = WAL")?;
            connection.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0))?;
            Ok(connection)
        })
    };
    let (ours, by_hand) = in_turn::<Box<dyn std::error::Error>>(400, ours, by_hand)?;
    table.line("open at the newest version, 12 tables", ours, by_hand, 1.5);
    Ok(())
}
