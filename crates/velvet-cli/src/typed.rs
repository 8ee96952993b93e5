//! What is said where something was typed that is no command, or no argument of one.

use crate::args::Arguments;
use crate::failure::COULD_NOT;
use crate::terminal;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Error, Parser};
use std::ffi::OsString;
use std::path::Path;
use std::process::ExitCode;

/// What people type for a thing, and the command that does it here.
const CALLED: [(&str, &str); 24] = [
    ("backup", "copy"),
    ("cat", "records"),
    ("clone", "copy"),
    ("dbinfo", "overview"),
    ("diff", "compare"),
    ("dump", "export"),
    ("find", "search"),
    ("fsck", "check"),
    ("get", "one"),
    ("grep", "search"),
    ("history", "trail"),
    ("info", "overview"),
    ("log", "trail"),
    ("ls", "overview"),
    ("migrate", "rehearse"),
    ("optimize", "compact"),
    ("recover", "salvage"),
    ("repair", "salvage"),
    ("schema", "structure"),
    ("select", "query"),
    ("sql", "query"),
    ("tables", "overview"),
    ("vacuum", "compact"),
    ("watch", "follow"),
];

/// The arguments; or the exit code, once what is wrong with them, or the help, was shown.
pub(crate) fn parsed() -> Result<Arguments, ExitCode> {
    let all: Vec<OsString> = std::env::args_os().collect();
    Arguments::try_parse_from(&all).or_else(|error| match of_file(&all, &error) {
        Some(arguments) => Ok(arguments),
        None => Err(told(&error)),
    })
}

/// Shows the help that was asked for, or what is wrong.
fn told(error: &Error) -> ExitCode {
    match error.kind() {
        ErrorKind::DisplayHelp | ErrorKind::DisplayVersion => {
            // Where it cannot be shown, nothing else can.
            let _ = error.print();
            ExitCode::SUCCESS
        }
        ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            let _ = error.print();
            ExitCode::from(COULD_NOT)
        }
        _ => {
            terminal::say_failure(&no_command(error).unwrap_or_else(|| in_words(error)));
            ExitCode::from(COULD_NOT)
        }
    }
}

/// What was typed in the place of a command.
fn typed(error: &Error) -> Option<&str> {
    match error.get(ContextKind::InvalidSubcommand) {
        Some(ContextValue::String(typed)) => Some(typed),
        _ => None,
    }
}

/// A file or folder alone is looked at.
fn of_file(all: &[OsString], error: &Error) -> Option<Arguments> {
    let file = typed(error).filter(|typed| Path::new(typed).exists())?;
    let at = all.iter().position(|argument| argument == file)?;
    let mut all = all.to_vec();
    all.insert(at, "overview".into());
    Arguments::try_parse_from(all).ok()
}

/// What is said where something was typed that is no command: how it is called here, or what is nearest.
fn no_command(error: &Error) -> Option<String> {
    let typed = typed(error)?;
    let called = CALLED.iter().find(|(word, _)| word.eq_ignore_ascii_case(typed)).map(|(_, ours)| (*ours).to_owned());
    let nearest = match error.get(ContextKind::SuggestedSubcommand) {
        Some(ContextValue::Strings(near)) => near.first().cloned(),
        _ => None,
    };
    Some(match (called, nearest) {
        (Some(ours), _) => {
            format!("there is no command `{typed}`; `velvet {ours}` does that. See `velvet {ours} --help`")
        }
        (None, Some(near)) => {
            format!("there is no command `{typed}`, and no file of that name; did you mean `velvet {near}`?")
        }
        (None, None) => {
            format!("there is no command `{typed}`, and no file of that name. `velvet --help` lists the commands")
        }
    })
}

/// What is wrong with the arguments, with the prefix that all messages have.
fn in_words(error: &Error) -> String {
    let said = error.render().to_string();
    said.trim_end().strip_prefix("error: ").unwrap_or(said.trim_end()).to_owned()
}
