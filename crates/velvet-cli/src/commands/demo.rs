//! `velvet demo`: the demo app over several starts, then a first look.

use super::{overview, records, sessions};
use crate::args::{self, Form, Order};
use crate::failure::Failure;
use crate::terminal::{self, QUIET, STRONG};
use std::fs;
use std::io::{self, Write};
use std::path::Path;
use std::process::Command;

/// Marks a folder as one that the demo made, and may replace.
const MARK: &str = "made-by-velvet-demo";

/// By what this program is told that it is the demo app itself, started by the pretend phone.
const APP: &str = "demo-app";

/// The start that it is to be, where it is the demo app itself.
pub(crate) fn app_start() -> Option<String> {
    let mut arguments = std::env::args().skip(1);
    if arguments.next()? == APP { arguments.next() } else { None }
}

pub(crate) fn run(arguments: &args::Demo) -> Result<(), Failure> {
    let folder = arguments.into.clone().unwrap_or_else(|| std::env::temp_dir().join("velvet-demo"));
    prepare(&folder)?;
    let program = std::env::current_exe()?;
    let app = |start: &str| -> io::Result<Command> {
        let mut command = Command::new(&program);
        command.args([APP, start]);
        Ok(command)
    };
    let toured = velvet_demo::tour(&folder, &app, &mut terminal::out())?;

    headline("A first look into the file", &format!("velvet overview {}", shown(&toured.drawer)))?;
    overview::run(&args::Overview { file: toured.drawer.clone(), form: Form::Table })?;
    let sort = "thrown_on desc";
    writeln!(terminal::out())?;
    headline("The starts of the app", &format!("velvet sessions {}", shown(&toured.drawer)))?;
    sessions::run(&args::Sessions {
        file: toured.drawer.clone(),
        limit: args::Limit { limit: None },
        form: Form::Table,
    })?;
    writeln!(terminal::out())?;
    headline(
        "The newest pieces",
        &format!("velvet records {} piece --sort '{sort}' --limit 8", shown(&toured.drawer)),
    )?;
    records::run(&args::Records {
        file: toured.drawer.clone(),
        table: "piece".into(),
        filter: None,
        sort: vec![sort.into()],
        order: Order::Inserted,
        limit: args::Limit { limit: Some(8) },
        offset: 0,
        columns: Vec::new(),
        form: Form::Table,
    })?;
    let (copy, history) = (shown(&toured.at_version_1), shown(&toured.history));
    writeln!(terminal::out())?;
    headline(
        "A copy from before the migrations is kept, to try them out on",
        &format!("velvet rehearse {copy} --history {history}"),
    )?;
    headline(
        "Where are the cups, and where is K-104? docs/debugging.md finds each cause, beginning with",
        &format!("velvet overview {}", shown(&toured.pulled_alone)),
    )?;
    Ok(())
}

/// Empties the folder of an earlier demo; refuses any other that has something in it.
fn prepare(folder: &Path) -> Result<(), Failure> {
    let is_empty = match fs::read_dir(folder) {
        Ok(mut entries) => entries.next().is_none(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => true,
        Err(error) => return Err(Failure::new(format!("cannot use {}: {error}", folder.display()))),
    };
    if !is_empty {
        if !folder.join(MARK).exists() {
            return Err(Failure::new(format!(
                "{} has something in it that the demo did not make. Nothing was changed. Name a new or empty folder with --into",
                folder.display()
            )));
        }
        fs::remove_dir_all(folder)?;
    }
    fs::create_dir_all(folder)?;
    fs::write(folder.join(MARK), "The demo of Velvet Drawer made this folder, and replaces it when it runs again.\n")?;
    Ok(())
}

fn headline(what: &str, command: &str) -> io::Result<()> {
    writeln!(terminal::out(), "{STRONG}{what}{STRONG:#}\n{QUIET}$ {command}{QUIET:#}\n")
}

/// A path as it can be typed.
fn shown(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    let text = path.strip_prefix(here).unwrap_or(path).display().to_string();
    if text.contains(' ') { format!("'{text}'") } else { text }
}
