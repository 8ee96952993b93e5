//! `velvet overview`: what a file is, at a glance.

use super::{named, no_drawer, sessions, size};
use crate::args::{self, Form};
use crate::failure::Failure;
use crate::keys;
use crate::limits::limits;
use crate::locked;
use crate::rows::{Writer, writer};
use crate::terminal::{self, STRONG};
use serde::Serialize;
use std::io::{self, Write};
use std::path::Path;
use velvet_core::show::count;
use velvet_core::show::{self, Shown, Tone};
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
            Some(found) => return unread(&found, arguments.form),
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
        Form::Csv => tables(&overview, Form::Csv),
    }
}

/// What can be known of an encrypted file without its key.
fn unread(found: &SeemsEncrypted, form: Form) -> Result<(), Failure> {
    if form != Form::Table {
        return Ok(terminal::json(&Unread { encrypted: true, found })?);
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
        None => writeln!(out, "A database of another program; its version number is {}", overview.version)?,
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
        writeln!(out, "{} {}", if at == 0 { "Sessions:" } else { "         " }, sessions::line(session))?;
    }
    if !overview.sealed.is_empty() {
        let sealed = show::escaped(&overview.sealed.join(", "));
        writeln!(out, "Sealed: {sealed}; read only with the key that the app's device keeps")?;
    }
    for warning in &overview.warnings {
        writeln!(out, "{}", terminal::note(warning))?;
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

fn folder(folder: &Path, form: Form) -> Result<(), Failure> {
    keys::unlock(folder)?;
    let found: Vec<FoundFile> = drawers_in(folder)?;
    let locked = encrypted_in(folder)?;
    if found.is_empty() && locked.is_empty() {
        return Err(no_drawer(folder));
    }
    if form == Form::Table {
        writeln!(
            terminal::out(),
            "{STRONG}{}{STRONG:#}: {}\n",
            named(folder),
            count(found.len() + locked.len(), "database")
        )?;
    }
    let mut list = List::new(form, &["file", "app", "version", "tables", "rows"])?;
    let mut notes = Vec::new();
    for file in found {
        let opened = File::open_within(&file.path, limits());
        let reasons = opened.as_ref().map(|f| f.incomplete().unwrap_or_default()).unwrap_or_default();
        notes.extend(reasons.into_iter().filter(|r| r.is_told_by_file).map(|r| (file.path.clone(), r.what)));
        let overview = opened.and_then(|f| f.overview());
        let name = file.path.strip_prefix(folder).unwrap_or(&file.path).display().to_string();
        let name = ValueRef::Text(&name);
        match &overview {
            Ok(o) => {
                let app = o.app.as_deref().map_or(ValueRef::Missing, ValueRef::Text);
                let rows = number(o.tables.iter().filter_map(|t| t.rows).sum());
                list.row(
                    &[name, app, ValueRef::Integer(o.version), number(o.tables.len() as u64), rows],
                    Some(file.bytes),
                )?;
            }
            Err(_) => list.row(
                &[name, ValueRef::Missing, ValueRef::Missing, ValueRef::Missing, ValueRef::Missing],
                Some(file.bytes),
            )?,
        }
    }
    for file in &locked {
        let name = file.path.strip_prefix(folder).unwrap_or(&file.path).display().to_string();
        let missing = ValueRef::Missing;
        list.row(&[ValueRef::Text(&name), missing, missing, missing, missing], Some(file.bytes))?;
        notes.push((file.path.clone(), format!("{}. {}", locked::known(file), locked::GIVE_KEY)));
    }
    list.end()?;
    for (path, reason) in notes.iter().filter(|_| form == Form::Table) {
        let name = path.strip_prefix(folder).unwrap_or(path).display();
        writeln!(terminal::out(), "\n{}", terminal::note(&format!("{name}: {reason}")))?;
    }
    Ok(())
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
            Form::Table => List::Table(Grid::new(names.iter().copied().chain(["size"]))),
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
            List::Rows(out) => out.end(),
        }
    }
}
