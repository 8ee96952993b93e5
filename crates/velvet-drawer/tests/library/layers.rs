//! Modules know only those below them, and only the engine speaks to the database.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The folders of the library, from the lowest: each may know those before it.
const DRAWER: &str = "device work engine error file events sealing schema bookkeeping search evolve drawer live query records attachments opening sql named \
    exchange inspect testing";

/// The folders of the core, from the lowest.
const CORE: &str = "value schema exchange file sealing column_type search records query named statement evolve live";

/// What only the engine may say, in code.
const OF_THE_ENGINE: [&str; 7] =
    ["rusqlite", "PRAGMA ", "pragma_", "sqlite_schema", "\"BEGIN", "\"COMMIT", "\"ROLLBACK"];

#[test]
fn folders_know_only_those_below_them() {
    let drawer = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut wrong = Vec::new();
    for (source, layers) in [(drawer.join("src"), DRAWER), (drawer.join("../velvet-core/src"), CORE)] {
        let layers: Vec<&str> = layers.split_whitespace().collect();
        let files: Vec<(PathBuf, String)> = files(&source)
            .into_iter()
            .filter(|f| f != Path::new("lib.rs"))
            .map(|f| (f.clone(), code(&source.join(&f))))
            .collect();
        let mut methods = BTreeMap::<_, BTreeSet<String>>::new();
        for (file, text) in &files {
            for method in blocks(text).into_iter().filter(|b| b.is_inherent).flat_map(|b| b.methods()) {
                methods.entry(method).or_default().insert(top_module(file));
            }
        }
        for (file, text) in &files {
            let top = top_module(file);
            let Some(own) = layers.iter().position(|m| *m == top) else {
                wrong.push(format!("{} has no place in the layers", file.display()));
                continue;
            };
            let is_above = |m: &String| !layers[..=own].contains(&m.as_str());
            let above = named(text, "crate::").into_iter().filter(is_above);
            wrong.extend(above.map(|m| format!("{} names `{m}`, which is not below `{top}`", file.display())));
            for call in blocks(text).iter().flat_map(Block::calls) {
                if methods.get(&call).is_some_and(|places| places.iter().all(is_above)) {
                    wrong.push(format!(
                        "{} calls `{}::{}`, which is not below `{top}`",
                        file.display(),
                        call.0,
                        call.1
                    ));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.join("\n"));
}

#[test]
fn no_two_files_of_a_folder_need_each_other() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut circles = Vec::new();
    for member in ["velvet-core", "velvet-derive", "velvet-drawer", "velvet-cli", "velvet-demo", "velvet-fire"] {
        let source = crates.join(member).join("src");
        // By folder: the files and folders in it, and which of the others each names. What the folder itself hands on belongs to the folder.
        let mut folders = BTreeMap::<Vec<String>, BTreeMap<String, BTreeSet<String>>>::new();
        for file in files(&source) {
            let mut module: Vec<String> =
                file.with_extension("").iter().map(|part| part.to_string_lossy().into_owned()).collect();
            module.retain(|part| !matches!(part.as_str(), "mod" | "lib" | "main"));
            let text = code(&source.join(&file));
            for depth in 0..module.len() {
                let from_root = ["crate"].into_iter().chain(module[..depth].iter().map(String::as_str));
                let mut known = named(&text, &from_root.map(|part| format!("{part}::")).collect::<String>());
                known.extend(named(&text, &"super::".repeat(module.len() - depth)));
                folders
                    .entry(module[..depth].to_vec())
                    .or_default()
                    .entry(module[depth].clone())
                    .or_default()
                    .extend(known);
            }
        }
        for (folder, mut names) in folders {
            let there: BTreeSet<String> = names.keys().cloned().collect();
            names.iter_mut().for_each(|(own, known)| known.retain(|name| name != own && there.contains(name)));
            // What knows none of those that are left is no part of a circle.
            while let Some(free) = names.iter().find(|(_, known)| known.is_empty()).map(|(name, _)| name.clone()) {
                names.remove(&free);
                names.values_mut().for_each(|known| known.retain(|name| *name != free));
            }
            if !names.is_empty() {
                circles.push(format!("{member}, {}: {names:?}", folder.join("::")));
            }
        }
    }
    assert!(circles.is_empty(), "\n{}", circles.join("\n"));
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
    for member in fs::read_dir(crates).unwrap().map(|entry| entry.unwrap().path()) {
        for file in
            ["src", "tests"].map(|part| member.join(part)).iter().filter(|part| part.is_dir()).flat_map(|p| files(p))
        {
            there.extend(file.ancestors().filter_map(|p| p.file_name()).map(|n| n.to_string_lossy().into_owned()));
        }
        there.insert("src".into());
    }
    let text = fs::read_to_string(crates.join("../docs/architecture.md")).unwrap();
    let (_, map) = text.split_once("## Where to change what").unwrap();
    let rows: Vec<&str> =
        map.lines().take_while(|line| *line != "## Decisions").filter(|l| l.starts_with("| ")).collect();
    for row in &rows {
        for path in row.split('`').skip(1).step_by(2).filter(|path| path.ends_with(".rs") || path.ends_with('/')) {
            let name = Path::new(path).file_name().unwrap().to_string_lossy();
            assert!(there.contains(&*name), "{path} is not there: {row}");
        }
    }
    for folder in DRAWER
        .split_whitespace()
        .chain(CORE.split_whitespace())
        .filter(|f| !["error", "events", "device", "value"].contains(f))
    {
        assert!(rows.iter().any(|row| row.contains(&format!("`{folder}/"))), "no row of the map leads to {folder}");
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

/// A block of functions of a type.
struct Block<'t> {
    of: String,
    is_inherent: bool,
    text: &'t str,
}

impl Block<'_> {
    /// The type and name of each function in it.
    fn methods(&self) -> Vec<(String, String)> {
        let functions = self.text.lines().filter(|line| line.starts_with("    ") && !line.starts_with("     "));
        let names = functions.filter_map(|line| line.split_once("fn ").map(|(_, rest)| word(rest)));
        names.map(|name| (self.of.clone(), name)).collect()
    }

    /// The type and name of each function that is called on the value itself.
    fn calls(&self) -> Vec<(String, String)> {
        let called = self.text.split("self.").skip(1).filter(|rest| rest[word(rest).len()..].starts_with('('));
        called.map(|rest| (self.of.clone(), word(rest))).collect()
    }
}

fn blocks(text: &str) -> Vec<Block<'_>> {
    let begins = text.match_indices("\nimpl").map(|(at, _)| at + 1);
    let all = begins.filter_map(|at| {
        let (head, rest) = text[at..].split_once("{\n")?;
        let head = head.replace(" for<", " ");
        let of = head.split(" for ").last()?;
        // Past the parameters of the block itself.
        let of = of.strip_prefix("impl").map_or(of, |of| of.split_once("> ").map_or(of, |(_, of)| of));
        let path = of.trim().split(['<', ' ']).next()?;
        let of = path.rsplit("::").next()?.to_owned();
        Some(Block { of, is_inherent: !head.contains(" for "), text: rest.split("\n}").next()? })
    });
    all.collect()
}

fn word(text: &str) -> String {
    text.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect()
}

/// What is named right after a path: with `crate::`, `engine` and `error` in `crate::engine` and `crate::{engine, error::Error}`.
fn named(text: &str, path: &str) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for (at, _) in text.match_indices(path).filter(|(at, _)| !text[..*at].ends_with([':', '_'])) {
        let rest = &text[at + path.len()..];
        match rest.strip_prefix('{') {
            None => all.extend([word(rest)]),
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
