//! What can be typed.

use crate::moment;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::{Path, PathBuf};
use velvet_drawer::inspect::{Did, Exchange};

/// Look into the files of Velvet Drawer, and any other SQLite database. Reading leaves the file, and what is beside it, as it was.
///
/// `velvet FILE` is short for `velvet overview FILE`.
#[derive(Parser)]
#[command(
    name = "velvet",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 success, 1 something is wrong or differs, 2 the command failed, 130 interrupted by Ctrl-C."
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
    /// How many seconds views and other expressions stored in the file may run [default: 3]
    #[arg(long, value_name = "SECONDS", global = true)]
    pub(crate) within: Option<u64>,
    /// Show every column; rows that are too wide for the terminal become blocks, one column a line
    #[arg(long, global = true)]
    pub(crate) every_column: bool,
    #[command(flatten)]
    pub(crate) keys: KeySource,
}

/// Where the keys of encrypted files come from.
#[derive(Args)]
pub(crate) struct KeySource {
    /// A file that contains the key: 64 hexadecimal digits, 32 bytes, or a pass phrase on its first line; can be given more than once
    #[cfg(feature = "encryption")]
    #[arg(long, value_name = "FILE", global = true, help_heading = "Encrypted files")]
    pub(crate) key_file: Vec<PathBuf>,
    /// Prompt for the key or pass phrase
    #[cfg(feature = "encryption")]
    #[arg(long, global = true, help_heading = "Encrypted files")]
    pub(crate) ask_key: bool,
    /// The cost of deriving a key from a pass phrase, if the app sets its own: memory in KiB, and passes [default: 65536,3]
    #[cfg(feature = "encryption")]
    #[arg(long, value_name = "KIB,PASSES", value_delimiter = ',', global = true, help_heading = "Encrypted files", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) cost: Vec<u32>,
}

impl KeySource {
    /// Whether a key is to be typed, for which the terminal is needed.
    pub(crate) fn is_asked_for(&self) -> bool {
        #[cfg(feature = "encryption")]
        return self.ask_key;
        #[cfg(not(feature = "encryption"))]
        false
    }
}

/// How much is shown.
#[derive(Args)]
pub(crate) struct Limit {
    /// Show at most this many [default: 50 as text or table, all as JSON or CSV]
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<u64>,
}

/// Who reads the output.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reader {
    Person,
    Program,
}

impl Limit {
    /// How many people see unless they say otherwise.
    const FOR_PEOPLE: u64 = 50;

    /// At most how many are shown to people, or to programs.
    pub(crate) fn of(&self, reader: Reader) -> u64 {
        self.limit.unwrap_or(if reader == Reader::Person { Limit::FOR_PEOPLE } else { u64::MAX })
    }

    /// As [`Limit::of`], as a number of things in memory.
    pub(crate) fn in_memory(&self, reader: Reader) -> usize {
        usize::try_from(self.of(reader)).unwrap_or(usize::MAX)
    }
}

/// In the order of the work: what is in a file, what happened, whether it is sound, and what goes in and out.
#[derive(Subcommand)]
pub(crate) enum Command {
    /// Show what a file holds: app, schema version, tables, last sessions; or the databases in a folder
    Overview(Overview),
    /// Show the rows of a table, filtered and sorted
    Records(Records),
    /// Show one record in full: values, links (foreign keys) in both directions, and trail
    One(One),
    /// Find the rows that contain some words, in any column of any table
    Search(Search),
    /// Run a read-only SQL statement
    Query(Query),
    /// Show the schema as text, JSON, SQL, a diagram or Rust types, or compare it with a history file
    Structure(Structure),
    /// List the starts of the app: when, at which version, what each wrote, how it ended
    Sessions(Sessions),
    /// Show the history of records: what was written, when, by which session, and the values before
    Trail(Trail),
    /// Show what a running app writes, as it happens
    Follow(Follow),
    /// Compare two files, or two copies of one, record by record (diff)
    Compare(Compare),
    /// Check that a file is sound: pages, indexes, foreign keys and values
    Check(Check),
    /// Recover what can be read of a damaged file into a new one
    Salvage(Salvage),
    /// Try out a migration on a complete copy (dry run): what it does, and how long it takes
    Rehearse(Rehearse),
    /// Shrink a file to the space it needs (VACUUM)
    Compact(Compact),
    /// Make a complete, consistent copy of a file (backup), even while an app writes to it
    Copy(Copy),
    /// Write a table, or everything, as JSON Lines, CSV or SQL, without loss (dump)
    Export(Export),
    /// Load rows from JSON Lines, CSV or SQL, all of them or none
    Import(Import),
    /// Write an attachment, a file kept inside the drawer, to a file of its own
    Attachment(Attachment),
    /// Run the demo app through several starts on a simulated phone, and look at what it stored
    Demo(Demo),
    /// Print a script that completes commands and options in a shell
    Completions(Completions),
}

impl Command {
    /// Whether it shows what may be longer than a screen, once and for all.
    pub(crate) fn may_be_long(&self) -> bool {
        matches!(
            self,
            Command::Overview(_)
                | Command::Records(_)
                | Command::One(_)
                | Command::Search(_)
                | Command::Query(_)
                | Command::Sessions(_)
                | Command::Trail(_)
                | Command::Structure(_)
                | Command::Compare(_)
                | Command::Check(_)
        )
    }
}

#[derive(Args)]
pub(crate) struct Demo {
    /// The folder for the simulated phone: new, empty, or from an earlier demo, which is replaced [default: a folder in
    /// the system's temporary folder]
    #[arg(long, value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet attachment kiln.drawer 3 --to bowl.png\n  \
    velvet attachment kiln.drawer K-101.png > bowl.png")]
pub(crate) struct Attachment {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Its number, its name, or the beginning of its hash, as `velvet records FILE attachment` lists them
    pub(crate) attachment: String,
    /// The new file, which must not exist yet. Without it, the content goes to the standard output, unless that is a terminal
    #[arg(long, value_name = "NEW_FILE")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet overview kiln.drawer\n  velvet overview pulled-alone/")]
pub(crate) struct Overview {
    /// A database file, or a folder to look for databases in
    pub(crate) file: PathBuf,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet records kiln.drawer piece\n  \
    velvet records kiln.drawer piece --filter \"stage = 'bisque'\" --sort 'grams desc, mark'\n  \
    velvet records kiln.drawer piece --sort 'stage declared' --order own-key --columns mark,stage\n  \
    velvet records kiln.drawer article --columns number,name,cents --limit 20 --as csv")]
pub(crate) struct Records {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table; the beginning of its name is enough
    pub(crate) table: String,
    /// Only rows that satisfy this condition in SQL
    #[arg(long, value_name = "CONDITION", allow_hyphen_values = true)]
    pub(crate) filter: Option<String>,
    /// Sort by these columns; `desc` after a name reverses its order, `declared` sorts choices in the order of their declaration
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) sort: Vec<String>,
    /// The order of rows that --sort leaves open
    #[arg(long, value_name = "ORDER", value_enum, default_value_t = Order::Inserted)]
    pub(crate) order: Order,
    #[command(flatten)]
    pub(crate) limit: Limit,
    /// Skip this many rows
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) offset: u64,
    /// Show only these columns, in this order
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet one kiln.drawer piece K-101\n  \
    velvet one kiln.drawer piece '#25'")]
pub(crate) struct One {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The table; the beginning of its name is enough
    pub(crate) table: String,
    /// The record's own key, or # and its row number; in other programs' tables the primary key, its columns separated by commas
    #[arg(allow_negative_numbers = true)]
    pub(crate) key: String,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet search kiln.drawer hairline crack\n  \
    velvet search kiln.drawer celadon --table glaze --as json\n\n\
    A row is found when it contains all of the words, in any of its columns. Case and accents do not matter.")]
pub(crate) struct Search {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The words to look for
    #[arg(required = true)]
    pub(crate) words: Vec<String>,
    /// Search only this table; can be given more than once
    #[arg(long, value_name = "TABLE")]
    pub(crate) table: Vec<String>,
    #[command(flatten)]
    pub(crate) limit: Limit,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet query kiln.drawer \"select clay, count(*) as pieces from piece group by clay\"\n  \
    velvet query kiln.drawer 'select * from firing' --as csv")]
pub(crate) struct Query {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// One SQL statement
    pub(crate) statement: String,
    #[command(flatten)]
    pub(crate) limit: Limit,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet sessions kiln.drawer\n  velvet sessions kiln.drawer --limit 3 --as json\n\n\
    In the column `wrote`: + inserted, ~ changed, - removed rows."
)]
pub(crate) struct Sessions {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    #[command(flatten)]
    pub(crate) limit: Limit,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet trail kiln.drawer\n  \
    velvet trail kiln.drawer piece K-101\n  \
    velvet trail kiln.drawer --session 4 --as json")]
pub(crate) struct Trail {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Only what was written to this table
    pub(crate) table: Option<String>,
    /// Only what was written to this record: its own key, or # and its row number
    #[arg(allow_negative_numbers = true)]
    pub(crate) key: Option<String>,
    /// Only what this session wrote
    #[arg(long, value_name = "N")]
    pub(crate) session: Option<i64>,
    /// Only writes of this kind
    #[arg(long, value_name = "KIND", value_enum)]
    pub(crate) only: Option<Kind>,
    /// Only what was written at this time (UTC) or later: 2025-03-08, '2025-03-08 09:14', or a time ago: 2h, '3 days'
    #[arg(long, value_name = "TIME", value_parser = moment::parsed)]
    pub(crate) since: Option<String>,
    /// Only what was written before this time
    #[arg(long, value_name = "TIME", value_parser = moment::parsed)]
    pub(crate) until: Option<String>,
    #[command(flatten)]
    pub(crate) limit: Limit,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Form::Table)]
    pub(crate) form: Form,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet follow kiln.drawer\n  velvet follow kiln.drawer --seconds 60 --as json\n\n\
    If the app keeps a trail, its new entries are shown; otherwise the file is compared with how it was before."
)]
pub(crate) struct Follow {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Stop after this many seconds [default: at Ctrl-C]
    #[arg(long, value_name = "N")]
    pub(crate) seconds: Option<u64>,
    /// The form of the output; JSON is one line for each event
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  velvet copy kiln.drawer --to kiln-copy.drawer\n  velvet copy kiln.drawer --without-private --to for-support.drawer"
)]
pub(crate) struct Copy {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The new file, which must not exist yet
    #[arg(long, value_name = "NEW_FILE")]
    pub(crate) to: PathBuf,
    /// Leave out the values of private columns
    #[arg(long)]
    pub(crate) without_private: bool,
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet salvage damaged.drawer --to saved.drawer\n\n\
    The damaged file is only read. The exit code is 1 if something could not be recovered.")]
pub(crate) struct Salvage {
    /// A damaged database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The new file, which must not exist yet
    #[arg(long, value_name = "NEW_FILE")]
    pub(crate) to: PathBuf,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  velvet compact kiln.drawer\n\nThe file is rewritten in one transaction; an app may have it open meanwhile."
)]
pub(crate) struct Compact {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet export kiln.drawer glaze --as csv --to glazes.csv\n  \
    velvet export kiln.drawer --to kiln.jsonl\n  \
    velvet export kiln.drawer --as sql --to kiln.sql")]
pub(crate) struct Export {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// Only this table [default: everything]
    pub(crate) table: Option<String>,
    /// The format [default: by the extension of the new file, or else JSON Lines]
    #[arg(long = "as", value_name = "FORM", value_enum)]
    pub(crate) form: Option<ExchangeForm>,
    /// The new file, which must not exist yet [default: the standard output]
    #[arg(long, value_name = "NEW_FILE")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet export kiln.drawer shelf --as csv | velvet import empty.drawer - --as csv --table shelf\n  \
    velvet export kiln.drawer --as sql | velvet import new.drawer - --as sql\n\n\
    If any line does not fit, each of them is named and nothing is written.")]
pub(crate) struct Import {
    /// The drawer to load rows into; for SQL, a new file, which must not exist yet
    pub(crate) file: PathBuf,
    /// The file to import, or - for the standard input
    pub(crate) from: PathBuf,
    /// The table, if the rows do not name theirs
    #[arg(long, value_name = "TABLE")]
    pub(crate) table: Option<String>,
    /// The format [default: by the extension of the file]
    #[arg(long = "as", value_name = "FORM", value_enum)]
    pub(crate) form: Option<ExchangeForm>,
}

/// The format in which rows go out and come in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExchangeForm {
    /// JSON Lines
    Json,
    /// Comma-separated values, of one table
    Csv,
    /// SQL statements
    Sql,
}

impl ExchangeForm {
    /// The form that the end of a name tells.
    pub(crate) fn of_name(path: &Path) -> Option<ExchangeForm> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "json" | "jsonl" | "ndjson" => Some(ExchangeForm::Json),
            "csv" => Some(ExchangeForm::Csv),
            "sql" => Some(ExchangeForm::Sql),
            _ => None,
        }
    }
}

impl From<ExchangeForm> for Exchange {
    fn from(form: ExchangeForm) -> Exchange {
        match form {
            ExchangeForm::Json => Exchange::JsonLines,
            ExchangeForm::Csv => Exchange::Csv,
            ExchangeForm::Sql => Exchange::SqlText,
        }
    }
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet completions bash > velvet.bash")]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_enum)]
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet structure kiln.drawer\n  \
    velvet structure kiln.drawer --as diagram | dot -Tsvg > kiln.svg\n  \
    velvet structure kiln.drawer --as rust > records.rs\n  \
    velvet structure kiln.drawer --history kilnbook.history.json\n\n\
    With --history, the exit code is 1 if the file differs from its version in the history.")]
pub(crate) struct Structure {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = StructureForm::Text)]
    pub(crate) form: StructureForm,
    /// Compare with this history file: how the file differs from its version, and what a migration to the newest would do
    #[arg(long, value_name = "HISTORY")]
    pub(crate) history: Option<PathBuf>,
}

/// What was done to a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Kind {
    /// Insertions
    Inserted,
    /// Changes
    Changed,
    /// Removals
    Removed,
}

impl From<Kind> for Did {
    fn from(kind: Kind) -> Did {
        match kind {
            Kind::Inserted => Did::Inserted,
            Kind::Changed => Did::Changed,
            Kind::Removed => Did::Removed,
        }
    }
}

/// The order of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Order {
    /// In order of insertion
    Inserted,
    /// By own key, or primary key
    OwnKey,
}

/// How a structure comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum StructureForm {
    /// Tables
    Text,
    /// JSON
    Json,
    /// The SQL statements that create it
    Sql,
    /// A graph in the DOT language
    Diagram,
    /// Record types to begin with: those of a plain file are guessed by its values too
    Rust,
}

impl StructureForm {
    pub(crate) fn reader(self) -> Reader {
        if self == StructureForm::Text { Reader::Person } else { Reader::Program }
    }
}

#[derive(Args)]
#[command(after_help = "Examples:\n  velvet check kiln.drawer\n  velvet check pulled-alone/ --as json\n\n\
    The file is only read. The exit code is 1 if something is wrong.")]
pub(crate) struct Check {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    velvet compare yesterday.drawer kiln.drawer\n  \
    velvet compare yesterday.drawer kiln.drawer --as json\n\n\
    The exit code is 1 if records or structures differ.")]
pub(crate) struct Compare {
    /// The earlier file, or a folder with one drawer in it
    pub(crate) before: PathBuf,
    /// The later file, or a folder with one drawer in it
    pub(crate) after: PathBuf,
    /// Show at most this many differences for each table [default: 50 as text, all as JSON]
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<u64>,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

#[derive(Args)]
#[command(after_help = "Example:\n  velvet rehearse kiln-at-version-1.drawer --history kilnbook.history.json\n\n\
    The file itself is only read. The exit code is 1 if the migration would fail.")]
pub(crate) struct Rehearse {
    /// A database file, or a folder with one drawer in it
    pub(crate) file: PathBuf,
    /// The app's history file
    #[arg(long, value_name = "HISTORY")]
    pub(crate) history: PathBuf,
    /// The form of the output
    #[arg(long = "as", value_name = "FORM", value_enum, default_value_t = Telling::Text)]
    pub(crate) form: Telling,
}

/// How a report comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Telling {
    /// Text
    Text,
    /// JSON
    Json,
}

impl Telling {
    pub(crate) fn reader(self) -> Reader {
        if self == Telling::Text { Reader::Person } else { Reader::Program }
    }
}

/// How rows come out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    /// A table, fitted to the terminal
    Table,
    /// JSON
    Json,
    /// Comma-separated values with a header line
    Csv,
}

impl Form {
    pub(crate) fn reader(self) -> Reader {
        if self == Form::Table { Reader::Person } else { Reader::Program }
    }
}
