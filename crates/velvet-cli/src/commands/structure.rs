//! `velvet structure`: tables, columns, links and indexes; or how they compare with a history.

use super::{Opened, history, opened, say_left_out};
use crate::args::{self, Reader, StructureForm};
use crate::failure::{Failure, Verdict};
use crate::terminal::{self, QUIET, STRONG, WARNING};
use serde::Serialize;
use std::fmt::Write as _;
use std::io::Write;
use std::path::Path;
use velvet_core::exchange::show::{Shown, Tone, acts, escaped};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{ColumnStructure, File, Holds, IndexStructure, TableStructure};

pub(crate) fn run(arguments: &args::Structure) -> Result<Verdict, Failure> {
    let file = opened(&arguments.file, arguments.form.reader())?;
    if let Some(path) = &arguments.history {
        return match arguments.form {
            StructureForm::Text => against(&file, path),
            StructureForm::Json => against_as_json(&file, path),
            StructureForm::Sql | StructureForm::Diagram | StructureForm::Rust => {
                Err(Failure::new("a comparison with a history is text or JSON: leave out --as, or give --as json"))
            }
        };
    }
    let text = match arguments.form {
        StructureForm::Text => {
            write!(terminal::out(), "{}", text(&file.structure()?))?;
            say_left_out(&file, Reader::Person)?;
            return Ok(Verdict::Fine);
        }
        StructureForm::Json => {
            let tables = file.structure()?;
            file.report(Tables { tables })?;
            return Ok(Verdict::Fine);
        }
        StructureForm::Sql => file.statements()?.into_iter().map(|s| s + ";\n").collect(),
        StructureForm::Diagram => diagram(&file.structure()?),
        StructureForm::Rust => file.types_in_rust()?,
    };
    write!(terminal::data(), "{text}")?;
    say_left_out(&file, Reader::Program)?;
    Ok(Verdict::Fine)
}

#[derive(Serialize)]
struct Tables {
    tables: Vec<TableStructure>,
}

/// How the file compares with a history; differences and steps are sentences for people.
#[derive(Serialize)]
struct Compared<'a> {
    version: i64,
    newest: u32,
    differences: &'a [String],
    ahead: Vec<Ahead<'a>>,
}

/// What a migration to a version would do.
#[derive(Serialize)]
struct Ahead<'a> {
    version: u32,
    steps: &'a [String],
}

fn text(tables: &[TableStructure]) -> String {
    let mut out = String::new();
    for (position, table) in tables.iter().enumerate() {
        let gap = if position > 0 { "\n" } else { "" };
        let holds = table.holds.filter(|holds| *holds != Holds::Records);
        let holds = holds.map(|holds| format!(" ({})", holds.in_words())).unwrap_or_default();
        let _ = writeln!(out, "{gap}{STRONG}{}{STRONG:#}{holds}", escaped(&table.name));
        let mut grid = Grid::new(["column", "stored as", "rules", "holds"]).long("holds").dispensable(&["stored as"]);
        for column in &table.columns {
            let cell = |text: &str, tone| Shown { text: text.to_owned(), tone };
            let sign = cell(&column.storage, Tone::Sign);
            let rules = rules(table, column);
            grid.row(vec![
                cell(&column.name, Tone::Plain),
                sign,
                cell(&rules, Tone::Plain),
                cell(&column.holds, Tone::Plain),
            ]);
        }
        let _ = write!(out, "{}", terminal::fitted(grid));
        for IndexStructure { columns, unique } in table.indexes.iter().filter(|i| i.columns.len() > 1) {
            let kind = if *unique { "Unique together:" } else { "Indexed together:" };
            let _ = writeln!(out, "{QUIET}{kind} {}{QUIET:#}", escaped(&columns.join(", ")));
        }
        if table.shared {
            let _ = writeln!(out, "{QUIET}Changes are recorded, to be shared with other devices{QUIET:#}");
        }
    }
    if tables.is_empty() {
        out.push_str("no tables\n");
    }
    out
}

/// What else there is to say about a column.
fn rules(table: &TableStructure, column: &ColumnStructure) -> String {
    let alone = |unique: bool| table.indexes.iter().any(|i| i.unique == unique && i.columns == [column.name.as_str()]);
    let mut rules = Vec::new();
    if !column.required {
        rules.push("optional");
    }
    if alone(true) {
        rules.push("unique");
    }
    if alone(false) {
        rules.push("indexed");
    }
    if table.searchable.contains(&column.name) {
        rules.push("searchable");
    }
    rules.join(", ")
}

/// A graph in the DOT language, which many programs draw.
fn diagram(tables: &[TableStructure]) -> String {
    let quoted = |text: &str| format!("\"{}\"", escaped(text).replace('\\', "\\\\").replace('"', "\\\""));
    let mut out =
        String::from("digraph drawer {\n  rankdir = LR\n  node [shape = record, fontname = \"sans-serif\"]\n");
    for table in tables {
        // Characters with a meaning inside of a record's label are written out.
        let plain = |text: &str| text.replace(|c| r#"{}|<>"\"#.contains(c) || acts(c), "_");
        let lines: Vec<String> =
            table.columns.iter().map(|c| format!("{}: {}\\l", plain(&c.name), plain(&c.storage))).collect();
        let _ = writeln!(out, "  {} [label = \"{{{}|{}}}\"]", quoted(&table.name), plain(&table.name), lines.concat());
    }
    for table in tables {
        for column in &table.columns {
            if let Some(link) = &column.links_to {
                let (from, to) = (quoted(&table.name), quoted(&link.table));
                let _ = writeln!(out, "  {from} -> {to} [label = {}]", quoted(&column.name));
            }
        }
    }
    out + "}\n"
}

fn against(file: &File, path: &Path) -> Result<Verdict, Failure> {
    let against = file.against(&history(path)?)?;
    let mut out = terminal::out();
    writeln!(
        out,
        "The file is at version {}; the newest version of the history is {}.",
        against.version, against.newest
    )?;
    for (version, changes) in &against.ahead {
        writeln!(out, "\n{STRONG}A migration to version {version} would:{STRONG:#}")?;
        for change in changes {
            writeln!(out, "  - {}", escaped(change))?;
        }
    }
    if against.differences.is_empty() {
        writeln!(out, "\nThe file has the structure that version {} has in the history.", against.version)?;
        return Ok(Verdict::Fine);
    }
    let version = against.version;
    writeln!(out, "\n{WARNING}The file differs from version {version} of the history:{WARNING:#}")?;
    for difference in &against.differences {
        writeln!(out, "  - {}", escaped(difference))?;
    }
    Ok(Verdict::Wrong)
}

fn against_as_json(file: &Opened, path: &Path) -> Result<Verdict, Failure> {
    let against = file.against(&history(path)?)?;
    file.report(Compared {
        version: against.version,
        newest: against.newest,
        differences: &against.differences,
        ahead: against.ahead.iter().map(|(version, steps)| Ahead { version: *version, steps }).collect(),
    })?;
    Ok(if against.differences.is_empty() { Verdict::Fine } else { Verdict::Wrong })
}
