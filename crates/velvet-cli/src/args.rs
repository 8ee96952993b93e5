//! What can be typed.

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Looks into the files of Velvet Drawer, and of any other program with the same open format. Reading changes nothing on
/// a file or beside it.
#[derive(Parser)]
#[command(
    name = "velvet",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 fine, 1 something is wrong or differs, 2 could not be done."
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Runs the demo app through several starts on a pretend phone, then looks at what it stored
    Demo(Demo),
    /// What a file is, at a glance: app, version, tables; of a folder, the drawers in it
    Overview(Overview),
    /// The rows of a table
    Records(Records),
    /// The structure of a file: as text, JSON, SQL or a diagram; or how it stands to a history
    Structure(Structure),
    /// Whether a file is sound: pages, links, indexes, values, and what it says about itself
    Check(Check),
    /// What differs between two copies of a file, or two files, record by record
    Compare(Compare),
    /// Runs an upgrade on a complete copy, and tells what it would do
    Rehearse(Rehearse),
    /// The demo app itself, as the pretend phone starts it
    #[command(hide = true)]
    DemoApp { start: String },
}

#[derive(Args)]
pub(crate) struct Demo {
    /// The folder for the pretend phone; a new or empty one, or that of an earlier demo, which is replaced. In the
    /// system's temporary folder unless given
    #[arg(long, value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet overview kiln.drawer\n  velvet overview pulled-from-phone/")]
pub(crate) struct Overview {
    /// A database file, or a folder to find them in
    pub(crate) file: PathBuf,
    /// How to show it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet records kiln.drawer piece\n  \
    velvet records kiln.drawer piece --filter \"grams > 500 and stage = 'bisque'\" --sort 'grams desc, mark'\n  \
    velvet records kiln.drawer article --columns number,name,cents --limit 20 --as csv")]
pub(crate) struct Records {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table; the beginning of its name is enough
    pub(crate) table: String,
    /// Only rows that satisfy this condition in SQL
    #[arg(long, value_name = "CONDITION", allow_hyphen_values = true)]
    pub(crate) filter: Option<String>,
    /// Sort by these columns, largest first with ` desc` behind one [default: in the order of insertion]
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) sort: Vec<String>,
    /// At most this many rows [default: 50 as a table, else all]
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<u64>,
    /// Leave out this many rows at the start
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) offset: u64,
    /// Show only these columns, in this order
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
    /// How to show the rows
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet structure kiln.drawer\n  \
    velvet structure kiln.drawer --as diagram | dot -Tsvg > kiln.svg\n  \
    velvet structure kiln.drawer --against kilnbook.history.json\n\n\
    With --against, the exit code is 1 when the file is not as its version was recorded.")]
pub(crate) struct Structure {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// How to show it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = StructureForm::Text)]
    pub(crate) form: StructureForm,
    /// Say how the file differs from this history file, and what an upgrade would do
    #[arg(long, value_name = "HISTORY", conflicts_with = "form")]
    pub(crate) against: Option<PathBuf>,
}

/// How a structure comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum StructureForm {
    /// Tables for people
    Text,
    /// JSON
    Json,
    /// The statements that create it
    Sql,
    /// A graph in the DOT language
    Diagram,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet check kiln.drawer\n  velvet check pulled-from-phone/ --as json\n\n\
    The file is only read. Exit code 1 when something is wrong.")]
pub(crate) struct Check {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet compare yesterday.drawer kiln.drawer\n  \
    velvet compare yesterday.drawer kiln.drawer --as json\n\n\
    Exit code 1 when the records or the structures differ.")]
pub(crate) struct Compare {
    /// The file before, or a folder with one drawer in it
    pub(crate) before: PathBuf,
    /// The file after, or a folder with one drawer in it
    pub(crate) after: PathBuf,
    /// Show at most this many differences of each table
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) limit: u64,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet rehearse kiln.drawer --history kilnbook.history.json\n\n\
    The file itself is only read. Exit code 1 when the upgrade would fail.")]
pub(crate) struct Rehearse {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The app's history file
    #[arg(long, value_name = "HISTORY")]
    pub(crate) history: PathBuf,
    /// How to tell it
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

/// How a report comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Telling {
    /// Text for people
    Text,
    /// JSON
    Json,
}

/// How rows come out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// A table for people, fitted to the terminal
    Table,
    /// JSON
    Json,
    /// Comma-separated values with a head line
    Csv,
}
