//! `velvet overview`: what a file is, at a glance.

use super::{named, no_drawer, sessions, size};
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::keys;
use crate::limits::limits;
use crate::locked;
use crate::rows::{Ending, Writer, writer};
use crate::terminal::{self, STRONG};
use serde::Serialize;
use std::io::{self, Write};
use std::path::Path;
use velvet_core::exchange::show::count;
use velvet_core::exchange::show::{self, Shown, Tone};
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::{
    File, FoundColumn, FoundFile, Kind, Overview, SeemsEncrypted, ValueRef, drawers_in, encrypted_in,
};

/// How many of the last sessions are shown.
const SESSIONS_SHOWN: usize = 3;

pub(crate) fn run(arguments: &args::Overview) -> Result<(), Failure> {
    if arguments.file.is_dir() {
        return folder(&arguments.file, arguments.form);
    }
    keys::unlock(&arguments.file)?;
    let file = match File::open_within(&arguments.file, limits()) {
        Err(error) => match locked::locked(&arguments.file, &error) {
            Some(found) if arguments.form != Form::Csv => return unread(&found, arguments.form),
            Some(_) => return Err(locked::failure(&arguments.file, error)),
            None => return Err(error.into()),
        },
        file => file?,
    };
    let overview = file.overview()?;
    match arguments.form {
        Form::Table => {
            head(&overview)?;
            tables(&overview, Form::Table)
        }
        Form::Json => Ok(terminal::json(&overview)?),
        Form::Csv => {
            say_beside(&overview.notes)?;
            tables(&overview, Form::Csv)
        }
    }
}

/// What can be known of an encrypted file without its key.
fn unread(found: &SeemsEncrypted, form: Form) -> Result<(), Failure> {
    if form != Form::Table {
        return Ok(terminal::json(&Unread { encrypted: true, found, notes: [locked::known(found)] })?);
    }
    let name = found.path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let mut out = terminal::out();
    writeln!(out, "{STRONG}{}{STRONG:#}, {}", show::escaped(&name), size(found.bytes))?;
    writeln!(out, "{}", named(&found.path))?;
    writeln!(out, "{}.", locked::known(found))?;
    writeln!(out, "If the app keeps its key in a key store, the name of the key is file/{}", found.salt)?;
    Ok(writeln!(out, "{}.", locked::GIVE_KEY)?)
}

#[derive(Serialize)]
struct Unread<'a> {
    encrypted: bool,
    #[serde(flatten)]
    found: &'a SeemsEncrypted,
    notes: [String; 1],
}

fn head(overview: &Overview) -> io::Result<()> {
    let mut out = terminal::out();
    let name = overview.path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    writeln!(out, "{STRONG}{}{STRONG:#}, {}", show::escaped(&name), size(overview.bytes))?;
    writeln!(out, "{}", named(&overview.path))?;
    match &overview.app {
        Some(app) => {
            let created = overview.created_at.as_deref().unwrap_or("an unknown time");
            let created = show::shown(ValueRef::Text(created), Some(&Kind::Timestamp)).text;
            let second = created.split('.').next().unwrap_or(&created).trim_end_matches('Z');
            writeln!(out, "App {}, schema version {}, created {second} UTC", show::escaped(app), overview.version)?;
        }
        None => writeln!(out, "An SQLite database of another program, user version {}", overview.version)?,
    }
    if overview.versions.len() > 1 {
        let gone_through = overview.versions.iter().map(|v| {
            let by = v.app_version.as_ref().map(|a| format!(" by app {a}")).unwrap_or_default();
            format!("{}{by} on {}", v.version, v.at.get(..10).unwrap_or(&v.at))
        });
        writeln!(out, "Versions: {}", show::escaped(&gone_through.collect::<Vec<_>>().join(", ")))?;
    }
    let newest = overview.sessions.iter().rev().take(SESSIONS_SHOWN).rev();
    for (at, session) in newest.enumerate() {
        if at == 0 {
            writeln!(out, "Last sessions:")?;
        }
        writeln!(out, "  {}", sessions::line(session))?;
    }
    if !overview.sealed.is_empty() {
        let sealed = show::escaped(&overview.sealed.join(", "));
        writeln!(out, "Sealed columns: {sealed}; only the app, with its key, can read them")?;
    }
    for note in &overview.notes {
        writeln!(out, "{}", terminal::note(note))?;
    }
    writeln!(out)
}

fn tables(overview: &Overview, form: Form) -> Result<(), Failure> {
    let is_ours = overview.app.is_some();
    let heads = ["table", "holds", "rows", "columns"];
    let mut list = List::new(form, if is_ours { &heads } else { &["table", "rows", "columns"] })?;
    for table in &overview.tables {
        let number = |n: Option<u64>| n.map_or(ValueRef::Missing, number);
        let holds = table.holds.map_or(ValueRef::Missing, |holds| ValueRef::Text(holds.in_words()));
        let (name, holds) = ([ValueRef::Text(&table.name)], if is_ours { &[holds][..] } else { &[] });
        list.row(&[&name, holds, &[number(table.rows), number(table.columns)]].concat(), table.bytes)?;
    }
    list.end()
}

/// A database in a folder, at a glance.
#[derive(Serialize)]
struct InFolder {
    file: String,
    encrypted: bool,
    app: Option<String>,
    version: Option<i64>,
    tables: Option<u64>,
    rows: Option<u64>,
    bytes: u64,
    #[serde(skip)]
    notes: Vec<String>,
}

#[derive(Serialize)]
struct InFolders {
    files: Vec<InFolder>,
    notes: Vec<String>,
}

impl InFolder {
    fn of(folder: &Path, found: &FoundFile) -> InFolder {
        let opened = File::open_within(&found.path, limits());
        let reasons = opened.as_ref().map(|f| f.incomplete().unwrap_or_default()).unwrap_or_default();
        let overview = opened.and_then(|f| f.overview());
        let notes = match &overview {
            Err(error) => vec![format!("it cannot be read: {}", error)],
            Ok(overview) => {
                let uncounted = overview.tables.iter().filter(|t| t.rows.is_none());
                let uncounted = uncounted.map(|t| format!("the rows of `{}` cannot be counted", t.name));
                reasons.into_iter().filter(|r| r.is_told_by_file).map(|r| r.what).chain(uncounted).collect()
            }
        };
        let overview = overview.ok();
        InFolder {
            file: below(folder, &found.path),
            encrypted: false,
            version: overview.as_ref().map(|o| o.version),
            tables: overview.as_ref().map(|o| o.tables.len() as u64),
            rows: overview.as_ref().map(|o| o.tables.iter().filter_map(|t| t.rows).sum()),
            app: overview.and_then(|o| o.app),
            bytes: found.bytes,
            notes,
        }
    }

    fn locked(folder: &Path, found: &SeemsEncrypted) -> InFolder {
        InFolder {
            file: below(folder, &found.path),
            encrypted: true,
            app: None,
            version: None,
            tables: None,
            rows: None,
            bytes: found.bytes,
            notes: vec![format!("{}. {}", locked::known(found), locked::GIVE_KEY)],
        }
    }
}

fn below(folder: &Path, path: &Path) -> String {
    path.strip_prefix(folder).unwrap_or(path).display().to_string()
}

fn folder(folder: &Path, form: Form) -> Result<(), Failure> {
    keys::unlock(folder)?;
    let mut files: Vec<InFolder> = drawers_in(folder)?.iter().map(|found| InFolder::of(folder, found)).collect();
    files.extend(encrypted_in(folder)?.iter().map(|found| InFolder::locked(folder, found)));
    if files.is_empty() {
        return Err(no_drawer(folder));
    }
    let notes = files.iter().flat_map(|file| file.notes.iter().map(|note| format!("{}: {note}", file.file)));
    let notes: Vec<String> = notes.collect();
    if form == Form::Json {
        return Ok(terminal::json(&InFolders { files, notes })?);
    }
    if form == Form::Table {
        let databases = count(files.len(), "database");
        writeln!(terminal::out(), "{STRONG}{}{STRONG:#}: {databases}\n", named(folder))?;
    }
    let mut list = List::new(form, &["file", "app", "version", "tables", "rows"])?;
    for file in &files {
        let app = file.app.as_deref().map_or(ValueRef::Missing, ValueRef::Text);
        let version = file.version.map_or(ValueRef::Missing, ValueRef::Integer);
        let [tables, rows] = [file.tables, file.rows].map(|n| n.map_or(ValueRef::Missing, number));
        list.row(&[ValueRef::Text(&file.file), app, version, tables, rows], Some(file.bytes))?;
    }
    list.end()?;
    if form == Form::Csv {
        return Ok(say_beside(&notes)?);
    }
    for note in notes {
        writeln!(terminal::out(), "\n{}", terminal::note(&note))?;
    }
    Ok(())
}

/// Says notes beside what comes out for programs.
fn say_beside(notes: &[String]) -> io::Result<()> {
    notes.iter().try_for_each(|note| writeln!(terminal::err(), "{}", terminal::note(note)))
}

fn number(n: u64) -> ValueRef<'static> {
    ValueRef::Integer(n.cast_signed())
}

/// Rows whose last column is a size: in bytes for programs, in larger units for people.
enum List {
    Table(Grid),
    Rows(Box<dyn Writer>),
}

impl List {
    fn new(form: Form, names: &[&str]) -> Result<List, Failure> {
        let column = |name: &str| FoundColumn::named(name);
        Ok(match form {
            Form::Table => {
                let grid = Grid::new(names.iter().copied().chain(["size"]));
                List::Table(grid.whole("file").dispensable(&["tables", "app", "version"]))
            }
            Form::Json | Form::Csv => {
                List::Rows(writer(form, &names.iter().copied().chain(["bytes"]).map(column).collect::<Vec<_>>())?)
            }
        })
    }

    fn row(&mut self, values: &[ValueRef<'_>], bytes: Option<u64>) -> Result<(), Failure> {
        match self {
            List::Table(grid) => {
                let missing = show::shown(ValueRef::Missing, None);
                let size = bytes.map_or(missing, |bytes| Shown { text: size(bytes), tone: Tone::Number });
                grid.row(values.iter().map(|v| show::shown(*v, None)).chain([size]).collect());
                Ok(())
            }
            List::Rows(out) => {
                out.row(&values.iter().copied().chain([bytes.map_or(ValueRef::Missing, number)]).collect::<Vec<_>>())
            }
        }
    }

    fn end(self) -> Result<(), Failure> {
        match self {
            List::Table(grid) => Ok(write!(terminal::out(), "{}", terminal::fitted(grid))?),
            List::Rows(out) => out.end(&Ending::default()),
        }
    }
}
