//! Two copies of a file, record by record.

use crate::common;
use common::{Piece, Stage, folder, glaze, other_program, piece, schema};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;
use velvet_drawer::inspect::{Cell, Comparison, Difference, File};
use velvet_drawer::{Drawer, Error};

/// What a comparison told, each difference in a line.
fn told(before: &Path, after: &Path) -> (Comparison, Vec<String>) {
    let mut lines = Vec::new();
    let (before, after) = (File::open(before).unwrap(), File::open(after).unwrap());
    let values = |all: &[Cell<'_>]| {
        all.iter().map(|c| format!("{}={}", c.name, c.value.to_value().literal())).collect::<Vec<_>>().join(" ")
    };
    let mut each = |difference: Difference<'_>| {
        lines.push(match difference {
            Difference::Added { table, known_by, row } => {
                format!("+ {table} {} ({} values)", values(known_by), row.len())
            }
            Difference::Removed { table, known_by, .. } => format!("- {table} {}", values(known_by)),
            Difference::Changed { table, known_by, columns } => {
                let columns: Vec<String> = columns
                    .iter()
                    .map(|c| {
                        format!("{}: {} → {}", c.name, c.before.to_value().literal(), c.after.to_value().literal())
                    })
                    .collect();
                format!("~ {table} {} {}", values(known_by), columns.join(", "))
            }
        });
        Ok(())
    };
    let (comparison, rows) = common::with_last_progress(|| before.compare(&after, &mut each).unwrap());
    let counted: u64 = comparison.tables.iter().map(|t| t.added + t.removed + t.changed + t.same).sum();
    assert_eq!(rows, counted);
    (comparison, lines)
}

#[test]
fn two_copies_are_matched_by_row_number_so_a_changed_key_is_a_change() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let pieces = drawer.insert_all(["K-1", "K-2", "K-3"].map(piece)).unwrap();
    drawer.insert(glaze("Shino")).unwrap();
    drawer.close().unwrap();
    let before = folder.path().join("yesterday.drawer");
    std::fs::copy(&path, &before).unwrap();
    let (comparison, lines) = told(&before, &path);
    assert!(comparison.is_same() && lines.is_empty());

    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.change(pieces[0].key(), |p| p.mark = "K-9".into()).unwrap();
    drawer.change(pieces[1].key(), |p| (p.grams, p.stage) = (None, Stage::Bisque)).unwrap();
    drawer.remove(pieces[2].key()).unwrap();
    drawer.insert(piece("K-3")).unwrap();
    // The newest changes still stand beside the file.
    let (comparison, lines) = told(&before, &path);
    assert_eq!(
        lines,
        [
            "~ piece key=1 mark='K-1' mark: 'K-1' → 'K-9'",
            "~ piece key=2 mark='K-2' stage: 'thrown' → 'bisque', grams: 640 → NULL",
            "- piece key=3 mark='K-3'",
            "+ piece key=4 mark='K-3' (6 values)",
        ]
    );
    let table = &comparison.tables[0];
    assert_eq!((table.added, table.removed, table.changed, table.same), (1, 1, 2, 0));
    assert!(comparison.tables[1].same == 1 && !comparison.is_same());
    drop(drawer);
    let (before, after) = (File::open(before).unwrap(), File::open(path).unwrap());
    let error = before.compare(&after, &mut |_| Err(Error::own("enough"))).unwrap_err();
    assert!(error.is_own());
}

#[test]
fn two_drawers_of_an_app_are_matched_by_own_keys_and_only_another_order_is_said() {
    let (folder, path) = folder();
    let other = folder.path().join("other.drawer");
    for (path, marks) in [(&path, ["K-1", "K-2", "K-3"]), (&other, ["K-3", "K-1", "K-2"])] {
        let drawer = Drawer::open(path, schema()).unwrap();
        let others = if marks[0] == "K-1" { vec!["Shino"] } else { vec!["Celadon", "Shino"] };
        let glazes = drawer.insert_all(others.into_iter().map(glaze)).unwrap();
        let shino = glazes.last().map(|g| g.key());
        drawer.insert_all(marks.map(|mark| Piece { glaze: shino, ..piece(mark) })).unwrap();
        drawer.records::<common::Glaze>().filter(|g| g.name.is("Celadon")).remove().unwrap();
        drawer.close().unwrap();
    }
    let (comparison, lines) = told(&path, &other);
    // Row numbers differ, which are no part of what the records say.
    let table = &comparison.tables[0];
    assert_eq!(table.matched_by, ["mark"]);
    assert!(lines.is_empty() && table.only_order && table.same == 3, "{lines:?} {table:?}");
    assert!(comparison.is_same());
}

#[test]
fn files_of_any_program_and_shape_are_compared() {
    let (folder, a) = folder();
    let b = folder.path().join("b.db");
    let make = |path: &Path, text: &str| other_program(path).execute_batch(text).unwrap();
    make(
        &a,
        "CREATE TABLE two (x TEXT COLLATE NOCASE, y INT, z, gone, PRIMARY KEY (x, y)) WITHOUT ROWID; CREATE TABLE none (a, b);
         CREATE TABLE typed (id INTEGER PRIMARY KEY, n INT); CREATE TABLE old (a);
         INSERT INTO two VALUES ('a', 1, 'same', 0), ('B', 1, 1, 0), ('c', 2, x'00', 0);
         INSERT INTO none VALUES (1, 'x'), (1, 'x'), (NULL, 'y'), (2.5, NULL); INSERT INTO typed VALUES (1, 3);",
    );
    make(
        &b,
        "CREATE TABLE two (x TEXT COLLATE NOCASE, y INT, z, came, PRIMARY KEY (x, y)) WITHOUT ROWID; CREATE TABLE none (b, a);
         CREATE TABLE typed (id INTEGER PRIMARY KEY, n TEXT); CREATE TABLE new (a);
         INSERT INTO two VALUES ('a', 1, 'same', 0), ('B', 1, '1', 0), ('d', 2, 1, 0);
         INSERT INTO none VALUES ('x', 1), ('y', NULL), (NULL, 2.5), ('z', 0); INSERT INTO typed VALUES (1, '3');",
    );
    let (comparison, mut lines) = told(&a, &b);
    lines.sort();
    assert_eq!(
        lines,
        [
            "+ none a=0 b='z' (2 values)",
            "+ two x='d' y=2 (3 values)",
            "- none a=1 b='x'",
            "- two x='c' y=2",
            "~ two x='B' y=1 z: 1 → '1'",
            "~ typed id=1 n: 3 → '3'",
        ]
    );
    assert_eq!(
        comparison.structure,
        [
            "`two.gone` is only in the file before",
            "`two.came` is only in the file after",
            "`typed.n` holds int, which may be missing before and text, which may be missing after",
            "the table `old` is only in the file before",
            "the table `new` is only in the file after",
        ]
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn what_is_told_makes_the_one_of_the_other(
        before in prop::collection::btree_map(0..20_i64, 0..3_u8, 0..16), after in prop::collection::btree_map(0..20_i64, 0..3_u8, 0..16),
    ) {
        let (folder, a) = folder();
        let b = folder.path().join("b.db");
        for (path, rows) in [(&a, &before), (&b, &after)] {
            let file = other_program(path);
            file.execute_batch("CREATE TABLE t (k PRIMARY KEY, v)").unwrap();
            for (k, v) in rows.iter().rev() {
                // Keys of every kind.
                let k = match k % 3 { 0 => format!("{k}"), 1 => format!("'{k}'"), _ => format!("x'{k:02}'") };
                file.execute(&format!("INSERT INTO t VALUES ({k}, {v})"), []).unwrap();
            }
        }
        let mut now: BTreeMap<String, String> = BTreeMap::new();
        let (first, second) = (File::open(&a).unwrap(), File::open(&b).unwrap());
        let all = |file: &File| {
            let mut all = BTreeMap::new();
            let table = file.table("t").unwrap();
            file.rows(&table, &velvet_drawer::inspect::Page::default(), &mut |row| {
                all.insert(row[0].to_value().literal(), row[1].to_value().literal());
                Ok(())
            }).unwrap();
            all
        };
        now.extend(all(&first));
        let comparison = first.compare(&second, &mut |difference| {
            match difference {
                Difference::Added { row, .. } => { now.insert(row[0].value.to_value().literal(), row[1].value.to_value().literal()); }
                Difference::Removed { known_by, .. } => { prop_assert_in(now.remove(&known_by[0].value.to_value().literal()).is_some()); }
                Difference::Changed { known_by, columns, .. } => { now.insert(known_by[0].value.to_value().literal(), columns[0].after.to_value().literal()); }
            }
            Ok(())
        }).unwrap();
        prop_assert_eq!(&now, &all(&second));
        prop_assert_eq!(comparison.is_same(), all(&first) == all(&second));
    }
}

fn prop_assert_in(holds: bool) {
    assert!(holds, "a row was told as removed that was not there");
}
