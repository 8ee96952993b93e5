//! The `velvet` command: looks into the files of Velvet Drawer, and of any other program with the same open format.
//!
//! It adds arguments and presentation to `velvet_drawer::inspect`, and nothing else.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod args;
mod clean;
mod commands;
mod failure;
#[cfg(feature = "encryption")]
mod keys;
#[cfg(not(feature = "encryption"))]
#[path = "without_keys.rs"]
mod keys;
mod limits;
mod lines;
mod locked;
mod moment;
mod pager;
mod rows;
mod terminal;
mod typed;

use args::Command;
use failure::Verdict;
use std::process::ExitCode;

fn main() -> ExitCode {
    if let Some(start) = commands::demo::app_start() {
        return match velvet_demo::run(&start) {
            Ok(()) => ExitCode::SUCCESS,
            Err(error) => {
                terminal::say_failure(&error.to_string());
                ExitCode::from(failure::COULD_NOT)
            }
        };
    }
    let arguments = match typed::parsed() {
        Ok(arguments) => arguments,
        Err(code) => return code,
    };
    if arguments.command.may_be_long()
        && !arguments.keys.is_asked_for()
        && let Some(code) = pager::paged()
    {
        return code;
    }
    limits::allow(arguments.within);
    terminal::show_every_column(arguments.every_column);
    limits::end_at_ctrl_c();
    if let Err(failure) = keys::take(&arguments.keys) {
        terminal::say_failure(&failure.to_string());
        return ExitCode::from(failure::COULD_NOT);
    }
    let result = match arguments.command {
        Command::Demo(arguments) => commands::demo::run(&arguments).map(|()| Verdict::Fine),
        Command::One(arguments) => commands::one::run(&arguments).map(|()| Verdict::Fine),
        Command::Search(arguments) => commands::search::run(&arguments).map(|()| Verdict::Fine),
        Command::Query(arguments) => commands::query::run(&arguments).map(|()| Verdict::Fine),
        Command::Sessions(arguments) => commands::sessions::run(&arguments).map(|()| Verdict::Fine),
        Command::Trail(arguments) => commands::trail::run(&arguments).map(|()| Verdict::Fine),
        Command::Follow(arguments) => commands::follow::run(&arguments).map(|()| Verdict::Fine),
        Command::Copy(arguments) => commands::copy::run(&arguments).map(|()| Verdict::Fine),
        Command::Salvage(arguments) => commands::salvage::run(&arguments),
        Command::Compact(arguments) => commands::compact::run(&arguments).map(|()| Verdict::Fine),
        Command::Attachment(arguments) => commands::attachment::run(&arguments).map(|()| Verdict::Fine),
        Command::Export(arguments) => commands::export::run(&arguments).map(|()| Verdict::Fine),
        Command::Import(arguments) => commands::import::run(&arguments).map(|()| Verdict::Fine),
        Command::Completions(arguments) => {
            commands::completions::run(&arguments);
            Ok(Verdict::Fine)
        }
        Command::Overview(arguments) => commands::overview::run(&arguments).map(|()| Verdict::Fine),
        Command::Records(arguments) => commands::records::run(&arguments).map(|()| Verdict::Fine),
        Command::Structure(arguments) => commands::structure::run(&arguments),
        Command::Check(arguments) => commands::check::run(&arguments),
        Command::Compare(arguments) => commands::compare::run(&arguments),
        Command::Rehearse(arguments) => commands::rehearse::run(&arguments),
    };
    match result {
        Ok(Verdict::Fine) => ExitCode::SUCCESS,
        Ok(Verdict::Wrong) => ExitCode::from(failure::WRONG),
        // Whoever reads our output has seen enough.
        Err(failure) if failure.is_closed_pipe() => ExitCode::SUCCESS,
        Err(failure) => {
            terminal::say_failure(&failure.to_string());
            if limits::limits().cancel.is_cancelled() {
                return ExitCode::from(limits::ENDED);
            }
            ExitCode::from(failure::COULD_NOT)
        }
    }
}
