//! `velvet-fire`: Velvet Drawer under fire.
//!
//! Each trial has a name, a number of rounds and a seed, which is printed and can be given again. What is stored is compared with a plain
//! list in memory, read by the engine itself and not by the library.

#![forbid(unsafe_code)]

mod app;
mod beside;
#[cfg(feature = "encryption")]
mod ciphers;
mod clocks;
mod copies;
mod crowd;
mod devices;
mod displaced;
mod endurance;
mod every_call;
#[path = "../../velvet-drawer/tests/library/common/everything.rs"]
#[allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used)]
mod everything;
mod exchange;
mod files;
mod kills;
mod limits;
mod looks;
mod model;
mod replaced;
mod screens;
mod seals;
mod texts;
mod trial;
#[path = "../../velvet-drawer/tests/library/common/versions.rs"]
#[allow(dead_code, missing_docs, unreachable_pub)]
mod versions;

use clap::{Parser, Subcommand, ValueEnum};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;
use trial::{Rounds, Trial};

/// Velvet Drawer under fire.
#[derive(Parser)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Runs trials, or all of them
    Run {
        /// Which trials
        #[arg(value_enum)]
        trials: Vec<Named>,
        /// How many rounds each has
        #[arg(long, default_value_t = 20)]
        rounds: u64,
        /// For how many seconds each goes on instead
        #[arg(long)]
        seconds: Option<u64>,
        /// The seed of all that is left to chance; a new one unless given
        #[arg(long)]
        seed: Option<u64>,
    },
    /// What a process under trial does
    #[command(hide = true)]
    App { role: String, folder: PathBuf, seed: u64, from: u64 },
}

/// The trials.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Named {
    /// Processes that are killed while they write, upgrade, compact, copy, restore, import, save, ship or set aside
    Kills,
    /// Every call to the device fails once, or all from one on as if it were full
    Devices,
    /// Files that are deleted, moved or replaced while they are open
    Displaced,
    /// Processes and threads that write at the same time
    Crowd,
    /// Files, logs and journals in which something was changed, looked at in every way
    Mutants,
    /// Files that were made to hurt
    Crafted,
    /// Texts that are read: histories, changes, rows, statements, conditions, searches
    Texts,
    /// Lists that follow a drawer while threads and processes write, are killed, and reads fail
    Screens,
    /// Values at their limits, through every form in which they are kept, copied, told and read again
    Limits,
    /// Looks, restoring and removing next to a drawer in one process
    Beside,
    /// Starts whose clock is ahead or behind
    Clocks,
    /// Copies of a sealed file that get new keys, are restored and set aside
    Copies,
    /// Devices that exchange what changed: joined and shuffled exports, rings, refused lines
    Exchange,
    /// Rows that are replaced and renumbered by plain SQL, next to searches
    Replaced,
    /// What is sealed: kills while it is sealed, opened and given a new key, and changed files
    Seals,
    /// Encrypted files: kills and failing devices while they get and lose keys, and changed files
    #[cfg(feature = "encryption")]
    Ciphers,
    /// A kill, and a loss of power, at every call to the device of one long run
    EveryCall,
    /// Many small transactions, and many opens, in flat memory
    Endurance,
}

fn main() -> ExitCode {
    match Arguments::parse().command {
        Command::App { role, folder, seed, from } => {
            app::run(&role, &folder, seed, from);
            ExitCode::SUCCESS
        }
        Command::Run { trials, rounds, seconds, seed } => {
            let trials = if trials.is_empty() { Named::value_variants().to_vec() } else { trials };
            let rounds = seconds.map_or(Rounds::Count(rounds), |s| Rounds::Time(Duration::from_secs(s)));
            let failed = trials.into_iter().filter(|named| !run(*named, rounds, seed)).count();
            if failed == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
        }
    }
}

/// Runs one trial, and says whether all held.
fn run(named: Named, rounds: Rounds, seed: Option<u64>) -> bool {
    let name = named.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
    let mut trial = Trial::new(&name, rounds, seed.unwrap_or_else(|| fastrand::u64(..)));
    match named {
        Named::Kills => kills::run(&mut trial),
        Named::Devices => devices::run(&mut trial),
        Named::Displaced => displaced::run(&mut trial),
        Named::Crowd => crowd::run(&mut trial),
        Named::Mutants => looks::mutants(&mut trial),
        Named::Crafted => looks::crafted(&mut trial),
        Named::Texts => texts::run(&mut trial),
        Named::Screens => screens::run(&mut trial),
        Named::Limits => limits::run(&mut trial),
        Named::Beside => beside::run(&mut trial),
        Named::Clocks => clocks::run(&mut trial),
        Named::Copies => copies::run(&mut trial),
        Named::Exchange => exchange::run(&mut trial),
        Named::Replaced => replaced::run(&mut trial),
        Named::Seals => seals::run(&mut trial),
        #[cfg(feature = "encryption")]
        Named::Ciphers => ciphers::run(&mut trial),
        Named::EveryCall => every_call::run(&mut trial),
        Named::Endurance => endurance::run(&mut trial),
    }
    trial.end()
}
