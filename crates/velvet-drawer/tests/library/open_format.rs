//! The file is open: a reader that is not ours opens it and sees typed, readable values.

use crate::common;
use common::folder;
use jiff::SignedDuration;
use std::process::Command;
use uuid::Uuid;
use velvet_drawer::{Choice, Drawer, Key, Record, Schema};

#[derive(Choice)]
enum Stage {
    Thrown,
    #[choice(name = "once fired")]
    Bisque,
}

#[derive(Record)]
struct Glaze {
    name: String,
}

#[derive(Record)]
struct Piece {
    #[record(own_key)]
    id: Uuid,
    stage: Stage,
    before: Stage,
    grams: Option<u32>,
    width: f64,
    sold: bool,
    photo: Vec<u8>,
    thrown_on: jiff::civil::Date,
    seen_at: jiff::Timestamp,
    dried: SignedDuration,
    #[record(json)]
    tags: Vec<String>,
    glaze: Option<Key<Glaze>>,
    remarks: String,
}

const READER: &str = r#"
import sqlite3, sys
file = sqlite3.connect(f"file:{sys.argv[1]}?mode=ro", uri=True)
show = lambda rows: print("\n".join(repr(row) for row in rows))
show(file.execute("pragma application_id").fetchall() + file.execute("pragma user_version").fetchall())
show(file.execute("select name, strict from pragma_table_list where schema = 'main' and name not like 'sqlite%' order by name"))
show(file.execute("select piece.*, glaze.name from piece join glaze on piece.glaze = glaze.key"))
show(file.execute("select name, value from velvet_about where name in ('app', 'format')"))
show(file.execute("pragma integrity_check").fetchall() + file.execute("pragma foreign_key_check").fetchall())
"#;

const READ: &str = r#"(1447326327,)
(1,)
('glaze', 1)
('piece', 1)
('velvet_about', 1)
('velvet_sessions', 1)
('velvet_versions', 1)
(1, '67e55044-10b1-426f-9247-bb680e5fe0c8', 'once fired', 'thrown', None, 21.5, 1, b'\x89\x00PNG', '2025-03-08', '2025-03-08T13:30:00.000000000Z', 5400000000000, '["blue","for \\"Ada\\""]', 1, 'größer als gedacht', 'Celadon')
('app', 'kilnbook')
('format', '1')
('ok',)
"#;

#[test]
fn a_reader_that_is_not_ours_sees_typed_and_readable_values() {
    let (_folder, path) = folder();
    let drawer = Drawer::open(&path, Schema::new("kilnbook").record::<Piece>().record::<Glaze>()).unwrap();
    let glaze = drawer.insert(Glaze { name: "Celadon".into() }).unwrap();
    let piece = Piece {
        id: "67e55044-10b1-426f-9247-bb680e5fe0c8".parse().unwrap(),
        stage: Stage::Bisque,
        before: Stage::Thrown,
        grams: None,
        width: 21.5,
        sold: true,
        photo: b"\x89\0PNG".to_vec(),
        thrown_on: jiff::civil::date(2025, 3, 8),
        seen_at: "2025-03-08T14:30:00+01:00".parse().unwrap(),
        dried: SignedDuration::from_mins(90),
        tags: vec!["blue".into(), "for \"Ada\"".into()],
        glaze: Some(glaze.key()),
        remarks: "größer als gedacht".into(),
    };
    drawer.insert(piece).unwrap();
    drawer.close().unwrap();
    let output = Command::new("python3").args(["-c", READER]).arg(&path).output().expect("this test needs python3");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(String::from_utf8(output.stdout).unwrap(), READ);
}
