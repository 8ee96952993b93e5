//! Texts that are read: whatever they are, nothing panics, and what is refused writes nothing.

use crate::model::{self, Model, Piece};
use crate::trial::{Trial, quietly};
use crate::versions;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::Duration;
use velvet_core::evolve::History;
use velvet_drawer::inspect::{Exchange, File, Limits, Page, import, import_sql};
use velvet_drawer::{Drawer, Position};

/// Pieces of which texts are made, beside what is cut of whole ones.
const PIECES: [&str; 34] = [
    "{",
    "}",
    "[",
    "]",
    "\"",
    ":",
    ",",
    "\\",
    "'",
    "--",
    "/*",
    "*/",
    ";",
    "(",
    ")",
    "null",
    "true",
    "-1",
    "1e999",
    "9223372036854775808",
    "\u{0}",
    "\u{1b}[2J",
    "\u{202e}",
    "é",
    "陶",
    "\n",
    "\\u0000",
    "SELECT",
    "FROM piece",
    "WHERE",
    "OR 1",
    "{\"table\":\"piece\",\"columns\":{\"mark\":\"X\"}}",
    "\\x00",
    "\\N",
];

pub(crate) fn run(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let path = folder.path().join("fire.drawer");
    model::make(&path, 3, 40).expect("a drawer");
    let drawer = Drawer::open(&path, model::schema()).expect("a drawer");
    let mut lines = Vec::new();
    drawer.changes_since(Position::START).write_json_lines(&mut lines).expect("changes");
    drawer.close().expect("closed");
    let export = |form| {
        let mut out = Vec::new();
        let file = File::open(&path).expect("the file");
        match form {
            Exchange::Csv => file.export(&file.table("piece").expect("a table"), form, &mut out),
            form => file.export_all(form, &mut out),
        }
        .expect("exported");
        String::from_utf8_lossy(&out).into_owned()
    };
    let whole = [
        versions::history(3).to_owned(),
        String::from_utf8_lossy(&lines).into_owned(),
        export(Exchange::JsonLines),
        export(Exchange::Csv),
        export(Exchange::SqlText),
        "grams > 5 AND mark LIKE 'K%' OR remarks IS NULL".to_owned(),
    ];
    quietly();
    while let Some(mut chance) = trial.next() {
        let which = chance.usize(..whole.len());
        let text = changed(&whole[which], &mut chance);
        let before = Model::read(&path).expect("what is there");
        let new = folder.path().join("new");
        let limits = Limits { within: Duration::from_millis(200), ..Limits::default() };
        let refused = catch_unwind(AssertUnwindSafe(|| match which {
            0 => History::parse(&text).is_err(),
            1 => {
                let drawer = Drawer::open(&path, model::schema()).expect("the drawer");
                let refused = drawer.apply_changes(text.as_bytes()).run().is_err();
                // What was taken in is no matter here.
                if refused {
                    drop(drawer.close())
                } else {
                    drop(drawer)
                }
                refused
            }
            2 => import(&path, None, Exchange::JsonLines, &mut text.as_bytes(), &limits).is_err(),
            3 => import(&path, Some("piece"), Exchange::Csv, &mut text.as_bytes(), &limits).is_err(),
            4 => {
                let _ = std::fs::remove_file(&new);
                let refused = import_sql(&new, &text, &limits).is_err();
                assert!(!(refused && new.exists()), "a file is left");
                refused
            }
            _ => {
                let file = File::open_within(&path, &limits).expect("the file");
                let table = file.table("piece").expect("a table");
                let page = Page { filter: Some(text.clone()), ..Page::default() };
                let _ = file.rows(&table, &page, &mut |_| Ok(()));
                let _ = file.search(&text, &[], &mut |_| Ok(true));
                let _ = file.query(&text, &mut |_| Ok(()), &mut |_| Ok(()));
                let drawer = Drawer::open(&path, model::schema()).expect("the drawer");
                drawer.records::<Piece>().search(&text).collect().expect("whatever is typed is no error");
                true
            }
        }));
        let name = ["history", "changes", "lines", "values", "statements", "conditions"][which];
        match refused {
            Err(_) => trial.found(format!("{name}: {text:?}")),
            Ok(true) if Model::read(&path).is_ok_and(|after| after != before) => {
                trial.found(format!("{name} was refused and wrote: {text:?}"));
            }
            Ok(is_refused) => trial.count(if is_refused { "refused" } else { "taken" }, 1),
        }
    }
    drop(std::panic::take_hook());
}

/// A text in which something is cut, doubled or put in between.
fn changed(text: &str, chance: &mut fastrand::Rng) -> String {
    let mut characters: Vec<char> = text.chars().collect();
    if chance.u32(..8) == 0 {
        characters.clear();
    }
    for _ in 0..chance.usize(1..8) {
        let at = chance.usize(..=characters.len());
        let end = (at + chance.usize(..40)).min(characters.len());
        match chance.u32(..5) {
            0 => drop(characters.drain(at..end)),
            1 => {
                let part: Vec<char> = characters[at..end].to_vec();
                characters.splice(at..at, part);
            }
            2 => characters.truncate(at.max(1)),
            _ => {
                let piece = chance.choice(&PIECES).unwrap_or(&"");
                characters.splice(at..at, piece.chars());
            }
        }
    }
    characters.into_iter().collect()
}
