//! Recording versions on the developer's machine: a real test run, with and without `VELVET_HISTORY`.

use crate::common;
use common::versions::{records, split_glazes};
use std::fs;
use std::path::Path;
use std::process::Command;
use velvet_core::evolve::History;
use velvet_drawer::{Drawer, Record, Schema, testing};

const TYPES: &str = "VELVET_TEST_TYPES";
const FILE: &str = "VELVET_TEST_FILE";
/// Another file that the schema names as its history, or none where it does not exist.
const CARRIED: &str = "VELVET_TEST_CARRIED";

/// The third version by a developer who said nothing about where its columns come from.
#[derive(Record)]
struct Piece {
    #[record(own_key)]
    mark: String,
    weight: Option<f64>,
    #[record(indexed)]
    glaze: u32,
    sketch: Vec<u8>,
    potter: String,
}

/// The third version, where it is said how weights become grams: wrongly at first, and then corrected.
mod corrected {
    use velvet_drawer::{Record, Schema};

    macro_rules! piece {
        ($module:ident, $fill:literal) => {
            #[allow(dead_code, reason = "only its schema is recorded")]
            mod $module {
                #[derive(velvet_drawer::Record)]
                pub(crate) struct Piece {
                    #[record(own_key)]
                    mark: String,
                    #[record(was = "wt", fill = $fill)]
                    grams: Option<u32>,
                    #[record(indexed)]
                    glaze: String,
                    sketch: Vec<u8>,
                }
            }
        };
    }
    piece!(at_first, "round(gramms * 1000)");
    piece!(then, "round(grams * 1000)");

    pub(crate) fn schema(then: bool) -> Schema {
        fn of<T: Record>() -> Schema {
            Schema::new("kilnbook").record::<T>().record::<super::common::versions::v1::Photo>()
        }
        if then { of::<then::Piece>() } else { of::<at_first::Piece>() }
    }
}

/// The test that a developer has; it does nothing where this is run as an ordinary test.
#[test]
fn the_schema_is_recorded() {
    let (Ok(types), Ok(file)) = (std::env::var(TYPES), std::env::var(FILE)) else { return };
    let schema = match types.as_str() {
        "asks" => Schema::new("kilnbook").record::<Piece>(),
        "wrong fill" => corrected::schema(false),
        "right fill" => corrected::schema(true),
        nested if nested.starts_with("nested") => nested::schema(nested),
        "3" => records(3).code("split_glazes", split_glazes),
        version => records(version.parse().unwrap()),
    };
    // As `include_str!` has it, once there is one.
    let schema =
        match std::env::var(CARRIED).ok().or_else(|| Some(file.clone())).and_then(|path| fs::read_to_string(path).ok())
        {
            Some(text) => schema.history(text.leak()),
            None => schema,
        };
    testing::history_is_current(&schema, file);
}

/// Runs that test, and says whether it passed and what it printed.
fn run(types: &str, file: &Path, mode: &str) -> (bool, String) {
    let output = test_of(types, file, mode).output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
}

fn test_of(types: &str, file: &Path, mode: &str) -> Command {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "recording::the_schema_is_recorded", "--nocapture"]).env(TYPES, types).env(FILE, file);
    command.env_remove("VELVET_HISTORY");
    if !mode.is_empty() {
        command.env("VELVET_HISTORY", mode);
    }
    command
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
fn a_schema_that_carries_no_history_or_an_older_one_fails_before_anything_is_recorded() {
    let folder = tempfile::tempdir().unwrap();
    let (file, older) = (folder.path().join("kilnbook.history.json"), folder.path().join("older.json"));
    passes("1", &file, "record");
    passes("1", &file, "release");
    fs::copy(&file, &older).unwrap();
    passes("2", &file, "record");
    let recorded = fs::read(&file).unwrap();
    for (carried, said) in [
        (
            folder.path().join("none"),
            "The schema does not name its history, so files of earlier versions would be refused",
        ),
        (older, "The schema carries another history than"),
    ] {
        for mode in ["", "record", "release"] {
            let mut command = test_of("2", &file, mode);
            let output = command.env(CARRIED, &carried).output().unwrap();
            let words = String::from_utf8_lossy(&output.stderr);
            assert!(!output.status.success() && words.contains(said), "{words}");
            assert!(words.contains(".history(include_str!(\"…/kilnbook.history.json\"))"), "{words}");
        }
    }
    assert!(fs::read(&file).unwrap() == recorded);
    passes("2", &file, "");
}

#[test]
fn versions_are_recorded_amended_released_and_asked_about() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("kilnbook.history.json");
    fails("1", &file, &["no version was recorded. To record version 1, run: VELVET_HISTORY=record cargo test"]);
    assert!(passes("1", &file, "record").contains("Recorded version 1"));
    assert_eq!(passes("1", &file, "").matches("ecorded").count(), 0);

    let added = "  - create table `shelf` (name)\n  - add column `piece.shelf`: a link to shelf, optional\n  - add column `piece.copies`";
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
            "is the new `piece.weight` the `wt`, or the `shelf`, or the `copies` of before? Then write #[record(was = \"wt\")] on the field",
            "how do the values of `piece.glaze` become u32? They are stored in another form. Write #[record(fill = \"…\")]",
            "what do rows that exist get in the new `piece.potter`? Write #[record(default = …)]",
            "drop table `shelf`, with everything stored in it",
        ],
    );
    assert!(!run("asks", &file, "record").0, "what must be asked is not recorded");

    fails(
        "3",
        &file,
        &[
            "rename column `pot.wt` to `grams`",
            "filled with round(grams * 1000)",
            // In the order in which they run.
            "run the app's code `split_glazes`\n  - change column `pot.grams`",
        ],
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
fn an_expression_that_is_corrected_before_a_release_is_recorded_again() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("kilnbook.history.json");
    passes("1", &file, "record");
    passes("1", &file, "release");
    passes("wrong fill", &file, "record");
    passes("wrong fill", &file, "");
    let both = [
        "This would be version 2 again",
        "filled with round(grams * 1000)",
        "In their place it has until now:",
        "filled with round(gramms * 1000)",
        "VELVET_HISTORY=record cargo test recording::the_schema_is_recorded",
    ];
    fails("right fill", &file, &both);

    // A phone that has the wrong one says where it comes from.
    let wrong: &'static str = Box::leak(fs::read_to_string(&file).unwrap().into_boxed_str());
    let (_folder, path) = common::folder();
    let drawer = Drawer::open(&path, common::versions::schema(1)).unwrap();
    drawer
        .insert(common::versions::v1::Piece { mark: "K-1".into(), wt: Some(0.5), glaze: String::new(), sketch: vec![] })
        .unwrap();
    drawer.close().unwrap();
    let error = Drawer::open(&path, corrected::schema(false).history(wrong)).unwrap_err().to_string();
    assert!(error.contains(") of version 2 of the history file: ") && error.contains("gramms"), "{error}");

    let said = passes("right fill", &file, "record");
    assert!(said.contains("Recorded in") && said.contains("run cargo test again"), "{said}");
    passes("right fill", &file, "");
    passes("right fill", &file, "release");
    passes("right fill", &file, "");
}

#[test]
fn rows_of_the_apps_own_are_kept_for_each_version_and_upgraded_as_its_types() {
    let folder = tempfile::tempdir().unwrap();
    let (file, samples) = (folder.path().join("history.json"), folder.path().join("samples"));
    let upgrades = |version: &str, mode: &str| {
        let arguments =
            [("VELVET_TEST_TYPES", version), ("VELVET_TEST_FILE", file.to_str().unwrap()), ("VELVET_HISTORY", mode)];
        let mut command = Command::new(std::env::current_exe().unwrap());
        command.args(["--exact", "recording::nested::files_of_every_version_open", "--nocapture"]).envs(arguments);
        let output = command.output().unwrap();
        (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let recorded = |version: &str, mode: &str| {
        let (passed, said) = run(version, &file, mode);
        assert!(passed, "{said}");
    };
    recorded("nested 1", "record");
    let (passed, said) = upgrades("nested 1", "");
    assert!(
        !passed && said.contains("the rows of version 1 are not kept. To keep them, run: VELVET_HISTORY=record"),
        "{said}"
    );
    let (passed, said) = upgrades("nested 1", "record");
    assert!(passed && said.contains("Kept the rows of version 1"), "{said}");
    let kept = fs::read_to_string(samples.join("version-1.jsonl")).unwrap();
    assert!(kept.contains(r#""curve":{"celsius":[20.5]}"#), "{kept}");
    assert!(upgrades("nested 1", "").0);
    recorded("nested 1", "release");

    // A part that was added without a default cannot be read from what is stored, though the structure is the same.
    recorded("nested grown", "");
    let (passed, said) = upgrades("nested grown", "");
    assert!(
        !passed && said.contains("A file of version 1 does not come out right: cannot read firing 1: in firing.curve"),
        "{said}"
    );
    assert!(said.contains("missing field `minutes`"), "{said}");
    assert!(upgrades("nested defaulted", "").0);
    // Text that becomes a number is tried with the app's own text.
    // One run records the version and keeps its rows, though its tests were built with the history as it was.
    let (passed, said) = upgrades("nested number", "record");
    assert!(passed && said.contains("Kept the rows of version 2"), "{said}");
    recorded("nested number", "record");
    let (passed, said) = upgrades("nested number", "");
    assert!(passed, "{said}");
    fs::remove_file(samples.join("version-1.jsonl")).unwrap();
    let (passed, said) = upgrades("nested number", "");
    assert!(!passed && said.contains("no values can be made up for `firing.curve`"), "{said}");
    assert_eq!(fs::read_to_string(samples.join("version-2.jsonl")).unwrap(), kept.replace("\"12 kg\"", "12"));
}

/// An app with nested values, as its types grow.
mod nested {
    use serde::{Deserialize, Serialize};
    use velvet_drawer::{Error, Record, Schema, Tx, testing};

    macro_rules! firing {
        ($module:ident, $($more:tt)*) => {
            #[allow(dead_code, clippy::needless_update, reason = "not every form inserts, or has more")]
            pub(crate) mod $module {
                use super::*;
                #[derive(Serialize, Deserialize, Default)]
                pub(crate) struct Curve {
                    pub(crate) celsius: Vec<f64>,
                    $($more)*
                }
                #[derive(Record)]
                pub(crate) struct Firing {
                    #[record(json)]
                    pub(crate) curve: Curve,
                    pub(crate) wood: String,
                }
                pub(crate) fn insert(tx: &Tx<'_>) -> Result<(), Error> {
                    let curve = Curve { celsius: vec![20.5], ..Default::default() };
                    tx.insert(Firing { curve, wood: "12 kg".into() }).map(drop)
                }
            }
        };
    }
    firing!(one,);
    firing!(grown, #[serde(skip_serializing)] pub(crate) minutes: u32,);
    firing!(defaulted, #[serde(default)] pub(crate) minutes: u32,);

    #[derive(Record)]
    pub(crate) struct Firing {
        #[record(json)]
        pub(crate) curve: one::Curve,
        #[record(fill = "CAST(replace(wood, ' kg', '') AS INTEGER) / (wood LIKE '% kg')")]
        pub(crate) wood: u32,
    }

    pub(crate) fn schema(types: &str) -> Schema {
        let schema = Schema::new("firings");
        match types {
            "nested 1" => schema.record::<one::Firing>(),
            "nested grown" => schema.record::<grown::Firing>(),
            "nested defaulted" => schema.record::<defaulted::Firing>(),
            _ => schema.record::<Firing>(),
        }
    }

    #[test]
    fn files_of_every_version_open() {
        let (Ok(types), Ok(file)) = (std::env::var(super::TYPES), std::env::var(super::FILE)) else { return };
        let history: &'static str = Box::leak(std::fs::read_to_string(&file).unwrap().into_boxed_str());
        let schema = schema(&types).history(history);
        let insert = |tx: &Tx<'_>| match types.as_str() {
            "nested number" => tx.insert(Firing { curve: one::Curve { celsius: vec![20.5] }, wood: 12 }).map(drop),
            _ => one::insert(tx),
        };
        testing::Upgrades::of(&schema).samples(std::path::Path::new(&file).with_file_name("samples"), insert).check();
    }
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
