//! Structures as data: their statements, their fingerprint, what is wrong with them and how they differ.

use velvet_core::evolve::create;
use velvet_core::schema::fingerprint;
use velvet_core::schema::structure::{ColumnDefinition, Index, Kind, OnDelete, Structure, Table};
use velvet_core::value::name::{nearest, quoted};

fn column(name: &str, kind: Kind) -> ColumnDefinition {
    let on_delete = matches!(kind, Kind::Link { .. }).then_some(OnDelete::Clear);
    ColumnDefinition {
        name: name.into(),
        optional: on_delete.is_some(),
        kind,
        default: None,
        on_delete,
        private: false,
        remove_unlinked: false,
        ignore_case: false,
    }
}

fn studio() -> Structure {
    let mut grams = column("grams", Kind::U32);
    grams.default = Some("500".into());
    let mark = Index { columns: vec!["mark".into()], unique: true };
    let columns = vec![column("mark", Kind::Text), grams, column("glaze", Kind::Link { table: "glaze".into() })];
    Structure {
        tables: vec![
            Table::new("piece", columns, Some("mark".into()), vec![mark]),
            Table::new("glaze", vec![column("name", Kind::Text)], None, vec![]),
        ],
    }
}

#[test]
fn statements_create_strict_tables_with_real_links_and_an_index_for_each() {
    assert_eq!(
        create(&studio()),
        [
            "CREATE TABLE \"piece\" (\n  \"key\" INTEGER PRIMARY KEY AUTOINCREMENT,\n  \"mark\" TEXT NOT NULL,\n  \
             \"grams\" INTEGER NOT NULL DEFAULT 500,\n  \"glaze\" INTEGER REFERENCES \"glaze\" (\"key\") ON DELETE SET NULL\n) STRICT",
            "CREATE TABLE \"glaze\" (\n  \"key\" INTEGER PRIMARY KEY AUTOINCREMENT,\n  \"name\" TEXT NOT NULL\n) STRICT",
            "CREATE UNIQUE INDEX \"piece.mark\" ON \"piece\" (\"mark\")",
            "CREATE INDEX \"piece.glaze\" ON \"piece\" (\"glaze\")",
        ]
    );
}

#[test]
fn a_structure_survives_its_json_and_keeps_its_fingerprint() {
    let json = serde_json::to_string(&studio()).unwrap();
    let back: Structure = serde_json::from_str(&json).unwrap();
    assert_eq!(back, studio());
    assert_eq!(fingerprint::of(&back), fingerprint::of(&studio()));
    // Files in the world hold this text: a change of it is a change of the file format.
    assert_eq!(fingerprint::of(&studio()), "4927975f7c2d2037");
    let mut other = studio();
    other.tables.reverse();
    other.tables[1].columns.reverse();
    assert_eq!(fingerprint::of(&other), fingerprint::of(&studio()));
    other.tables[1].columns[1].optional = true;
    assert_ne!(fingerprint::of(&other), fingerprint::of(&studio()));
}

#[test]
fn differences_are_told_in_words() {
    let mut found = studio();
    found.tables.remove(1);
    found.tables[0].columns[1] = column("grams", Kind::F64);
    found.tables[0].columns.remove(0);
    found.tables[0].columns.push(column("shelf", Kind::Text));
    found.tables[0].indexes.remove(0);
    assert_eq!(
        studio().differences(&found),
        [
            "`piece.mark` is declared but not in the file",
            "`piece.grams` is declared as u32, by default 500 but is f64 in the file",
            "`piece.shelf` is in the file but not declared",
            "the rule that no two records share `piece`(mark) is declared but not in the file",
            "the table `glaze` is declared but not in the file",
        ]
    );
    assert_eq!(studio().differences(&studio()), [""; 0]);
}

#[test]
fn links_that_lead_nowhere_and_names_used_twice_are_problems() {
    let mut broken = studio();
    broken.tables.remove(1);
    broken.tables.push(Table::new("Piece", vec![column("name", Kind::Text)], None, vec![]));
    let problems = broken.problems();
    assert!(
        problems[0].contains("`piece.glaze` links to the table `glaze`, which is not in the schema"),
        "{problems:?}"
    );
    assert!(problems[1].contains("two records are stored in the table `Piece`"), "{problems:?}");
    assert_eq!(studio().problems(), [""; 0]);
    let photo = column("photo", Kind::Link { table: "attachment".into() });
    let own_key = Some("mark".to_owned());
    let shared = Table::new("shot", vec![column("mark", Kind::Text), photo], own_key, vec![]).shared();
    let attachment = Table::new("attachment", vec![column("name", Kind::Text)], None, vec![]);
    let problems = Structure { tables: vec![shared, attachment] }.problems();
    assert!(problems[0].contains("`shot.photo` is shared and links to attachments, which stay"), "{problems:?}");
}

#[test]
fn names_stay_names_whatever_they_contain() {
    assert_eq!(quoted("a\"; drop table piece; --"), "\"a\"\"; drop table piece; --\"");
    assert_eq!(nearest("GLAZ", ["glaze", "piece"]), Some("glaze"));
}
