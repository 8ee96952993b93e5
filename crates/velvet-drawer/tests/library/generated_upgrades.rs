//! Structures made up at random, with rows: the upgrade from one to the other comes out as planned, in the real engine.

#[path = "../../../velvet-core/tests/core/common/mod.rs"]
mod structures;

use proptest::prelude::*;
use rusqlite::Connection;
use std::path::Path;
use structures::{all_new, no_link_to_t2, structures};
use velvet_core::evolve::{self, History, draft};
use velvet_core::schema::fingerprint;
use velvet_core::schema::structure::{Kind, Structure};
use velvet_core::value::name::quoted;
use velvet_drawer::inspect::File;

const ROWS: i64 = 4;

/// A drawer of version 1 as `docs/file-format.md` describes it, written by hand.
fn make(path: &Path, structure: &Structure) {
    let file = Connection::open(path).unwrap();
    let mut text = evolve::create(structure).join(";\n");
    text.push_str(
        ";CREATE TABLE velvet_about (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
         CREATE TABLE velvet_versions (version INTEGER PRIMARY KEY, at TEXT NOT NULL, app_version TEXT, took_ms INTEGER NOT NULL) STRICT;
         PRAGMA application_id = 0x56447277; PRAGMA user_version = 1; PRAGMA foreign_keys = OFF",
    );
    file.execute_batch(&text).unwrap();
    let facts = [
        ("app", "made up".to_owned()),
        ("fingerprint", fingerprint::of(structure)),
        ("structure", serde_json::to_string(structure).unwrap()),
    ];
    for (name, value) in facts {
        file.execute("INSERT INTO velvet_about VALUES (?1, ?2)", (name, value)).unwrap();
    }
    for table in &structure.tables {
        for row in 1..=ROWS {
            let values = table.columns.iter().map(|column| match &column.kind {
                _ if column.optional && row == 2 => "NULL".to_owned(),
                Kind::Text | Kind::Json | Kind::Choice { .. } => format!("'text {row}'"),
                Kind::F64 => format!("{row}.5"),
                _ => row.to_string(),
            });
            let values: Vec<String> = std::iter::once(row.to_string()).chain(values).collect();
            let names: Vec<String> = table.column_names().map(quoted).collect();
            let insert =
                format!("INSERT INTO {} ({}) VALUES ({})", quoted(&table.name), names.join(", "), values.join(", "));
            file.execute(&insert, []).unwrap();
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn any_structure_becomes_any_other_with_all_rows(mut from in structures(), mut to in structures()) {
        // A rehearsal has no key to what is sealed already.
        for column in from.tables.iter_mut().flat_map(|t| &mut t.columns).filter(|c| c.seal().is_some()) {
            column.kind = Kind::Text;
        }
        if from.tables.len() == 2 {
            // A new table has no rows to which those of others could link.
            no_link_to_t2(&mut to);
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("made-up.drawer");
        make(&path, &from);
        let drafted = draft(&from, &to, &all_new(), &[], &[]);
        let mut history = History::start("made up", &from);
        history.versions[0].released = true;
        let history = history.recorded(&to, drafted, &[]).to_json();

        let before = std::fs::read(&path).unwrap();
        let rehearsal = File::open(&path).unwrap().rehearse_history(&history);
        prop_assert!(rehearsal.is_ok(), "{}", rehearsal.unwrap_err());
        prop_assert!(before == std::fs::read(&path).unwrap(), "a rehearsal changed the file");
        let upgraded = rehearsal.unwrap().upgraded.unwrap();
        prop_assert_eq!(upgraded.from, 1);
        // Every table is written anew once for what is added with a value and once for the rest, at the most.
        prop_assert!(upgraded.versions[0].rows <= (from.tables.len() as i64 * 2 * ROWS) as u64);
    }
}
