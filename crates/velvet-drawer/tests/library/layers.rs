//! Modules know only those below them, and only the engine speaks to the database.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

/// The top modules of the library, from the lowest: each may know those before it.
const DRAWER: &str = "beside cancel clock outcome progress ui_thread running unfinished temporary engine error events place space grid new_file attachment facts keys encryption sealing schema about searching sessions trails upgrading \
    drawer live reading writing named settings attachments outside sql changes copying opening inspect testing";

/// The top modules of the core, from the lowest.
const CORE: &str = "hex value name header wal b_tree letters marked suggest search structure hints show fingerprint physical draft \
    compare exchange sql_text expansion sealing file_cipher keys column_type fragment argument assignment condition record_statements stamp record nul named_value settings key stored stored_form \
    edit collation sort_key list order list_place column outside_file fits pick sealed_column excerpt field statement evolution";

/// What only the engine may say, in code.
const OF_THE_ENGINE: [&str; 7] =
    ["rusqlite", "PRAGMA ", "pragma_", "sqlite_schema", "\"BEGIN", "\"COMMIT", "\"ROLLBACK"];

#[test]
fn modules_know_only_those_below_them() {
    let drawer = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut wrong = Vec::new();
    for (source, layers) in [(drawer.join("src"), DRAWER), (drawer.join("../velvet-core/src"), CORE)] {
        let layers: Vec<&str> = layers.split_whitespace().collect();
        for file in files(&source).into_iter().filter(|f| f != Path::new("lib.rs")) {
            let top = top_module(&file);
            let Some(own) = layers.iter().position(|m| *m == top) else {
                wrong.push(format!("{} has no place in the layers", file.display()));
                continue;
            };
            let known = named(&code(&source.join(&file)));
            let below = |m: &&String| layers[..=own].contains(&m.as_str());
            let others = known.iter().filter(|m| !below(m));
            wrong.extend(others.map(|m| format!("{} names `{m}`, which is not below `{top}`", file.display())));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.join("\n"));
}

#[test]
fn only_the_engine_speaks_to_the_database() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let others = files(&source).into_iter().filter(|file| top_module(file) != "engine");
    let says = others.filter_map(|file| {
        let text = code(&source.join(&file));
        OF_THE_ENGINE.iter().find(|word| text.contains(*word)).map(|word| format!("{} says `{word}`", file.display()))
    });
    assert_eq!(says.collect::<Vec<_>>(), [""; 0]);
}

#[test]
fn the_map_of_the_code_names_what_is_there() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut there = BTreeSet::new();
    for member in fs::read_dir(crates).unwrap().map(|entry| entry.unwrap().path().join("src")) {
        for file in files(&member) {
            there.extend(file.ancestors().filter_map(|p| p.file_name()).map(|n| n.to_string_lossy().into_owned()));
        }
    }
    let map = fs::read_to_string(crates.join("../docs/architecture.md")).unwrap();
    for row in map.lines().filter(|line| line.starts_with("| ") && line.contains("src/")) {
        for path in row.split('`').skip(1).step_by(2).filter(|path| path.ends_with(".rs") || path.ends_with('/')) {
            let name = Path::new(path).file_name().unwrap().to_string_lossy();
            assert!(there.contains(&*name), "{path} is not there: {row}");
        }
    }
}

/// All files of Rust below a folder, by their paths from there.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    let mut ahead = vec![folder.to_owned()];
    while let Some(next) = ahead.pop() {
        for entry in fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => ahead.push(path),
                false if path.extension().is_some_and(|e| e == "rs") => {
                    all.push(path.strip_prefix(folder).unwrap().to_owned());
                }
                false => {}
            }
        }
    }
    all
}

/// The lines of a file that are code, without its tests.
fn code(path: &Path) -> String {
    let text = fs::read_to_string(path).unwrap();
    let text = text.split("#[cfg(test)]").next().unwrap_or_default();
    let text = text.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
    // In a macro that is exported, names of the crate are reached through its root.
    text.replace("$crate::", "")
}

fn top_module(file: &Path) -> String {
    let first = file.components().next().unwrap().as_os_str().to_string_lossy().into_owned();
    first.trim_end_matches(".rs").to_owned()
}

/// The modules of the same crate that are named: `crate::engine`, `crate::{engine, error::Error}`.
fn named(text: &str) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for rest in text.split("crate::").skip(1) {
        let word = |text: &str| text.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect::<String>();
        match rest.strip_prefix('{') {
            None => drop(all.insert(word(rest))),
            Some(list) => {
                let (mut depth, mut begins) = (0, true);
                for (at, c) in list.char_indices() {
                    match c {
                        '{' => depth += 1,
                        '}' if depth == 0 => break,
                        '}' => depth -= 1,
                        ',' if depth == 0 => begins = true,
                        c if begins && !c.is_whitespace() => {
                            all.insert(word(&list[at..]));
                            begins = false;
                        }
                        _ => {}
                    }
                }
            }
        }
    }
    all
}
