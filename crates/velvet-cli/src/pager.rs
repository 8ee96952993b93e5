//! Long output goes through a pager, when it goes to a terminal.
//!
//! The command is run once more as a process of its own, whose output the pager reads: so nothing else has to know of it.

use std::env;
use std::io::{self, IsTerminal};
use std::path::Path;
use std::process::{Command, ExitCode, Stdio};

/// In the process that the pager reads, how wide the terminal is.
pub(crate) const WIDTH: &str = "VELVET_PAGED_WIDTH";

/// The pager where none is named.
const USUAL: [&str; 1] = ["less"];

/// How `less` behaves where nobody says otherwise: it ends by itself when all fits on the screen, and lets colours through.
const USUAL_OPTIONS: &str = "FRX";

fn options_of_less() -> String {
    env::var("LESS").unwrap_or_else(|_| USUAL_OPTIONS.to_owned())
}

/// Whether a pager shows colours as such. `less` shows what makes them as signs, unless it is told otherwise.
fn passes_colours(pager: &str, arguments: &[&str], options: &str) -> bool {
    let is_less = Path::new(pager).file_stem().is_some_and(|name| name == "less");
    let says_so = |text: &str| text.contains('R') || text.contains('r') || text.contains("RAW-CONTROL-CHARS");
    !is_less || says_so(options) || arguments.iter().any(|argument| argument.starts_with('-') && says_so(argument))
}

/// Runs this command with its output in a pager, and returns its exit code; nothing where the output goes elsewhere, nobody wants a
/// pager, or there is none.
pub(crate) fn paged() -> Option<ExitCode> {
    if !io::stdout().is_terminal() || !io::stdin().is_terminal() || env::var_os(WIDTH).is_some() {
        return None;
    }
    let named = env::var("PAGER").ok();
    let words: Vec<&str> = match &named {
        Some(words) => words.split_whitespace().collect(),
        None => USUAL.to_vec(),
    };
    let (pager, arguments) = words.split_first()?;
    // One that does not say how wide it is is taken for as wide as most.
    let width = terminal_size::terminal_size().map_or(80, |(width, _)| width.0);
    let mut command = Command::new(env::current_exe().ok()?);
    command.args(env::args_os().skip(1)).env(WIDTH, width.to_string()).stdout(Stdio::piped());
    let options = options_of_less();
    if env::var_os("NO_COLOR").is_none() && passes_colours(pager, arguments, &options) {
        command.env("CLICOLOR_FORCE", "1");
    }
    let mut child = command.spawn().ok()?;
    let output = child.stdout.take()?;
    let pager = Command::new(pager).args(arguments).env("LESS", options).stdin(output).spawn();
    if pager.is_err() {
        // Without a pager, the command is run as it is.
        let _ = child.kill();
        let _ = child.wait();
        return None;
    }
    let code = child.wait().ok().and_then(|status| status.code()).and_then(|code| u8::try_from(code).ok());
    // How the pager ended says nothing about the command.
    let _ = pager.and_then(|mut pager| pager.wait());
    Some(code.map_or(ExitCode::FAILURE, ExitCode::from))
}
