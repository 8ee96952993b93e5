//! Complete copies, and what is private in them.

use crate::common;
use common::{Piece, folder, piece};
use velvet_drawer::inspect::{File, Told, TrailOf, compact};
use velvet_drawer::{Cancel, Drawer, Error, Record, Schema, Trail};

#[derive(Record, Debug)]
struct Customer {
    name: String,
    #[record(private, unique)]
    phone: Option<String>,
    #[record(private, searchable)]
    notes: String,
    #[record(private)]
    debt: i64,
}

fn schema() -> Schema {
    Schema::new("kilnbook").record::<Customer>().record::<common::Piece>().record::<common::Glaze>()
}

#[test]
fn a_copy_is_whole_and_of_one_moment_while_others_write() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..2_000).map(|n| Piece { remarks: "x".repeat(300), ..piece(&n.to_string()) })).unwrap();
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut n = 0;
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                // Two records in each transaction, or none.
                let pair = |tx: &velvet_drawer::Tx<'_>| -> Result<(), Error> {
                    tx.insert(piece(&format!("a{n}")))?;
                    tx.insert(piece(&format!("b{n}"))).map(drop)
                };
                drawer.write(pair).unwrap();
                n += 1;
            }
        });
        for round in 0..6 {
            let copy = folder.path().join(format!("copy-{round}.drawer"));
            match round % 2 {
                0 => drawer.copy_to(&copy).unwrap(),
                _ => File::open(&path).unwrap().copy_to(&copy, false).unwrap(),
            }
            assert_eq!(File::open(&copy).unwrap().notes().unwrap(), [""; 0]);
            assert!(File::open(&copy).unwrap().check().unwrap().is_sound());
            let copy = Drawer::open(&copy, schema()).unwrap();
            let count = copy.count::<Piece>().unwrap();
            assert!(count >= 2_000 && count.is_multiple_of(2), "{count}");
        }
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
    });
    let copy = folder.path().join("copy-0.drawer");
    let before = std::fs::read(&copy).unwrap();
    let error = drawer.copy_to(&copy).unwrap_err();
    assert!(error.is_already_there() && before == std::fs::read(&copy).unwrap());
    assert_eq!(
        error.to_string(),
        format!(
            "cannot copy the drawer: there is a file of that name already. It was left untouched. Choose another name. File: {}",
            copy.display()
        )
    );
    assert!(drawer.copy_to(folder.path().join("nowhere/copy.drawer")).is_err());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 6 + 3, "something is left");
}

#[test]
fn nothing_private_is_in_a_copy_that_is_handed_out() {
    let (folder, path) = folder();
    let drawer = Drawer::options().trail(Trail::Before).open(&path, schema()).unwrap();
    for n in 0..3 {
        let customer = Customer {
            name: format!("Ada {n}"),
            phone: Some(format!("555-{n}")),
            notes: "owes us a secretword".into(),
            debt: 4_711,
        };
        let ada = drawer.insert(customer).unwrap();
        drawer.change(ada.key(), |c| c.notes = format!("{} since May", c.notes)).unwrap();
    }
    drawer.close().unwrap();
    // As an older version of the app, to which it was not private yet, would have kept it.
    common::other_program(&path)
        .execute_batch("UPDATE velvet_trail SET before = '{\"notes\":\"an old secretword\"}' WHERE did = 'changed'")
        .unwrap();
    let drawer = Drawer::open(&path, schema()).unwrap();
    let copies = ["a.drawer", "b.drawer"].map(|name| folder.path().join(name));
    drawer.copy_without_private_to(&copies[0]).unwrap();
    let file = File::open(&path).unwrap();
    assert_eq!(file.private_columns().len(), 3);
    file.copy_to(&copies[1], true).unwrap();
    for copy in copies {
        let bytes = String::from_utf8_lossy(&std::fs::read(&copy).unwrap()).into_owned();
        for secret in ["secretword", "555-", "secret"] {
            assert!(!bytes.contains(secret), "{secret} is in the copy");
        }
        let trail = File::open(&copy).unwrap().trail(&TrailOf::default()).unwrap();
        assert!(trail[0].columns.iter().all(|c| c.before == Told::Private), "{trail:?}");
        let copy = Drawer::open(&copy, schema()).unwrap();
        assert!(copy.search_index_is_sound::<Customer>().unwrap());
        let all = copy.records::<Customer>().collect().unwrap();
        assert!(
            all.iter().all(|c| c.phone.is_none() && c.notes.is_empty() && c.debt == 0 && c.name.starts_with("Ada"))
        );
        assert_eq!(all.len(), 3);
    }
    assert_eq!(drawer.records::<Customer>().search("secretword").collect().unwrap().len(), 3);
}

#[derive(Record)]
#[allow(dead_code)]
struct Member {
    #[record(private, unique)]
    number: u32,
    #[record(private)]
    born: jiff::civil::Date,
}

#[test]
fn a_private_column_without_a_value_that_could_stand_there_is_refused() {
    let error = Schema::new("club").record::<Member>().check().unwrap_err().to_string();
    for column in ["number", "born"] {
        let said = format!(
            "`member.{column}` is private, but no value can stand in its place in a copy without what is private; make it optional, or give it a default"
        );
        assert!(error.contains(&said), "{error}");
    }
}

#[test]
fn files_of_any_program_are_compacted_also_while_they_are_open() {
    let (folder, path) = folder();
    let drawer = Drawer::open(&path, schema()).unwrap();
    drawer.insert_all((0..800).map(|n| Piece { remarks: "x".repeat(900), ..piece(&n.to_string()) })).unwrap();
    drawer.records::<Piece>().filter(|p| p.mark.is_not("7")).remove().unwrap();
    let (before, after) = compact(&path, &Cancel::default()).unwrap();
    assert!(after.bytes < before.bytes / 4 && after.unused == 0, "{before:?} {after:?}");
    assert_eq!(drawer.count::<Piece>().unwrap(), 1);
    drawer.insert(piece("new")).unwrap();
    drawer.close().unwrap();
    assert_eq!(Drawer::open(&path, schema()).unwrap().count::<Piece>().unwrap(), 2);

    let foreign = folder.path().join("foreign.db");
    let other = common::other_program(&foreign);
    other.execute_batch("CREATE TABLE t (a); INSERT INTO t SELECT randomblob(900) FROM json_each(json('[' || substr(replace(hex(zeroblob(400)), '00', ',1'), 2) || ']'))").unwrap();
    other.execute_batch("DELETE FROM t WHERE rowid > 3").unwrap();
    let (before, after) = compact(&foreign, &Cancel::default()).unwrap();
    assert!(after.bytes < before.bytes / 4, "{before:?} {after:?}");
    assert_eq!(other.query_row("SELECT count(*) FROM t", [], |row| row.get::<_, i64>(0)).unwrap(), 3);
    assert!(compact(folder.path().join("nowhere.db"), &Cancel::default()).unwrap_err().is_file_missing());
    std::fs::write(folder.path().join("text.db"), "no database, but long enough to have a header if it were one")
        .unwrap();
    assert!(compact(folder.path().join("text.db"), &Cancel::default()).unwrap_err().is_not_a_database());
}
