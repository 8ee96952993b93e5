//! Recording versions on the developer's machine: a real test run, with and without `VELVET_HISTORY`.

mod common;

use common::versions::{records, split_glazes};
use std::fs;
use std::path::Path;
use std::process::Command;
use velvet_core::evolution::History;
use velvet_drawer::{Record, Schema, testing};

const TYPES: &str = "VELVET_TEST_TYPES";
const FILE: &str = "VELVET_TEST_FILE";

/// The third version by a developer who said nothing about where its columns come from.
#[derive(Record)]
struct Piece {
    #[record(key)]
    mark: String,
    weight: Option<f64>,
    #[record(indexed)]
    glaze: u32,
    sketch: Vec<u8>,
    potter: String,
}

/// The test that a developer has; it does nothing where this is run as an ordinary test.
#[test]
fn the_schema_is_recorded() {
    let (Ok(types), Ok(file)) = (std::env::var(TYPES), std::env::var(FILE)) else { return };
    let schema = match types.as_str() {
        "asks" => Schema::new("kilnbook").record::<Piece>(),
        "3" => records(3).code("split_glazes", split_glazes),
        version => records(version.parse().unwrap()),
    };
    testing::history_is_current(&schema, file);
}

/// Runs that test, and says whether it passed and what it printed.
fn run(types: &str, file: &Path, mode: &str) -> (bool, String) {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "the_schema_is_recorded", "--nocapture"]).env(TYPES, types).env(FILE, file);
    command.env_remove("VELVET_HISTORY");
    if !mode.is_empty() {
        command.env("VELVET_HISTORY", mode);
    }
    let output = command.output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
}

#[track_caller]
fn passes(types: &str, file: &Path, mode: &str) -> String {
    let (passed, said) = run(types, file, mode);
    assert!(passed, "{said}");
    said
}

#[track_caller]
fn fails(types: &str, file: &Path, words: &[&str]) {
    let before = fs::read(file).ok();
    let (passed, said) = run(types, file, "");
    assert!(!passed, "{said}");
    for word in words {
        assert!(said.contains(word), "{word} is missing in:\n{said}");
    }
    assert!(before == fs::read(file).ok(), "only recording writes");
}

#[test]
fn versions_are_recorded_amended_released_and_asked_about() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("kilnbook.history.json");
    fails("1", &file, &["no version was recorded. To record version 1, run: VELVET_HISTORY=record cargo test"]);
    assert!(passes("1", &file, "record").contains("Recorded version 1"));
    assert_eq!(passes("1", &file, "").matches("ecorded").count(), 0);

    let added = "  - `piece.shelf` is new: a link to shelf, optional\n  - `piece.copies` is new: u32, by default 1\n  - the table";
    fails("2", &file, &["This would be version 1 again, which is not released:\n"]);
    passes("1", &file, "release");
    fails(
        "2",
        &file,
        &["This would be version 2, which is new:\n", added, "To record it, run: VELVET_HISTORY=record cargo test"],
    );
    let said = passes("2", &file, "record");
    assert!(said.contains("Read the diff before you check it in"), "{said}");
    passes("2", &file, "");
    passes("2", &file, "release");

    fails(
        "asks",
        &file,
        &[
            "Before it can be recorded, say:\n",
            "is the new `piece.weight` the `wt` of before? Then write #[record(was = \"wt\")] on the field",
            "how do the values of `piece.glaze` become u32? They are stored in another form. Write #[record(fill = \"…\")]",
            "what do rows that exist get in the new `piece.potter`? Write #[record(default = …)]",
            "the table `shelf` is dropped, with what is stored in it",
        ],
    );
    assert!(!run("asks", &file, "record").0, "what must be asked is not recorded");

    fails(
        "3",
        &file,
        &["`pot.wt` is called `grams`", "filled with round(grams * 1000)", "the code `split_glazes` runs"],
    );
    passes("3", &file, "record");
    passes("3", &file, "");
    let history = History::parse(&fs::read_to_string(&file).unwrap()).unwrap();
    let versions: Vec<_> = history.versions.iter().map(|v| (v.version, v.released)).collect();
    assert_eq!(versions, [(3, false), (2, true), (1, true)]);
    fails("2", &file, &["runs the code `split_glazes`, which is not in the schema"]);

    let (passed, said) = run("3", &file, "recrod");
    assert!(!passed && said.contains("VELVET_HISTORY=recrod is not known: write `record` or `release`"), "{said}");
    fs::write(&file, fs::read_to_string(&file).unwrap().replacen("\"newest\": 3", "\"newest\": 4", 1)).unwrap();
    fails("3", &file, &["its newest version is 4, but the versions listed are [3, 2, 1]"]);
}

#[test]
fn a_file_that_is_shipped_with_the_app_must_fit() {
    let (_folder, path) = common::folder();
    let schema = common::versions::schema;
    velvet_drawer::Drawer::open(&path, schema(1)).unwrap().close().unwrap();
    testing::shipped_file_fits(&schema(1), &path);
    testing::shipped_file_fits(&schema(3), &path);
    for (schema, path) in
        [(Schema::new("weavers").record::<Piece>(), path.clone()), (schema(1), path.with_file_name("gone"))]
    {
        let fits =
            std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| testing::shipped_file_fits(&schema, &path)));
        let why = *fits.unwrap_err().downcast::<String>().unwrap();
        assert!(why.contains("does not fit: cannot") || why.contains("does not fit: it cannot be read"), "{why}");
    }
}
