//! `velvet completions`: what a shell needs to complete commands and options.

use crate::args::{self, Arguments};
use clap::CommandFactory;
use clap_complete::generate;
use std::io;

pub(crate) fn run(arguments: &args::Completions) {
    generate(arguments.shell, &mut Arguments::command(), "velvet", &mut io::stdout());
}
